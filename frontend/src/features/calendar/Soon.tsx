import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { PieceBrief } from "../../components/pieces/PieceBrief";
import { when } from "../../components/words";
import { Actions } from "./PieceDialog";

const SHOWN = 4;
/** Seconds before it goes in which a piece counts as just let out. */
const JUST = 60;

/** What goes out next, with what can still be done about it; `just` only what was let out a moment ago. */
export function Soon({ just = false }: { just?: boolean }) {
  const list = useQuery(reads.outbox(""));
  const reviewer = may(useSession().data, "reviewer");
  const now = useSeconds(just);
  const waits = (list.data ?? []).filter(
    (piece) =>
      (piece.state === "queued" || piece.state === "held" || piece.state === "going") &&
      (!just || (piece.approved && piece.state === "queued" && piece.at > now && piece.at - now < JUST)),
  );
  if (!waits.length) return null;
  return (
    <section
      aria-label={just ? "Goes out in a moment" : "Goes out next"}
      className={just ? "mb-4 border-l-2 border-ochre bg-ochrewash px-3 py-2" : "mb-8"}
    >
      <h2 className={just ? "text-sm font-semibold" : "smallcaps border-b border-rule pb-1 text-lg"}>
        {just ? "Goes out in a moment" : "Goes out next"}
      </h2>
      <ul>
        {waits.slice(0, SHOWN).map((piece) => (
          <li key={piece.id} className={just ? "py-1" : "border-b border-line py-3"}>
            <p className="text-xs text-soft">
              {just ? `in ${Math.ceil(piece.at - now)} seconds` : when(piece.at)} · {piece.channel}
              {piece.message && <span className="text-brick"> · {piece.message}</span>}
            </p>
            {piece.piece && <PieceBrief piece={piece.piece} lines={2} small />}
            {reviewer && (
              <div className="mt-1">
                <Actions piece={piece} onDone={() => {}} brief />
              </div>
            )}
          </li>
        ))}
      </ul>
      {!just && (
        <p className="pt-2 text-xs text-soft">
          <Link className="underline underline-offset-2" to="/calendar">
            The week
          </Link>
          ,{" "}
          <Link className="underline underline-offset-2" to="/calendar/outbox">
            all that waits
          </Link>
        </p>
      )}
    </section>
  );
}

/** The moment it is, each second where that matters. */
function useSeconds(running: boolean) {
  const [now, setNow] = useState(Date.now() / 1000);
  useEffect(() => {
    if (!running) return;
    const timer = setInterval(() => setNow(Date.now() / 1000), 1000);
    return () => clearInterval(timer);
  }, [running]);
  return now;
}
