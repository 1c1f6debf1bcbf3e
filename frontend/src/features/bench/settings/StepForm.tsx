import { useRef } from "react";
import { useParams } from "react-router";
import { api, type Schemas, type SlotProblem } from "../../../api/client";
import type { LaneDoc, LineDoc, Policy } from "../model/document";
import { controlOf, isInForm } from "./controls";
import { applies, settingsOf } from "./controls/around";
import type { Property } from "./controls/types";
import { Failing } from "./Failing";
import { Lanes } from "./Lanes";

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

type Entry = [name: string, property: Property];
const WIDTH = {
  wide: "",
  half: "grid items-start gap-x-3 gap-y-4 grid-cols-2",
  small: "grid items-start gap-x-3 gap-y-4 grid-cols-3",
};

/** A line's settings, made from its kind's schema: one control for each kind of setting. */
export function StepForm(props: Props) {
  const { doc, kind, problems, disabled, onChange } = props;
  const properties = settingsOf(kind);
  const shown = properties.filter(([, p]) => isInForm(p.control) && applies(p, doc, properties));
  const workflow = Number(useParams().id);
  const now = useRef(doc);
  now.current = doc;
  /** Set one; what goes by it and holds nothing yet is filled by what it means, such as the cells of a sheet. */
  const set = async (name: string, value: unknown) => {
    const settings = { ...doc.settings, [name]: value };
    onChange(settings);
    const hungry = properties.some(([other, p]) => p.needs === name && isBlank(doc.settings[other]));
    if (!value || !hungry || !workflow) return;
    const body = { line: doc.id, settings, changed: name };
    const { data } = await api.POST("/api/workflows/{id}/filled", { params: { path: { id: workflow } }, body });
    const fresh = Object.entries(data?.settings ?? {}).filter(([other]) => isBlank(now.current.settings[other]));
    if (fresh.length && now.current.id === doc.id && now.current.settings[name] === value)
      onChange({ ...now.current.settings, ...Object.fromEntries(fresh) });
  };
  const control = ([name, property]: Entry) => {
    const { Show } = controlOf(property.control);
    const here = problems.filter((p) => p.place[0] === name);
    return (
      <div key={name} data-setting={name} className="min-w-0">
        <Show
          {...props}
          label={property.title ?? name}
          help={property.description}
          wrong={here.find((p) => p.start === null)?.message.replace(/^[^:]{1,40}: /, "")}
          problems={here}
          value={doc.settings[name] ?? property.default}
          set={(value) => set(name, value)}
          property={property}
        />
      </div>
    );
  };
  const rows = (list: Entry[]) =>
    inRows(list).map(([size, row]) => (
      <div key={row[0]![0]} className={WIDTH[size]}>
        {row.map(control)}
      </div>
    ));
  const last = (list: Entry[]) => [...list.filter(([, p]) => !p.last), ...list.filter(([, p]) => p.last)];
  const more = last(shown.filter(([, p]) => p.more));
  // What is left out of a list is said after what the list is of.
  const plain = shown.filter(([, p]) => !p.more);
  const own = [...plain.filter(([, p]) => p.control !== "filter"), ...plain.filter(([, p]) => p.control === "filter")];
  return (
    <fieldset disabled={disabled} className="space-y-4">
      <p className="text-xs text-soft">{kind.about}</p>
      {rows(own)}
      {kind.holds === "lanes" && (
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
          <div className="mt-3 space-y-4">{rows(more)}</div>
        </details>
      )}
      {kind.fails && (
        <Failing
          policy={doc.on_failure ?? { retries: 2, wait: 4 }}
          retries={!!kind.tries_again}
          onChange={props.onPolicy}
        />
      )}
    </fieldset>
  );
}

const isBlank = (value: unknown) =>
  value === undefined || value === null || value === "" || (typeof value === "object" && !Object.keys(value).length);

/** In the order of the schema; neighbours of a size share a row. */
function inRows(list: Entry[]): ["wide" | "half" | "small", Entry[]][] {
  const rows: ["wide" | "half" | "small", Entry[]][] = [];
  for (const entry of list) {
    const { size } = controlOf(entry[1].control);
    const last = rows.at(-1);
    if (last && last[0] === size && size !== "wide") last[1].push(entry);
    else rows.push([size, [entry]]);
  }
  return rows;
}
