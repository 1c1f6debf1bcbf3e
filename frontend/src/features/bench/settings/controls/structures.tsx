/** Controls of what has parts: conditions, rules, fields, shapes, cells, schedules. */
import { Field } from "../../../../components/Field";
import type { FormField } from "../../../../components/FormFields";
import { ConditionEditor } from "../ConditionEditor";
import { FieldsEditor } from "../FieldsEditor";
import { Lessons } from "../rules/Lessons";
import { RulesEditor } from "../rules/RulesEditor";
import type { RuleDoc } from "../rules/rules";
import { ScheduleEditor } from "../ScheduleEditor";
import { ShapeEditor, type ShapeField } from "../ShapeEditor";
import { type PromptTest, TestsEditor } from "../TestsEditor";
import { columnsOf, elementsOf, fieldsOf, ownOf, settingsOf } from "./around";
import { Cells } from "./Cells";
import { Named } from "./Named";
import type { ControlProps } from "./types";

export const Condition = (c: ControlProps) => (
  <Field group label={c.label} help={c.help} wrong={c.problems[0]?.message ?? c.wrong}>
    <ConditionEditor label={c.label} value={String(c.value ?? "")} values={c.values} onChange={c.set} />
  </Field>
);

export const Filter = (c: ControlProps) => (
  <Field group label={c.label} help={c.help} wrong={c.wrong}>
    <ConditionEditor label={c.label} value={String(c.value ?? "")} values={elementsOf(c)} onChange={c.set} />
  </Field>
);

/** A rule of times; `needs` names the settings of its zone and of the hours in which nothing is due. */
export function Schedule(c: ControlProps) {
  const known = Object.fromEntries(settingsOf(c.kind));
  const [zone, quiet] = (c.property.needs ?? "")
    .split(" ")
    .map((name) => String(c.doc.settings[name] ?? known[name]?.default ?? ""));
  return (
    <ScheduleEditor
      rule={String(c.value ?? "")}
      zone={zone || "UTC"}
      quiet={quiet ?? ""}
      wrong={c.wrong}
      onChange={c.set}
    />
  );
}

export const Form = (c: ControlProps) => (
  <FieldsEditor label={c.label} fields={(c.value as FormField[]) ?? []} wrong={c.wrong} onChange={c.set} />
);

export const Shape = (c: ControlProps) => (
  <ShapeEditor
    label={c.label}
    help={c.help}
    fields={(c.value as ShapeField[]) ?? []}
    wrong={c.wrong}
    onChange={c.set}
  />
);

export const NamedTexts = (c: ControlProps) => (
  <Named
    label={c.label}
    help={c.help}
    wrong={c.wrong}
    fields={(c.value as Record<string, string>) ?? {}}
    values={c.values}
    problems={c.problems}
    disabled={c.disabled}
    set={c.set}
  />
);

export const RowCells = (c: ControlProps) => (
  <Cells
    cells={(c.value as Record<string, string>) ?? {}}
    columns={columnsOf(c)}
    values={c.values}
    problems={c.problems}
    disabled={c.disabled}
    set={c.set}
  />
);

export const PromptTests = (c: ControlProps) => (
  <TestsEditor
    label={c.label}
    help={c.help}
    tests={(c.value as PromptTest[]) ?? []}
    own={ownOf(c)}
    values={c.values}
    wrong={c.problems.map((p) => p.message)}
    onChange={c.set}
  />
);

export function Rules(c: ControlProps) {
  const rules = (c.value as RuleDoc[]) ?? [];
  return (
    <>
      <RulesEditor
        rules={rules}
        fields={fieldsOf(c)}
        values={c.values}
        problems={c.problems}
        disabled={c.disabled}
        onChange={c.set}
      />
      <Lessons step={c.doc.id} rules={rules} disabled={c.disabled} onTake={(rule) => c.set([...rules, rule])} />
    </>
  );
}
