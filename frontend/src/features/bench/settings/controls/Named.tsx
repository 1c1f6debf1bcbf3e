import { lazy, Suspense } from "react";
import type { Schemas, SlotProblem } from "../../../../api/client";
import { Button } from "../../../../components/Button";
import { Field, Input } from "../../../../components/Field";

const SlotEditor = lazy(() => import("../../slots/SlotEditor"));

/** Names of one's own, each with a text or value. */
export function Named({
  label,
  help,
  wrong,
  fields,
  values,
  problems,
  disabled,
  set,
}: {
  label: string;
  help?: string;
  wrong?: string;
  fields: Record<string, string>;
  values: Schemas["ValueView"][];
  problems: SlotProblem[];
  disabled: boolean;
  set: (fields: Record<string, string>) => void;
}) {
  const entries = Object.entries(fields);
  const rename = (from: string, to: string) => {
    const name = to.toLowerCase().replace(/[^a-z0-9_]+/g, "_");
    if (name && !(name in fields)) set(Object.fromEntries(entries.map(([k, v]) => [k === from ? name : k, v])));
  };
  return (
    <Field group label={label} help={help} wrong={wrong}>
      <div className="space-y-1.5">
        {entries.map(([name, text]) => (
          <div key={name} className="grid grid-cols-[9rem_1fr_auto] items-start gap-2">
            <Input aria-label={`Name of ${name}`} defaultValue={name} onBlur={(e) => rename(name, e.target.value)} />
            <Suspense
              fallback={
                <div data-late className="rounded border border-line p-1 text-sm">
                  {text}
                </div>
              }
            >
              <SlotEditor
                label={name}
                value={text}
                values={values}
                problems={problems.filter((p) => p.place[1] === name)}
                lines
                disabled={disabled}
                onChange={(now) => set({ ...fields, [name]: now })}
              />
            </Suspense>
            <Button
              look="quiet"
              aria-label={`Remove ${name}`}
              onClick={() => set(Object.fromEntries(entries.filter(([k]) => k !== name)))}
            >
              Remove
            </Button>
          </div>
        ))}
        <Button onClick={() => set({ ...fields, [free(fields)]: "" })}>Add a value</Button>
      </div>
    </Field>
  );
}

const free = (fields: Record<string, string>) => {
  let n = Object.keys(fields).length + 1;
  while (`value_${n}` in fields) n += 1;
  return `value_${n}`;
};
