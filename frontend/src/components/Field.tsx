import {
  createContext,
  type InputHTMLAttributes,
  type ReactNode,
  type Ref,
  type SelectHTMLAttributes,
  type TextareaHTMLAttributes,
  use,
  useId,
} from "react";

const BOX = "w-full rounded border border-rule bg-sheet px-2 py-1 text-sm text-ink placeholder:text-soft";

/** What a control in a field is tied to: the label by its id, and what is said of it below. */
type Tied = { id: string; described?: string; invalid?: boolean };
const Tie = createContext<Tied | null>(null);

/** A label with its control, help and what is wrong with it, tied together for whoever hears the page. */
export function Field({
  label,
  help,
  wrong,
  group,
  children,
}: {
  label: string;
  help?: string;
  wrong?: string;
  /** Several controls, each with a name of its own. */
  group?: boolean;
  children: ReactNode;
}) {
  const id = useId();
  const said = wrong ?? help;
  const described = said ? `${id}-said` : undefined;
  const below = said && (
    <span id={described} className={`mt-0.5 block text-xs ${wrong ? "text-brick" : "text-soft"}`}>
      {said}
    </span>
  );
  if (group)
    return (
      <div role="group" aria-labelledby={`${id}-label`} aria-describedby={described}>
        <span id={`${id}-label`} className="mb-0.5 block text-xs text-soft">
          {label}
        </span>
        <Tie value={null}>{children}</Tie>
        {below}
      </div>
    );
  return (
    <div>
      <label htmlFor={id} className="mb-0.5 block text-xs text-soft">
        {label}
      </label>
      <Tie value={{ id, described, invalid: !!wrong }}>{children}</Tie>
      {below}
    </div>
  );
}

function useTie(own: { id?: string; "aria-describedby"?: string; "aria-invalid"?: unknown }) {
  const tied = use(Tie);
  if (!tied) return {};
  return {
    id: own.id ?? tied.id,
    "aria-describedby": own["aria-describedby"] ?? tied.described,
    "aria-invalid": tied.invalid || undefined,
  };
}

export const Input = (props: InputHTMLAttributes<HTMLInputElement> & { ref?: Ref<HTMLInputElement> }) => (
  <input {...props} {...useTie(props)} className={`${BOX} ${props.className ?? ""}`} />
);

export const Area = (props: TextareaHTMLAttributes<HTMLTextAreaElement> & { ref?: Ref<HTMLTextAreaElement> }) => (
  <textarea {...props} {...useTie(props)} className={`${BOX} ${props.className ?? ""}`} />
);

export const Choice = (props: SelectHTMLAttributes<HTMLSelectElement>) => (
  <select {...props} {...useTie(props)} className={`${BOX} ${props.className ?? ""}`} />
);
