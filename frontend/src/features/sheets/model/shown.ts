/** How a sheet is looked at: what is kept, in what order, which columns stand where and how wide. */
import type { Schemas } from "../../../api/client";
import { WIDTHS } from "../types";

export type Shown = Required<Schemas["ShownBody"]>;
export type Column = Schemas["SheetView"]["columns"][number];
export type Laid = { column: Column; width: number; left: number; frozen: boolean };

export const NUMBERS = 92;
const LEAST = 48;
const GROWS = new Set(["text", "long"]);

export const plain: Shown = {
  words: "",
  where: [],
  sort: "",
  down: false,
  group: "",
  hidden: [],
  order: [],
  frozen: 0,
  widths: {},
  sums: {},
};

/** What is asked of the server. */
export const askedOf = ({ words, where, sort, down, group }: Shown) => ({
  words: words.trim(),
  where: where.length ? JSON.stringify(where) : "",
  sort,
  down: !!sort && down,
  group,
});
export type Asked = ReturnType<typeof askedOf>;

export const isNarrowed = (shown: Shown) => !!shown.words.trim() || shown.where.length > 0;

/** A view without what speaks of columns that are no longer there. */
export function standing(shown: Partial<Shown>, columns: Column[]): Shown {
  const names = new Set(columns.map((c) => c.name));
  const known = (name: string | undefined) => (name && names.has(name) ? name : "");
  const kept = { ...plain, ...shown };
  return {
    ...kept,
    where: kept.where.filter((one) => names.has(one.column)),
    sort: known(kept.sort),
    group: known(kept.group),
    hidden: kept.hidden.filter((name) => names.has(name)),
    order: kept.order.filter((name) => names.has(name)),
  };
}

/** The columns in the order of the view, without those that are hidden. */
export function columnsOf(columns: Column[], shown: Shown): Column[] {
  const rank = new Map(shown.order.map((name, i) => [name, i]));
  const hidden = new Set(shown.hidden);
  return columns
    .map((column, i) => ({ column, place: rank.get(column.name) ?? shown.order.length + i }))
    .sort((a, b) => a.place - b.place)
    .map(({ column }) => column)
    .filter((column) => !hidden.has(column.name));
}

/** Widths and places of the columns in `room` pixels: columns of text take what is left. */
export function laidOut(columns: Column[], shown: Shown, room: number): Laid[] {
  const set = columns.map((c) => shown.widths[c.name] ?? WIDTHS[c.type] ?? WIDTHS.text!);
  const grow = columns.filter((c) => GROWS.has(c.type) && !(c.name in shown.widths)).length;
  const spare = Math.max(0, room - NUMBERS - set.reduce((a, b) => a + b, 0));
  let left = NUMBERS;
  return columns.map((column, i) => {
    const grows = GROWS.has(column.type) && !(column.name in shown.widths);
    const width = Math.max(LEAST, set[i]! + (grows ? Math.floor(spare / grow) : 0));
    const laid = { column, width, left, frozen: i < shown.frozen };
    left += width;
    return laid;
  });
}

/** A column one place further left or right. */
export function moved(columns: Column[], shown: Shown, name: string, by: 1 | -1): Shown {
  const names = columnsOf(columns, { ...shown, hidden: [] }).map((c) => c.name);
  const seen = names.filter((one) => !shown.hidden.includes(one));
  const beside = seen[seen.indexOf(name) + by];
  if (!beside) return shown;
  const order = names.filter((one) => one !== name);
  order.splice(order.indexOf(beside) + (by > 0 ? 1 : 0), 0, name);
  return { ...shown, order };
}

export type Sum = Schemas["SumView"]["what"];

/** What may stand under a column, in words. */
export function sumsFor(type: string): [Sum, string][] {
  const each: [Sum, string][] = [
    ["filled", "filled in"],
    ["empty", "empty"],
    ["different", "different"],
  ];
  if (type === "number") return [["sum", "sum"], ["mean", "mean"], ["least", "least"], ["most", "most"], ...each];
  if (type === "date") return [["least", "earliest"], ["most", "latest"], ...each];
  return each;
}

export const sumInWords = (what: Sum, type: string) => sumsFor(type).find(([one]) => one === what)?.[1] ?? what;

export const sumValue = (value: number | string | null | undefined) =>
  typeof value === "number" ? value.toLocaleString(undefined, { maximumFractionDigits: 2 }) : (value ?? "–");
