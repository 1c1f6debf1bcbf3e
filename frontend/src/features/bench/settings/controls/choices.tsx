/** Controls that choose one of what there is: a word, a connection, a sheet, a workflow, a line. */
import { Choice, Field } from "../../../../components/Field";
import { columnsOf, nameOf } from "./around";
import type { ControlProps } from "./types";

type Option = { key: string; name: string };

function OneOf({ options, none, ...c }: ControlProps & { options: Option[]; none?: string }) {
  const value = String(c.value ?? "");
  return (
    <Field label={c.label} help={c.help} wrong={c.wrong}>
      <Choice value={value} onChange={(e) => c.set(e.target.value)}>
        {none !== undefined && <option value="">{none}</option>}
        {options.map((one) => (
          <option key={one.key} value={one.key}>
            {one.name}
          </option>
        ))}
        {value && !options.some((one) => one.key === value) ? <option value={value}>{value} (not here)</option> : null}
      </Choice>
    </Field>
  );
}

const none = (c: ControlProps) => c.property.labels?.[""] ?? "choose …";
const plain = (names: string[]): Option[] => names.map((name) => ({ key: name, name }));
const named = (list: { [name: string]: unknown }[]): Option[] =>
  list.map((one) => ({ key: String(one.key), name: String(one.name) }));

export const Word = (c: ControlProps) => (
  <OneOf {...c} options={Object.entries(c.property.labels ?? {}).map(([key, name]) => ({ key, name }))} />
);

export const Zone = (c: ControlProps) => <OneOf {...c} options={plain(c.catalogue.zones)} />;

export const Workflow = (c: ControlProps) => <OneOf {...c} options={named(c.catalogue.workflows)} none={none(c)} />;

export const Sheet = (c: ControlProps) => <OneOf {...c} options={named(c.catalogue.sheets)} none={none(c)} />;

export const Connection = (c: ControlProps) => (
  <OneOf
    {...c}
    options={named(
      c.catalogue.connections.filter((one) => (c.property.needs ?? "").split(" ").includes(one.kind ?? "")),
    )}
    none={none(c)}
  />
);

export const Column = (c: ControlProps) => (
  <OneOf {...c} wrong={c.wrong ?? c.problems[0]?.message} options={plain(columnsOf(c))} none={none(c)} />
);

export const Step = (c: ControlProps) => (
  <OneOf
    {...c}
    options={c.above
      .filter((line) => line.kind === c.property.needs)
      .map((line) => ({ key: line.id, name: nameOf(line, c.catalogue) }))}
    none={none(c)}
  />
);

export const AnyLine = (c: ControlProps) => (
  <OneOf {...c} options={c.below.map((line) => ({ key: line.id, name: nameOf(line, c.catalogue) }))} none={none(c)} />
);

export const Switch = (c: ControlProps) => (
  <div className="pt-4">
    <label className="flex items-center gap-2 text-sm">
      <input type="checkbox" checked={!!c.value} onChange={(e) => c.set(e.target.checked)} /> {c.label}
    </label>
    {c.help && <p className="mt-0.5 text-xs text-soft">{c.help}</p>}
  </div>
);
