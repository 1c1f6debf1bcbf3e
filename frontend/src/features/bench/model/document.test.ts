import { describe, expect, it } from "vitest";
import { changedFields, laidOver, linesOf, merged, type PageDoc, WHOLE, withLane, withLine } from "./document";

const line = (id: string, text = id) => ({ id, kind: "k", settings: { text } });
const page = (): PageDoc => ({
  name: "P",
  brand: null,
  start: line("start"),
  steps: [
    line("a"),
    { ...line("all"), steps: [line("inner")] },
    {
      ...line("way"),
      lanes: [
        { id: "left", steps: [line("deep")] },
        { id: "right", steps: [] },
      ],
    },
  ],
});
const text = (doc: PageDoc, id: string) => linesOf(doc).find((l) => l.id === id)?.settings.text;
const set = (doc: PageDoc, id: string, to: string) => withLine(doc, id, (l) => ({ ...l, settings: { text: to } }));

describe("what was changed", () => {
  it("is told by its settings, in the lines that were touched only", () => {
    const before = page();
    const after = set(set(before, "deep", "other"), "a", "other too");
    expect(changedFields(before, after, ["deep"])).toEqual(["text"]);
    expect(changedFields(before, before, ["deep", "a"])).toEqual([]);
    const wider = withLine(before, "a", (l) => ({ ...l, settings: { ...l.settings, more: 1 } }));
    expect(changedFields(before, wider, ["a"])).toEqual(["more"]);
    expect(changedFields(wider, before, ["a"])).toEqual(["more"]);
  });
});

describe("lines of a page", () => {
  it("are found from top to bottom, inside blocks and lanes too", () => {
    expect(linesOf(page()).map((l) => l.id)).toEqual(["start", "a", "all", "inner", "way", "deep"]);
  });

  it("are changed wherever they stand, and nothing else is made anew", () => {
    const before = page();
    for (const id of ["start", "inner", "deep"]) expect(text(set(before, id, "new"), id)).toBe("new");
    const after = set(before, "inner", "new");
    expect(after.steps[0]).toBe(before.steps[0]);
    expect(text(before, "inner")).toBe("inner");
  });

  it("have their lanes changed by name; a lane that is not there changes nothing", () => {
    const before = page();
    expect(withLane(before, "right", (lane) => ({ ...lane, when: "x" })).steps[2]?.lanes?.[1]?.when).toBe("x");
    expect(withLane(before, "nowhere", (lane) => ({ ...lane, when: "x" }))).toBe(before);
  });
});

describe("two people's edits", () => {
  const base = page();

  it("stand together where they are of other lines", () => {
    const mine = { doc: set(base, "a", "mine"), base, touched: new Set(["a"]) };
    const both = merged(mine, set(base, "deep", "theirs"));
    expect(both && [text(both, "a"), text(both, "deep")]).toEqual(["mine", "theirs"]);
  });

  it("need a person's word where they are of one line, where it is gone, or where the page as a whole was changed", () => {
    const mine = { doc: set(base, "a", "mine"), base, touched: new Set(["a"]) };
    expect(merged(mine, set(base, "a", "theirs"))).toBeNull();
    expect(merged(mine, { ...base, steps: base.steps.slice(1) })).toBeNull();
    expect(merged({ ...mine, touched: new Set([WHOLE]) }, base)).toBeNull();
  });

  it("keep a line of theirs that mine does not have", () => {
    const theirs = { ...base, steps: [...base.steps, line("more")] };
    expect(linesOf(laidOver(theirs, base, new Set(["more"]))).map((l) => l.id)).toContain("more");
  });
});
