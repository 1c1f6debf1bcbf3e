import type { InputHTMLAttributes, ReactNode, Ref, SelectHTMLAttributes, TextareaHTMLAttributes } from "react";

const BOX = "w-full rounded-[4px] border border-rule bg-sheet px-2 py-1 text-sm text-ink placeholder:text-soft";

/** A label with its control, help and what is wrong with it. */
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
  group?: boolean;
  children: ReactNode;
}) {
  // A label hands a press on to the first control in it, so a group of controls must not stand in one.
  const Box = group ? "div" : "label";
  return (
    <div>
      <Box className="block">
        <span className="mb-0.5 block text-xs text-soft">{label}</span>
        {children}
      </Box>
      {wrong ? (
        <span className="mt-0.5 block text-xs text-brick">{wrong}</span>
      ) : help ? (
        <span className="mt-0.5 block text-xs text-soft">{help}</span>
      ) : null}
    </div>
  );
}

export const Input = (props: InputHTMLAttributes<HTMLInputElement>) => (
  <input {...props} className={`${BOX} ${props.className ?? ""}`} />
);

export const Area = (props: TextareaHTMLAttributes<HTMLTextAreaElement> & { ref?: Ref<HTMLTextAreaElement> }) => (
  <textarea {...props} className={`${BOX} ${props.className ?? ""}`} />
);

export const Choice = (props: SelectHTMLAttributes<HTMLSelectElement>) => (
  <select {...props} className={`${BOX} ${props.className ?? ""}`} />
);
