import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Button } from "./Button";
import { when } from "./words";

type Change = Schemas["RowChangeView"];

const WORDS: Record<Change["what"], string> = {
  added: "Added",
  written: "Written",
  moved: "Moved to another sheet",
  removed: "Removed",
};

/** What was done to rows, one after another: by whom or by which run, and each cell before and after. */
export function RowChanges({
  changes,
  places = false,
  onUndo,
}: {
  changes: Change[];
  /** Whether to say which row of which sheet it was. */
  places?: boolean;
  onUndo?: (change: Change) => void;
}) {
  return (
    <ol className="divide-y divide-line text-sm">
      {changes.map((one) => (
        <li key={one.id} className={`py-2 ${one.undone_by ? "text-soft line-through decoration-line" : ""}`}>
          <p className="flex flex-wrap items-baseline gap-x-2">
            <span className="font-semibold">
              {WORDS[one.what]}
              {places && `, row ${one.place} of ${one.sheet_name}`}
            </span>
            <span className="text-xs text-soft">
              {when(one.at)}, by{" "}
              {one.run ? (
                <Link className="underline underline-offset-2" to={`/runs/${one.run}`}>
                  {one.run_title || `run ${one.run}`}
                </Link>
              ) : (
                one.who || "somebody"
              )}
              {one.undone_by && `; taken back by ${one.undone_by}`}
            </span>
            {onUndo && !one.undone_by && (
              <Button look="quiet" className="ml-auto" onClick={() => onUndo(one)}>
                {one.what === "removed" ? "Bring it back" : "Take it back"}
              </Button>
            )}
          </p>
          {one.what !== "moved" && <Cells before={one.before} after={one.after} />}
        </li>
      ))}
    </ol>
  );
}

type Row = Record<string, unknown>;

/** Cells that changed: what stood there struck out, what stands there now below it. */
export function Cells({ before, after }: { before: Row; after: Row }) {
  const columns = [...new Set([...Object.keys(before), ...Object.keys(after)])].filter(
    (column) => String(before[column] ?? "") || String(after[column] ?? ""),
  );
  return (
    <dl className="mt-1 grid grid-cols-[minmax(5rem,auto)_1fr] gap-x-4 gap-y-0.5">
      {columns.map((column) => (
        <div key={column} className="contents">
          <dt className="text-xs text-soft">{column}</dt>
          <dd className="font-serif whitespace-pre-wrap [overflow-wrap:anywhere]">
            {String(before[column] ?? "") && <del className="mr-2 text-soft">{String(before[column])}</del>}
            {String(after[column] ?? "") && <ins className="no-underline">{String(after[column])}</ins>}
          </dd>
        </div>
      ))}
    </dl>
  );
}
