import { useQuery } from "@tanstack/react-query";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { PieceBrief } from "../../components/pieces/PieceBrief";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { when } from "../../components/words";
import { Actions } from "./PieceDialog";
import { type OnTime, STATE_WORDS } from "./pieces";

/** What waits to go out, what goes next first; each can be read, changed, moved, held, sent now or taken back. */
export function Outbox({ brand, onOpen }: { brand: string; onOpen: (piece: OnTime) => void }) {
  const list = useQuery(reads.outbox(brand));
  const reviewer = may(useSession().data, "reviewer");
  if (list.isPending) return <Loading what="Fetching the outbox …" />;
  if (list.isError) return <Failed error={list.error} again={() => list.refetch()} />;
  if (!list.data.length)
    return (
      <Empty title="Nothing waits to go out.">
        What is approved stands here until its time comes. A line says when its piece goes under “More settings”.
      </Empty>
    );
  return (
    <ul className="mt-4 border-t border-rule">
      {list.data.map((piece) => (
        <li
          key={piece.id}
          className="grid gap-x-6 gap-y-2 border-b border-line py-3 md:grid-cols-[9rem_minmax(0,1fr)_auto]"
        >
          <div className="text-sm">
            <p className="tabular-nums">{when(piece.at)}</p>
            <p className={`text-xs ${piece.asks ? "text-brick" : "text-soft"}`}>
              {STATE_WORDS[piece.state] ?? piece.state}
            </p>
            <p className="text-xs text-soft">{piece.channel}</p>
          </div>
          <button type="button" className="text-left" onClick={() => onOpen(piece)}>
            {piece.piece ? <PieceBrief piece={piece.piece} lines={3} small /> : piece.title}
            <span className="mt-1 block text-xs text-soft">
              {piece.workflow_name}
              {piece.message && <span className="text-brick"> · {piece.message}</span>}
            </span>
          </button>
          {reviewer && <Actions piece={piece} onDone={() => {}} brief />}
        </li>
      ))}
    </ul>
  );
}
