/** The lines of a grid in groups: a heading for each group, then its rows where it is open. */
import type { Schemas } from "../../../api/client";

export type Group = Schemas["GroupView"];
export type Line = { kind: "row"; row: number } | { kind: "group"; group: number };

export type Lines = { count: number; at: (line: number) => Line; of: (row: number) => number };

/** Lines of `total` rows without groups, or of groups of which some are `closed` (by their labels). */
export function linesOf(total: number, groups: Group[] | null, closed: ReadonlySet<string>): Lines {
  if (!groups) return { count: total, at: (line) => ({ kind: "row", row: line }), of: (row) => row };
  /** For each group: its line, and its first row. */
  const starts: [line: number, row: number][] = [];
  let line = 0;
  let row = 0;
  for (const group of groups) {
    starts.push([line, row]);
    line += 1 + (closed.has(group.label) ? 0 : group.count);
    row += group.count;
  }
  const last = (value: number, which: 0 | 1) => {
    let low = 0;
    let high = starts.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (starts[middle]![which] <= value) low = middle;
      else high = middle - 1;
    }
    return low;
  };
  return {
    count: line,
    at: (at) => {
      const group = last(at, 0);
      const [first, firstRow] = starts[group] ?? [0, 0];
      return at === first ? { kind: "group", group } : { kind: "row", row: firstRow + at - first - 1 };
    },
    of: (wanted) => {
      const group = last(wanted, 1);
      const [first, firstRow] = starts[group] ?? [0, 0];
      return closed.has(groups[group]?.label ?? "") ? first : first + 1 + wanted - firstRow;
    },
  };
}
