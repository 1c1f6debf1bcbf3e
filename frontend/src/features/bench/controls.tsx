import { lazy, Suspense, useState } from "react";
import type { Schemas } from "../../api/client";
import { Button } from "../../components/Button";
import { Choice, Field, Input } from "../../components/Field";
import type { Policy } from "./page";
import type { SlotProblem } from "./StepForm";

const SlotEditor = lazy(() => import("./SlotEditor"));

const clamp = (text: string, least: number, most: number) => Math.min(most, Math.max(least, Number(text) || 0));

const AFTER = {
  stop: "stop; it can be taken up again",
  skip: "pass over it: this line, or the item it stands in",
  value: "go on with a value of mine",
  ask: "ask a person how to go on",
};

/** What happens when the line fails: tries, and what follows the last. */
export function Failing({
  policy,
  block,
  onChange,
}: {
  policy: Policy;
  block: boolean;
  onChange: (policy: Policy) => void;
}) {
  const after = policy.after ?? "stop";
  return (
    <div className="grid grid-cols-[5rem_5rem_1fr] gap-3 border-t border-line pt-3">
      {!block && (
        <>
          <Field label="Try again">
            <Input
              type="number"
              min={0}
              max={10}
              aria-label="If it fails, try again"
              value={policy.retries}
              onChange={(e) => onChange({ ...policy, retries: clamp(e.target.value, 0, 10) })}
            />
          </Field>
          <Field label="after s">
            <Input
              type="number"
              min={0}
              max={3600}
              aria-label="after seconds"
              title="Each further try waits twice as long."
              value={policy.wait}
              onChange={(e) => onChange({ ...policy, wait: clamp(e.target.value, 0, 3600) })}
            />
          </Field>
        </>
      )}
      <div className={block ? "col-span-3" : ""}>
        <Field label={block ? "If it fails" : "If it still fails"}>
          <Choice value={after} onChange={(e) => onChange({ ...policy, after: e.target.value as Policy["after"] })}>
            {Object.entries(AFTER).map(([key, words]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </Choice>
        </Field>
      </div>
      {after === "value" && (
        <div className="col-span-3">
          <Field label="The value to go on with" help="It stands for the line’s main value, such as its text.">
            <Input value={policy.value ?? ""} onChange={(e) => onChange({ ...policy, value: e.target.value })} />
          </Field>
        </div>
      )}
    </div>
  );
}

const UNITS: [number, string][] = [
  [86400, "days"],
  [3600, "hours"],
  [60, "minutes"],
  [1, "seconds"],
];

/** A length of time in the unit that says it shortest. */
export function Duration({
  label,
  seconds,
  onChange,
}: {
  label: string;
  seconds: number;
  onChange: (s: number) => void;
}) {
  const fitting = UNITS.find(([size]) => seconds >= size && seconds % size === 0)?.[0] ?? 1;
  const [unit, setUnit] = useState(fitting);
  return (
    <div className="flex gap-1">
      <Input
        type="number"
        min={0}
        aria-label={label}
        className="!w-16"
        value={seconds / unit}
        onChange={(e) => onChange(Number(e.target.value) * unit)}
      />
      <Choice
        aria-label={`${label}, unit`}
        value={unit}
        onChange={(e) => {
          onChange((seconds / unit) * Number(e.target.value));
          setUnit(Number(e.target.value));
        }}
      >
        {UNITS.map(([size, word]) => (
          <option key={size} value={size}>
            {word}
          </option>
        ))}
      </Choice>
    </div>
  );
}

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
            <Suspense fallback={<div className="rounded border border-line p-1 text-sm">{text}</div>}>
              <SlotEditor
                label={name}
                value={text}
                values={values}
                problems={problems.filter((p) => p.place[1] === name)}
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

export function Cells({
  cells,
  columns,
  values,
  problems,
  disabled,
  set,
}: {
  cells: Record<string, string>;
  columns: string[];
  values: Schemas["ValueView"][];
  problems: SlotProblem[];
  disabled: boolean;
  set: (cells: Record<string, string>) => void;
}) {
  const names = [...new Set([...columns, ...Object.keys(cells)])];
  return (
    <div>
      <div className="mb-0.5 text-xs text-soft">What goes into which column</div>
      <div className="grid grid-cols-[8rem_1fr] items-start gap-x-3 gap-y-1.5">
        {names.map((name) => (
          <div key={name} className="contents">
            <span className={`pt-1 text-sm ${columns.includes(name) ? "" : "text-brick"}`}>{name}</span>
            <Suspense fallback={<div className="rounded border border-line p-1 text-sm">{cells[name]}</div>}>
              <SlotEditor
                label={`Column ${name}`}
                value={cells[name] ?? ""}
                values={values}
                problems={problems.filter((p) => p.place[1] === name)}
                disabled={disabled}
                onChange={(text) => {
                  const { [name]: _, ...rest } = cells;
                  set(text ? { ...cells, [name]: text } : rest);
                }}
              />
            </Suspense>
          </div>
        ))}
      </div>
    </div>
  );
}
