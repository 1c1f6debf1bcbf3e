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
