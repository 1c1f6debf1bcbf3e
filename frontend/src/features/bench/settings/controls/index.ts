/** The controls by name, as settings ask for them. */
import * as choices from "./choices";
import * as structures from "./structures";
import * as texts from "./texts";
import type { Control, ControlProps } from "./types";

const wide = (Show: Control["Show"]): Control => ({ size: "wide", Show });
const half = (Show: Control["Show"]): Control => ({ size: "half", Show });
const small = (Show: Control["Show"]): Control => ({ size: "small", Show });
/** Lines of their own in the outline, and no part of the form. */
const elsewhere = new Set(["takes"]);

const CONTROLS: Record<string, Control> = {
  slots: wide(texts.SlotText),
  readerline: wide(texts.SlotText),
  readertext: wide(texts.LongSlotText),
  value: wide(texts.SlotText),
  longslots: wide(texts.LongSlotText),
  longvalue: wide(texts.LongSlotText),
  longtext: wide(texts.LongText),
  url: wide(texts.WebAddress),
  email: half(texts.MailAddress),
  people: wide(texts.People),
  number: small(texts.NumberOf),
  duration: small(texts.LengthOfTime),
  condition: wide(structures.Condition),
  filter: wide(structures.Filter),
  schedule: wide(structures.Schedule),
  form: wide(structures.Form),
  shape: wide(structures.Shape),
  fields: wide(structures.NamedTexts),
  cells: wide(structures.RowCells),
  itemcells: wide(structures.RowCells),
  rules: wide(structures.Rules),
  tests: wide(structures.PromptTests),
  zone: half(choices.Zone),
  workflow: half(choices.Workflow),
  sheet: half(choices.Sheet),
  connection: half(choices.Connection),
  column: half(choices.Column),
  choice: half(choices.Word),
  step: half(choices.Step),
  line: half(choices.AnyLine),
  switch: half(choices.Switch),
};
const PLAIN = half(texts.PlainText);

/** The control a setting asks for; that of a line of text where it asks for none. */
export const controlOf = (name?: string) => CONTROLS[name ?? ""] ?? PLAIN;
/** Whether a setting with a control stands in the form of its line. */
export const isInForm = (name?: string) => !elsewhere.has(name ?? "");

export type { Control, ControlProps };
