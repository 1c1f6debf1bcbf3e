import { describe, expect, it } from "vitest";
import { aboutWhat, boundOf, withBound, wordsOf } from "./rules";

describe("a number of a rule", () => {
  it("is what is typed", () => {
    expect(withBound({ rule: "words", most: 120 }, "most", "80")).toEqual({ rule: "words", most: 80 });
    expect(withBound({ rule: "words", most: 120 }, "most", "")).toEqual({ rule: "words", most: null });
  });
  it("comes from a value where a slot is typed, and is a number again after", () => {
    const rule = withBound({ rule: "words", most: 120 }, "most", "<<form.words>>");
    expect(rule).toEqual({ rule: "words", slots: { most: "<<form.words>>" } });
    expect(boundOf(rule, "most")).toBe("<<form.words>>");
    expect(withBound(rule, "most", "12")).toEqual({ rule: "words", most: 12 });
  });
  it("keeps the other bound's value", () => {
    const rule = { rule: "words", slots: { least: "<<form.least>>" } };
    expect(withBound(rule, "most", "<<form.most>>").slots).toEqual({ least: "<<form.least>>", most: "<<form.most>>" });
  });
});

describe("what a rule is about", () => {
  it("offers the fields of the answer, then parts of the text", () => {
    expect(aboutWhat({ rule: "length" }, ["first_line"]).map(([of]) => of)).toEqual([
      "first_line",
      "first_sentence",
      "first_paragraph",
      "last_paragraph",
      "last_line",
    ]);
  });
  it("keeps a field that is gone in sight, and offers nothing for what is about the whole", () => {
    expect(aboutWhat({ rule: "words", of: "subject" }, [])[0]).toEqual(["subject", "subject (not there)"]);
    expect(aboutWhat({ rule: "unlike" }, ["title"])).toEqual([]);
  });
});

it("words are parted by commas, but not in a slot", () => {
  expect(wordsOf('amazing, <<row.words | join ", ">>, , boost')).toEqual([
    "amazing",
    '<<row.words | join ", ">>',
    "boost",
  ]);
});
