import { describe, expect, it } from "vitest";
import type { Schemas } from "../../../../api/client";
import { columnsOf, elementsOf, nameOf, settingsOf, withControl } from "./around";

const kind = {
  name: "k",
  named_by: "heading",
  elements: ["title", "Company name"],
  form: { properties: { heading: { control: "text" }, where: { control: "sheet" } } },
} as unknown as Schemas["KindView"];
const catalogue = {
  kinds: [kind],
  sheets: [{ key: "leads", columns: ["Name", "Mail"] }],
} as unknown as Schemas["Catalogue"];
const doc = (settings: Record<string, unknown>) => ({ id: "it", kind: "k", settings });

describe("what stands around a setting", () => {
  it("is found by controls and never by names of settings", () => {
    expect(settingsOf(kind).map(([name]) => name)).toEqual(["heading", "where"]);
    expect(settingsOf(undefined)).toEqual([]);
    expect(withControl(kind, "sheet")).toBe("where");
    expect(withControl(kind, "rules")).toBeUndefined();
  });

  it("are the columns of the sheet it goes with, and none where that is not here", () => {
    expect(columnsOf({ doc: doc({ where: "leads" }), kind, catalogue })).toEqual(["Name", "Mail"]);
    expect(columnsOf({ doc: doc({ where: "gone" }), kind, catalogue })).toEqual([]);
    expect(columnsOf({ doc: doc({}), kind, catalogue })).toEqual([]);
  });

  it("are the elements of its list, written as paths", () => {
    const paths = elementsOf({ doc: doc({}), kind, catalogue }).map((one) => one.path);
    expect(paths).toEqual(["title", 'it."Company name"']);
  });

  it("is a line’s own title where it has one", () => {
    expect(nameOf(doc({ heading: "Post" }), catalogue)).toBe("Post");
    expect(nameOf(doc({ heading: "" }), catalogue)).toBe("it");
    expect(nameOf({ ...doc({}), kind: "unknown" }, catalogue)).toBe("it");
  });
});
