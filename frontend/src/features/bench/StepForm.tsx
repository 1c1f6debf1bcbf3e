import { lazy, Suspense } from "react";
import type { Schemas } from "../../api/client";
import { Area, Choice, Field, Input } from "../../components/Field";
import { ConditionEditor } from "./ConditionEditor";
import { Cells, Duration, Failing, Named } from "./controls";
import { FieldsEditor, type FormField } from "./FieldsEditor";
import { Lanes } from "./Lanes";
import type { LaneDoc, LineDoc, Policy } from "./page";
import { type RuleDoc, RulesEditor } from "./RulesEditor";
import { ScheduleEditor } from "./ScheduleEditor";
import { ShapeEditor, type ShapeField } from "./ShapeEditor";

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
  labels?: Record<string, string>;
  more?: boolean;
  when?: string;
};

export type SlotProblem = Schemas["LineProblemView"];

type Props = {
  doc: LineDoc;
  kind: Schemas["KindView"];
  catalogue: Schemas["Catalogue"];
  above: LineDoc[];
  below: LineDoc[];
  values: Schemas["ValueView"][];
  problems: SlotProblem[];
  disabled: boolean;
  onChange: (settings: Record<string, unknown>) => void;
  onPolicy: (policy: Policy) => void;
  onLanes: (lanes: LaneDoc[]) => void;
  onAddLane: () => void;
  onRemoveLane: (lane: string) => void;
  onRun: () => void;
};

/** A line's settings, made from its kind's schema: one control for each kind of setting. */
export function StepForm(props: Props) {
  const { doc, kind, problems, disabled, onChange } = props;
  const properties = Object.entries((kind.form.properties ?? {}) as Record<string, Property>);
  const small = new Set(["number", "duration"]);
  const set = (name: string, value: unknown) => onChange({ ...doc.settings, [name]: value });
  const problem = (name: string) =>
    problems.find((p) => p.place[0] === name && p.start === null)?.message.replace(/^[^:]{1,40}: /, "");
  const shown = properties.filter(([, p]) => {
    if (p.control === "takes") return false; // lines of their own in the outline
    if (!p.when) return true;
    const [name, value] = p.when.split("=") as [string, string?];
    if (value === undefined) return !!(doc.settings[name] as unknown[] | undefined)?.length;
    const other = kind.form.properties as Record<string, Property>;
    return value.split("|").includes(String(doc.settings[name] ?? other[name]?.default ?? ""));
  });
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
  const groups = (list: [string, Property][]) => {
    // In the order of the schema; neighbours of a size share a row.
    const size = (p: Property) => (WIDE.has(p.control ?? "") ? "wide" : small.has(p.control ?? "") ? "small" : "half");
    const rows: [string, [string, Property][]][] = [];
    for (const one of list) {
      const last = rows.at(-1);
      if (last && last[0] === size(one[1]) && last[0] !== "wide") last[1].push(one);
      else rows.push([size(one[1]), [one]]);
    }
    return rows.map(([kind, row]) => (
      <div
        key={row[0]![0]}
        className={
          kind === "wide" ? "" : `grid items-start gap-x-3 gap-y-4 ${kind === "half" ? "grid-cols-2" : "grid-cols-3"}`
        }
      >
        {row.map(control)}
      </div>
    ));
  };
  const more = shown.filter(([, p]) => p.more);
  // What is left out of a list is said after what the list is of.
  const plain = shown.filter(([, p]) => !p.more);
  const own = [...plain.filter(([, p]) => p.control !== "filter"), ...plain.filter(([, p]) => p.control === "filter")];
  return (
    <fieldset disabled={disabled} className="space-y-4">
      <p className="text-xs text-soft">{kind.about}</p>
      {groups(own)}
      {doc.kind === "fork" && (
        <Lanes
          lanes={doc.lanes ?? []}
          values={props.values}
          problems={problems}
          onChange={props.onLanes}
          onAdd={props.onAddLane}
          onRemove={props.onRemoveLane}
        />
      )}
      {more.length > 0 && (
        <details open={more.some(([name]) => name in doc.settings) || undefined}>
          <summary className="cursor-pointer text-xs text-soft">More settings</summary>
          <div className="mt-3 space-y-4">{groups(more)}</div>
        </details>
      )}
      {!NO_POLICY.has(kind.stage) && doc.kind !== "stop" && (
        <Failing
          policy={doc.on_failure ?? { retries: 2, wait: 4 }}
          block={BLOCKS.has(doc.kind)}
          onChange={props.onPolicy}
        />
      )}
    </fieldset>
  );
}

