/** What stands around a setting: the columns of a sheet it goes with, the elements of a list, what a line is called. */
import type { Schemas } from "../../../../api/client";
import type { LineDoc } from "../../model/document";
import type { ControlProps, Property } from "./types";

type Around = Pick<ControlProps, "doc" | "kind" | "catalogue">;

/** The settings of a kind, by name. */
export const settingsOf = (kind?: Schemas["KindView"]) =>
  Object.entries((kind?.form.properties ?? {}) as Record<string, Property>);

/** The name of the first setting of a kind with a control. */
export const withControl = (kind: Schemas["KindView"] | undefined, control: string) =>
  settingsOf(kind).find(([, property]) => property.control === control)?.[0];

/** The columns of the sheet a line works on; none where it works on none. */
export function columnsOf({ doc, kind, catalogue }: Around): string[] {
  const name = withControl(kind, "sheet");
  return (catalogue.sheets.find((sheet) => name && sheet.key === doc.settings[name])?.columns as string[]) ?? [];
}

/** The fields of the answer a line asks for; none where it asks for a text. */
export function fieldsOf({ doc, kind }: Around): string[] {
  const found = settingsOf(kind).find(([, property]) => property.control === "shape");
  if (!found || !applies(found[1], doc, settingsOf(kind))) return [];
  const fields = doc.settings[found[0]];
  return Array.isArray(fields) ? fields.map((field) => String((field as { name?: string }).name ?? "")) : [];
}

/** What a line gives, as values by their own names: its outputs, and the fields of the answer it asks for. */
export const ownOf = (around: Around): Schemas["ValueView"][] =>
  [...new Set([...fieldsOf(around), ...(around.kind.gives ?? [])])].map((path) => ({
    path,
    root: "own",
    title: "What it gives",
    about: "",
    type: "text",
    value: null,
    known: false,
    inside: [],
  }));

/** Whether a setting has a meaning as the others are set: `when` says ``name=value|other``, or ``name`` where that has any. */
export function applies(property: Property, doc: LineDoc, all: [string, Property][]): boolean {
  if (!property.when) return true;
  const [name, value] = property.when.split("=") as [string, string?];
  if (value === undefined) return !!(doc.settings[name] as unknown[] | undefined)?.length;
  const other = all.find(([one]) => one === name)?.[1];
  return value.split("|").includes(String(doc.settings[name] ?? other?.default ?? ""));
}

/** What a line is called: by its own title where it has one. */
export function nameOf(line: LineDoc, catalogue: Schemas["Catalogue"]): string {
  const by = catalogue.kinds.find((kind) => kind.name === line.kind)?.named_by;
  return String((by && line.settings[by]) || line.id);
}

/** What the elements of a line’s list are made of, as values to choose from: of its kind, or the columns of its sheet. */
export function elementsOf(around: Around): Schemas["ValueView"][] {
  const columns = columnsOf(around);
  return (columns.length ? columns : (around.kind.elements ?? [])).map((name) => ({
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
