import { useQuery } from "@tanstack/react-query";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { RowChanges } from "../../components/RowChanges";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";

/** What a line of a run did to rows, and taking it back. */
export function RowsWritten({ run, address, maker }: { run: number; address: string; maker: boolean }) {
  const changes = useQuery(reads.rowsOfRun(run, address));
  if (!changes.data?.length) return null;
  const open = changes.data.filter((one) => !one.undone_by);
  async function undo() {
    try {
      const path = { params: { path: { id: run } }, body: { address } };
      const told = await mutate(api.POST("/api/runs/{id}/rows/undo", path), ["run", run], ["sheet"]);
      say(
        told.left.length
          ? `${told.count - told.left.length} taken back. ${told.left.join(" ")}`
          : "Taken back: the rows are as they were.",
      );
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <section aria-label="What it wrote" className="mt-6 border-t border-line pt-3 text-sm">
      {changes.data.length > 1 ? (
        <>
          <h3 className="smallcaps text-soft">What it wrote</h3>
          <RowChanges changes={changes.data} places />
        </>
      ) : (
        // What one change was stands above already.
        changes.data[0]!.undone_by && <p className="text-soft">Taken back by {changes.data[0]!.undone_by}.</p>
      )}
      {maker && open.length > 0 && (
        <Button onClick={undo}>Take {open.length === 1 ? "it" : `these ${count(open.length, "change")}`} back</Button>
      )}
    </section>
  );
}
