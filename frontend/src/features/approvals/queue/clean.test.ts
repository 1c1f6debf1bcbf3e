import { expect, it } from "vitest";
import { isClean } from "./clean";
import { ordered } from "./Queue";

const brief = { broken: [], wrong: [], doubtful: 0 };
const row = (more: object = {}) => ({ brief, broken: [], question: false, ...more }) as never;

it("a draft is clean only where all is known of it and nothing speaks against it", () => {
  expect(isClean(row())).toBe(true);
  expect(isClean(row({ brief: null }))).toBe(false);
  expect(isClean(row({ question: true }))).toBe(false);
  expect(isClean(row({ broken: ["401 of 300"] }))).toBe(false);
  for (const more of [{ broken: ["x"] }, { wrong: ["x"] }, { doubtful: 1 }])
    expect(isClean(row({ brief: { ...brief, ...more } }))).toBe(false);
});

it("what is due first stands first, stacks among single ones, and without a time the oldest", () => {
  const one = (id: number, due_at: number | null, created_at: number) => ({ id, due_at, created_at }) as never;
  const stack = { workflow: 1, step: "ask", count: 4, due_at: 20, since: 9 } as never;
  const sorted = ordered([one(1, null, 5), one(2, 30, 9), one(3, null, 1)], [stack]);
  expect(sorted.map((it) => ("count" in it ? "stack" : it.id))).toEqual(["stack", 2, 3, 1]);
});
