import { expect, test } from "vitest";
import { blockOf, pasted, read, within, write } from "./block";
import { linesOf } from "./lines";
import { columnsOf, laidOut, moved, NUMBERS, plain, standing } from "./shown";

const column = (name: string, type = "text") => ({ name, type, choices: [], finds: null });

test("a block comes back from the clipboard as it went, with tabs, quotes and line ends in its cells", () => {
  const cells = [
    ["plain", 'said "yes"', ""],
    ["two\nlines", "a\ttab", '"'],
  ];
  expect(read(write(cells))).toEqual(cells);
  expect(read("a\tb\r\nc\td\r\n")).toEqual([
    ["a", "b"],
    ["c", "d"],
  ]);
});

test("a quote that no other closes is a sign like any other", () => {
  expect(read('5" pipe\t"quoted" words\t"half')).toEqual([['5" pipe', '"quoted" words', '"half']]);
});

test("one cell fills a block, a block goes from its corner or as often as it fits", () => {
  const into = blockOf([3, 2], [1, 1]);
  expect(into).toEqual({ top: 1, left: 1, rows: 3, columns: 2 });
  expect(pasted([["x"]], into)).toHaveLength(6);
  expect(pasted([["a"], ["b"]], into).map((p) => p.text)).toEqual(["a", "a", "b", "b"]);
  expect(pasted([["a", "b", "c"]], blockOf([0, 0], [0, 0]))).toHaveLength(3);
  expect(within(into, 3, 2)).toBe(true);
  expect(within(into, 4, 2)).toBe(false);
});

test("lines of groups: headings, rows of the open ones, and back", () => {
  const groups = [
    { label: "a", count: 2 },
    { label: "b", count: 3 },
    { label: "", count: 1 },
  ];
  const open = linesOf(6, groups, new Set());
  expect(open.count).toBe(9);
  expect(open.at(0)).toEqual({ kind: "group", group: 0 });
  expect(open.at(2)).toEqual({ kind: "row", row: 1 });
  expect(open.at(4)).toEqual({ kind: "row", row: 2 });
  expect([0, 1, 2, 3, 4, 5].map((row) => open.at(open.of(row)))).toEqual(
    [0, 1, 2, 3, 4, 5].map((row) => ({ kind: "row", row })),
  );
  const closed = linesOf(6, groups, new Set(["b"]));
  expect(closed.count).toBe(6);
  expect(closed.at(4)).toEqual({ kind: "group", group: 2 });
  expect(closed.at(5)).toEqual({ kind: "row", row: 5 });
  expect(closed.of(3)).toBe(3);
});

test("columns stand as the view says; those it does not know stand at the end", () => {
  const columns = [column("A"), column("B"), column("C")];
  const shown = { ...plain, order: ["C", "A"], hidden: ["A"] };
  expect(columnsOf(columns, shown).map((c) => c.name)).toEqual(["C", "B"]);
  expect(columnsOf(columns, moved(columns, shown, "B", -1)).map((c) => c.name)).toEqual(["B", "C"]);
  expect(moved(columns, shown, "C", -1)).toBe(shown);
});

test("columns of text take what room is left, a set width stays", () => {
  const columns = [column("A"), column("N", "number")];
  const [a, n] = laidOut(columns, plain, 1000);
  expect(a!.width + n!.width + NUMBERS).toBe(1000);
  expect(n!.left).toBe(NUMBERS + a!.width);
  expect(laidOut(columns, { ...plain, widths: { A: 90 } }, 1000)[0]!.width).toBe(90);
});

test("a view that speaks of columns that went is still a view", () => {
  const kept = standing({ sort: "Gone", group: "A", where: [{ column: "Gone", op: "is", value: "x" }] }, [column("A")]);
  expect([kept.sort, kept.group, kept.where]).toEqual(["", "A", []]);
});
