import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Bench, ok } from "../../../api/client";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Choice, Field } from "../../../components/Field";
import { Failed, Loading } from "../../../components/Quiet";
import { say, sayError } from "../../../components/Toast";
import { count, when } from "../../../components/words";
import type { PageDoc } from "../model/document";
import type { usePage } from "../model/page";
import { ChangeList } from "./ChangeList";

/** The revisions of a page: any two set against each other, an old one brought back. */
export function Revisions({
  bench,
  page,
  maker,
  onClose,
}: {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  maker: boolean;
  onClose: () => void;
}) {
  const list = useQuery(reads.revisions(bench.id, bench.revision));
  const [before, setBefore] = useState(bench.revision ?? 0);
  const [after, setAfter] = useState(0);
  const told = useQuery(reads.revisionsCompared(bench.id, bench.version, before, after));

  async function bringBack() {
    try {
      const path = { params: { path: { id: bench.id, number: before } } };
      const { document } = await ok(api.GET("/api/workflows/{id}/revisions/{number}", path));
      page.edit(() => document as PageDoc);
      say(`Revision ${before} is on the page again. It goes live when you say so; Ctrl Z takes it back.`);
      onClose();
    } catch (error) {
      sayError(error);
    }
  }
  const options = (
    <>
      <option value={0}>the page as it is now</option>
      {list.data?.map((r) => (
        <option key={r.number} value={r.number}>
          revision {r.number}
          {r.live ? " (live)" : ""}, {when(r.created_at)}, {count(r.runs, "run")}
        </option>
      ))}
    </>
  );
  return (
    <Dialog open wide onClose={onClose} title="Revisions" about="Each going live made one; runs finish on theirs.">
      {list.isPending ? (
        <Loading what="Fetching the revisions …" />
      ) : list.isError ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : list.data.length === 0 ? (
        <p className="text-sm text-soft">This page has never been live, so there is none yet.</p>
      ) : (
        <>
          <div className="grid grid-cols-[1fr_1fr_auto] items-end gap-3">
            <Field label="From">
              <Choice value={before} onChange={(e) => setBefore(Number(e.target.value))}>
                {options}
              </Choice>
            </Field>
            <Field label="to">
              <Choice value={after} onChange={(e) => setAfter(Number(e.target.value))}>
                {options}
              </Choice>
            </Field>
            {maker && (
              <Button disabled={before === 0} onClick={bringBack}>
                Bring {before ? `revision ${before}` : "it"} back
              </Button>
            )}
          </div>
          <div className="mt-5">
            {before === 0 ? (
              <p className="text-sm text-soft">Choose a revision to set against the page.</p>
            ) : told.isPending ? (
              <Loading what="Comparing …" />
            ) : told.isError ? (
              <Failed error={told.error} again={() => told.refetch()} />
            ) : told.data.length === 0 ? (
              <p className="text-sm">They are the same.</p>
            ) : (
              <ChangeList changes={told.data} />
            )}
          </div>
        </>
      )}
    </Dialog>
  );
}