const WIDE = new Set([
  "slots",
  "longslots",
  "value",
  "longvalue",
  "condition",
  "filter",
  "rules",
  "cells",
  "fields",
  "shape",
  "form",
  "url",
  "schedule",
  "longtext",
]);
const NO_POLICY = new Set(["start", "ask"]);
const BLOCKS = new Set(["for_each", "fork", "repeat_until", "set_values", "wait"]);
/** What the elements of a line’s list are made of, as values to choose from: of its kind, or the columns of its sheet. */
function elementsOf(kind: Schemas["KindView"], doc: LineDoc, catalogue: Schemas["Catalogue"]): Schemas["ValueView"][] {
  const columns = catalogue.sheets.find((s) => s.key === doc.settings.sheet)?.columns as string[] | undefined;
  return (columns ?? kind.elements ?? []).map((name) => ({
    path: /^[^\W\d]\w*$/u.test(name) ? name : `it."${name}"`,
    root: "each",
    title: "Each of the list",
    about: "",
    type: "text",
    value: null,
    known: false,
    inside: [],
  }));
}

function Control({
  kind,
  doc,
  name,
  property,
  value,
  wrong,
  set,
  catalogue,
  above,
  below,
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
    case "value":
    case "longvalue":
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
              long={property.control === "longslots" || property.control === "longvalue"}
              disabled={disabled}
              onChange={set}
              onRun={onRun}
            />
          </Suspense>
        </Field>
      );
    case "condition":
      return (
        <Field group label={label} help={property.description} wrong={here[0]?.message ?? wrong}>
          <ConditionEditor label={label} value={String(value ?? "")} values={values} onChange={set} />
        </Field>
      );
    case "filter":
      return (
        <Field group label={label} help={property.description} wrong={wrong}>
          <ConditionEditor
            label={label}
            value={String(value ?? "")}
            values={elementsOf(kind, doc, catalogue)}
            onChange={set}
          />
        </Field>
      );
    case "schedule":
      return (
        <ScheduleEditor
          rule={String(value ?? "")}
          zone={String(doc.settings.zone ?? "UTC")}
          quiet={String(doc.settings.quiet ?? "")}
          wrong={wrong}
          onChange={set}
        />
      );
    case "form":
      return <FieldsEditor label={label} fields={(value as FormField[]) ?? []} wrong={wrong} onChange={set} />;
    case "shape":
      return (
        <ShapeEditor
          label={label}
          help={property.description}
          fields={(value as ShapeField[]) ?? []}
          wrong={wrong}
          onChange={set}
        />
      );
    case "fields":
      return (
        <Named
          label={label}
          help={property.description}
          wrong={wrong}
          fields={(value as Record<string, string>) ?? {}}
          values={values}
          problems={here}
          disabled={disabled}
          set={set}
        />
      );
    case "zone":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            {catalogue.zones.map((zone) => (
              <option key={zone}>{zone}</option>
            ))}
          </Choice>
        </Field>
      );
    case "workflow":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">choose …</option>
            {catalogue.workflows.map((w) => (
              <option key={w.key} value={w.key}>
                {w.name}
              </option>
            ))}
          </Choice>
        </Field>
      );
    case "column": {
      const columns = (catalogue.sheets.find((s) => s.key === doc.settings[property.needs ?? "sheet"])?.columns ??
        []) as string[];
      return (
        <Field label={label} help={property.description} wrong={wrong ?? here[0]?.message}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">choose …</option>
            {columns.map((c) => (
              <option key={c}>{c}</option>
            ))}
          </Choice>
        </Field>
      );
    }
    case "choice":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            {Object.entries(property.labels ?? {}).map(([key, words]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </Choice>
        </Field>
      );
    case "switch":
      return (
        <div className="pt-4">
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" checked={!!value} onChange={(e) => set(e.target.checked)} /> {label}
          </label>
          {property.description && <p className="mt-0.5 text-xs text-soft">{property.description}</p>}
        </div>
      );
    case "longtext":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Area rows={3} value={String(value ?? "")} onChange={(e) => set(e.target.value)} />
        </Field>
      );
    case "rules":
      return <RulesEditor rules={(value as RuleDoc[]) ?? []} wrong={here.map((p) => p.message)} onChange={set} />;
    case "connection": {
      const fitting = catalogue.connections.filter((c) => c.kind === property.needs);
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">{property.labels?.[""] ?? "choose …"}</option>
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
    case "line":
      return (
        <Field label={label} help={property.description} wrong={wrong}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="">{property.labels?.[""] ?? "choose …"}</option>
            {below.map((l) => (
              <option key={l.id} value={l.id}>
                {String(l.settings.title ?? l.id)}
              </option>
            ))}
            {value && !below.some((l) => l.id === value) ? (
              <option value={String(value)}>{String(value)} (not here)</option>
            ) : null}
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
        <Field group label={label} wrong={wrong}>
          <Duration label={label} seconds={Number(value ?? 0)} onChange={set} />
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
            value={value === null || value === undefined ? "" : Number(value)}
            onChange={(e) => set(e.target.value === "" ? (property.default ?? null) : Number(e.target.value))}
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
