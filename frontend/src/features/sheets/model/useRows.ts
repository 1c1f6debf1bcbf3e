/** Rows of a sheet by their place in what is asked for, read page by page as they come into sight. */
import { useQueries, useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../../api/client";
import * as reads from "../../../api/reads";
import type { Asked } from "./shown";

export type Row = Schemas["RowView"];
export type Rows = {
  total: number;
  at: (index: number) => Row | undefined;
  /** The rows that are here, with their places. */
  here: { row: Row; index: number }[];
  error: Error | null;
  again: () => void;
  pending: boolean;
};

/** The rows from `first` to `last`, and whatever else was read of them. */
export function useRows(key: string, asked: Asked, first: number, last: number): Rows {
  const top = useQuery(reads.rowPage(key, asked, 0));
  const from = Math.floor(Math.max(0, first) / reads.ROWS);
  const to = Math.floor(Math.max(0, last) / reads.ROWS);
  const wanted = Array.from({ length: Math.min(4, to - from + 1) }, (_, i) => from + i).filter((page) => page > 0);
  const more = useQueries({ queries: wanted.map((page) => reads.rowPage(key, asked, page)) });
  const pages = new Map<number, Row[]>();
  if (top.data) pages.set(0, top.data.rows);
  wanted.forEach((page, i) => {
    const rows = more[i]?.data?.rows;
    if (rows) pages.set(page, rows);
  });
  return {
    total: top.data?.total ?? 0,
    at: (index) => pages.get(Math.floor(index / reads.ROWS))?.[index % reads.ROWS],
    here: [...pages].flatMap(([page, rows]) => rows.map((row, i) => ({ row, index: page * reads.ROWS + i }))),
    error: top.error,
    again: () => top.refetch(),
    pending: top.isPending,
  };
}
