import { useQuery } from "@tanstack/react-query";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Dialog } from "../../components/Dialog";
import { Failed, Loading } from "../../components/Quiet";
import { RowChanges } from "../../components/RowChanges";
import { say, sayError } from "../../components/Toast";

/** What was done to a row, or the rows of a sheet that were removed lately; each can be taken back. */
export function RowHistory({
  sheet,
  row,
  maker,
  onClose,
}: {
  sheet: string;
  /** A row; none: the rows that were removed. */
  row: { id: number; position: number } | null;
  maker: boolean;
  onClose: () => void;
}) {
  const changes = useQuery(reads.rowChanges(sheet, row?.id ?? null));
  async function undo(change: Schemas["RowChangeView"]) {
    try {
      const path = { params: { path: { id: change.id } } };
      const told = await mutate(api.POST("/api/row-changes/{id}/undo", path), ["sheet", sheet]);
      say(told.left[0] ?? (change.what === "removed" ? "The row is back." : "Taken back."));
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title={row ? `What was done to row ${row.position}` : "Removed rows"}
      about={row ? "The latest first." : "For thirty days they can be brought back."}
    >
      {changes.isPending ? (
        <Loading what="Looking it up …" />
      ) : changes.isError ? (
        <Failed error={changes.error} again={() => changes.refetch()} />
      ) : changes.data.length ? (
        <RowChanges changes={changes.data} onUndo={maker ? undo : undefined} />
      ) : (
        <p className="text-sm text-soft">
          {row ? "Nothing yet since its changes are kept." : "Nothing was removed in the last thirty days."}
        </p>
      )}
    </Dialog>
  );
}
