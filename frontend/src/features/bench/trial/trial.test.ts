import { describe, expect, it } from "vitest";
import { between, chosen, type Pair, verdict } from "./trial";

const of = (before: number, after: number, low: number, high: number, mended = 0, broke = 0, count = 20) => ({
  of: count,
  before,
  after,
  mended,
  broke,
  low,
  high,
  before_low: 0,
  before_high: 1,
  after_low: 0,
  after_high: 1,
});

describe("a difference in words", () => {
  it("is a share with its bounds", () => {
    expect(between(of(11, 18, 0.09, 0.56, 8, 1))).toBe("+35 % (+9 to +56)");
    expect(between(of(10, 8, -0.31, 0.12, 1, 3))).toBe("−10 % (−31 to +12)");
    expect(between(of(0, 0, -1, 1, 0, 0, 0))).toBe("±0 % (−100 to +100)");
  });
  it("says when it could be chance", () => {
    expect(verdict(of(11, 18, 0.09, 0.56, 8, 1)).words).toContain("hardly by chance");
    expect(verdict(of(10, 8, -0.31, 0.12, 1, 3))).toEqual({
      words: "Worse on these, but so few may say so by chance. Take more items.",
      tone: "text-ochre",
    });
    expect(verdict(of(5, 5, -0.1, 0.1)).words).toContain("none was broken");
    expect(verdict(of(5, 5, -0.1, 0.1, 2, 2)).words).toBe("Neither better nor worse.");
  });
});

it("pairs are kept by what came of them and by line", () => {
  const outcome = { text: "", wrong: [], calls: 0, cost: 0 };
  const pair = (step: string, came: string): Pair => ({
    item: "a",
    step,
    place: "",
    came,
    before: outcome,
    after: outcome,
    changes: [],
  });
  const pairs = [pair("post", "broke"), pair("title", "broke"), pair("post", "same")];
  expect(chosen(pairs, "broke", "").length).toBe(2);
  expect(chosen(pairs, "", "post").length).toBe(2);
  expect(chosen(pairs, "broke", "title").length).toBe(1);
});
