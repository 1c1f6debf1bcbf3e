import { lazy, Suspense } from "react";
import type { Schemas } from "../../api/client";
import { Choice, Field, Input } from "../../components/Field";
import type { LineDoc } from "./page";
import { type RuleDoc, RulesEditor } from "./RulesEditor";

const SlotEditor = lazy(() => import("./SlotEditor"));

type Property = {
  title?: string;
  description?: string;
  control?: string;
  needs?: string;
  default?: unknown;
  minimum?: number;
  maximum?: number;
  type?: string;
};

export type SlotProblem = Schemas["LineProblemView"];

type Props = {
  doc: LineDoc;
  kind: Schemas["KindView"];
  catalogue: Schemas["Catalogue"];
  above: LineDoc[];
  values: Schemas["ValueView"][];
  problems: SlotProblem[];
  disabled: boolean;
  onChange: (settings: Record<string, unknown>) => void;
  onPolicy: (policy: { retries: number; wait: number }) => void;
  onRun: () => void;
};

/** A line's settings, made from its kind's schema: one control for each kind of setting. */
export function StepForm(props: Props) {
  const { doc, kind, problems, disabled, onChange } = props;
  const properties = Object.entries((kind.form.properties ?? {}) as Record<string, Property>);
  const small = new Set(["number", "duration"]);
  const wide = new Set(["slots", "longslots", "rules", "cells", "url"]);
  const set = (name: string, value: unknown) => onChange({ ...doc.settings, [name]: value });
  const problem = (name: string) =>
    problems.find((p) => p.place[0] === name && p.start === null)?.message.replace(/^[^:]{1,40}: /, "");
  const control = ([name, property]: [string, Property]) => (
    <Control
      key={name}
      name={name}
      property={property}
      value={doc.settings[name] ?? property.default}
      wrong={problem(name)}
      set={(value) => set(name, value)}
      {...props}
    />
  );
  const policy = doc.on_failure ?? { retries: 2, wait: 4 };
  return (
    <fieldset disabled={disabled} className="space-y-4">
      <p className="text-xs text-soft">{kind.about}</p>
      <div className="grid grid-cols-2 items-start gap-x-3 gap-y-4">
        {properties.filter(([, p]) => !small.has(p.control ?? "") && !wide.has(p.control ?? "")).map(control)}
      </div>
      {properties.filter(([, p]) => wide.has(p.control ?? "")).map(control)}
      <div className="grid grid-cols-4 items-start gap-3">
        {properties.filter(([, p]) => small.has(p.control ?? "")).map(control)}
      </div>
      {kind.stage !== "start" && kind.stage !== "ask" && (
        <div className="grid grid-cols-4 gap-3 border-t border-line pt-3">
          <Field label="If it fails, try again">
            <Input
              type="number"
              min={0}
              max={10}
              value={policy.retries}
              onChange={(e) => props.onPolicy({ ...policy, retries: clamp(e.target.value, 0, 10) })}
            />
          </Field>
          <Field label="after seconds">
            <Input
              type="number"
              min={0}
              max={3600}
              value={policy.wait}
              onChange={(e) => props.onPolicy({ ...policy, wait: clamp(e.target.value, 0, 3600) })}
            />
          </Field>
          <p className="col-span-2 self-center text-xs text-soft">
            Each further try waits twice as long. Then the run stops and can be taken up again here.
          </p>
        </div>
      )}
    </fieldset>
  );
}

const clamp = (text: string, least: number, most: number) => Math.min(most, Math.max(least, Number(text) || 0));

function Control({
  doc,
  name,
  property,
  value,
  wrong,
  set,
  catalogue,
  above,
  values,
  problems,
  onRun,
  disabled,
}: Props & { name: string; property: Property; value: unknown; wrong?: string; set: (value: unknown) => void }) {
  const label = property.title ?? name;
  const here = problems.filter((p) => p.place[0] === name);
  switch (property.control) {
    case "slots":
    case "longslots":
      return (
        <Field group label={label} help={property.description} wrong={wrong}>
          <Suspense
            fallback={
              <div className="rounded border border-line p-2 text-sm whitespace-pre-wrap text-soft">
                {String(value ?? "")}
              </div>
            }
          >
            <SlotEditor
              label={label}
              value={String(value ?? "")}
              values={values}
              problems={here}
              long={property.control === "longslots"}
              disabled={disabled}
              onChange={set}
              onRun={onRun}
            />
          </Suspense>
        </Field>
      );
    case "rules":
      return <RulesEditor rules={(value as RuleDoc[]) ?? []} wrong={here.map((p) => p.message)} onChange={set} />;
    case "connection": {
      const fitting = catalogue.connections.filter((c) => c.kind === property.needs);
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">{property.default === "" && property.needs === "mail" ? "by no mail" : "choose …"}</option>
            {fitting.map((c) => (
              <option key={c.key} value={c.key}>
                {c.name}
              </option>
            ))}
            {value && !fitting.some((c) => c.key === value) ? (
              <option value={String(value)}>{String(value)} (not here)</option>
            ) : null}
          </Choice>
        </Field>
      );
    }
    case "sheet":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">choose …</option>
            {catalogue.sheets.map((s) => (
              <option key={String(s.key)} value={String(s.key)}>
                {String(s.name)}
              </option>
            ))}
          </Choice>
        </Field>
      );
    case "step":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">choose …</option>
            {above
              .filter((l) => l.kind === property.needs)
              .map((l) => (
                <option key={l.id} value={l.id}>
                  {String(l.settings.title ?? l.id)}
                </option>
              ))}
          </Choice>
        </Field>
      );
    case "cells":
      return (
        <Cells
          cells={(value as Record<string, string>) ?? {}}
          columns={(catalogue.sheets.find((s) => s.key === doc.settings.sheet)?.columns as string[]) ?? []}
          values={values}
          problems={here}
          disabled={disabled}
          set={set}
        />
      );
    case "duration":
      return (
        <Field label={`${label} (seconds)`} wrong={wrong}>
          <Input
            type="number"
            min={property.minimum}
            max={property.maximum}
            value={Number(value ?? 0)}
            onChange={(e) => set(Number(e.target.value))}
          />
        </Field>
      );
    case "number":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Input
            type="number"
            step={property.type === "integer" ? 1 : 0.1}
            min={property.minimum}
            max={property.maximum}
            value={Number(value ?? 0)}
            onChange={(e) => set(Number(e.target.value))}
          />
        </Field>
      );
    default:
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Input
            type={property.control === "email" ? "email" : property.control === "url" ? "url" : "text"}
            value={String(value ?? "")}
            onChange={(e) => set(e.target.value)}
          />
        </Field>
      );
  }
}

function Cells({
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
