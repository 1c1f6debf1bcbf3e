import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import * as reads from "../../../api/reads";
import { when } from "../../../components/words";
import { cellText } from "../model/cells";
import type { Row } from "../model/useRows";

const REST = 250;

/** The chosen cell in full, below the grid, and who wrote it: a run leads back to its line, with the draft, prompt and sources. */
export function Reading({ sheet, row, column }: { sheet: string; row: Row; column: string }) {
  const [resting, setResting] = useState(0);
  useEffect(() => {
    const timer = window.setTimeout(() => setResting(row.id), REST);
    return () => window.clearTimeout(timer);
  }, [row.id]);
  const changes = useQuery({ ...reads.rowChanges(sheet, row.id), enabled: resting === row.id });
  // Until it is known who wrote the cell, no link is shown: one without its line would lead to the run's beginning.
  const known = resting === row.id && !changes.isPending;
  const last = known ? changes.data?.find((one) => column in one.after && one.what !== "moved") : undefined;
  const run = last?.run ?? (last || !known ? null : row.run);
  const line = last?.address ? `?line=${encodeURIComponent(last.address.split("/").at(-1)!.split(":")[0]!)}` : "";
  const wrong = row.wrong?.[column];
  return (
    <p aria-live="polite" className="max-h-36 shrink-0 overflow-y-auto border-t border-rule px-5 py-2 text-sm">
      <span className="mr-3 text-xs text-soft">
        Row {row.position}, {column}
      </span>
      <span className="font-serif whitespace-pre-wrap [overflow-wrap:anywhere]">
        {cellText(row, column) || "empty"}
      </span>
      {wrong && <span className="ml-3 text-xs text-brick">✕ {wrong}</span>}
      {run ? (
        <Link className="ml-3 text-xs text-leaf underline underline-offset-2" to={`/runs/${run}${line}`}>
          Written by {last?.run_title ? `“${last.run_title.slice(0, 60)}”` : `run ${run}`}
          {last && `, ${when(last.at)}`}
        </Link>
      ) : (
        last?.who && (
          <span className="ml-3 text-xs text-soft">
            {last.who}, {when(last.at)}
          </span>
        )
      )}
    </p>
  );
}
