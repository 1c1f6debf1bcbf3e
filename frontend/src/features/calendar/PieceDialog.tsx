import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import { may, useSession } from "../../app/session";
import { Away } from "../../components/Away";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Doubt } from "../../components/Doubt";
import { Field, Input } from "../../components/Field";
import { PieceBrief } from "../../components/pieces/PieceBrief";
import { when } from "../../components/words";
import { type OnTime, STATE_WORDS } from "./pieces";
import { fromField, inField } from "./times";

/** A piece of the calendar, and what can be done with it until it goes. */
export function PieceDialog({ piece, onClose }: { piece: OnTime; onClose: () => void }) {
  const reviewer = may(useSession().data, "reviewer");
  return (
    <Dialog open onClose={onClose} title={piece.title}>
      <p className="mb-3 text-sm text-soft">
        {STATE_WORDS[piece.state] ?? piece.state} · {when(piece.at)} · {piece.channel} ·{" "}
        <Link className="underline underline-offset-2" to={`/runs/${piece.run}`}>
          {piece.workflow_name}
        </Link>
        {piece.link && (
          <>
            {" · "}
            <Away to={piece.link} className="text-leaf underline underline-offset-2">
              look at it there
            </Away>
          </>
        )}
      </p>
      {piece.message && <p className="mb-3 text-sm text-brick">{piece.message}</p>}
      {piece.piece && (
        <div className="max-h-72 overflow-y-auto border-l-2 border-line pl-3">
          <PieceBrief piece={piece.piece} />
        </div>
      )}
      {reviewer && <Actions piece={piece} onDone={onClose} />}
    </Dialog>
  );
}

const WAITS = new Set(["queued", "held"]);

/** Send now, move, hold, change, take back: what fits the state it is in. */
export function Actions({ piece, onDone, brief = false }: { piece: OnTime; onDone: () => void; brief?: boolean }) {
  const [at, setAt] = useState(inField(Math.max(piece.at, Date.now() / 1000 + 3600)));
  const [wrong, setWrong] = useState("");
  const go = useNavigate();
  const path = { params: { path: { id: piece.id } } };

  const act = (call: () => Promise<unknown>) => async () => {
    setWrong("");
    try {
      await call();
      onDone();
    } catch (error) {
      setWrong((error as Error).message);
    }
  };
  const stale = ["calendar", "today"] as const;
  const move = (to: number | null) =>
    mutate(api.POST("/api/pieces/{id}/move", { ...path, body: { at: to } }), ...stale);

  if (piece.state === "unsure")
    return (
      <div className="mt-4 flex flex-wrap gap-2">
        <Doubt id={piece.id} />
      </div>
    );
  if (!WAITS.has(piece.state) && piece.state !== "going") return null;
  return (
    <div className={brief ? "" : "mt-4 space-y-3"}>
      {!brief && WAITS.has(piece.state) && (
        <form
          className="flex items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            act(() => move(fromField(at)))();
          }}
        >
          <Field label="Goes out at">
            <Input type="datetime-local" value={at} onChange={(e) => setAt(e.target.value)} />
          </Field>
          <Button type="submit" disabled={!at}>
            Move
          </Button>
        </form>
      )}
      <div className="flex flex-wrap gap-2">
        {WAITS.has(piece.state) && <Button onClick={act(() => move(null))}>Send now</Button>}
        {piece.state === "held" && piece.at > Date.now() / 1000 && (
          <Button onClick={act(() => move(piece.at))}>Send it at its time</Button>
        )}
        {piece.state !== "held" && (
          <Button onClick={act(() => mutate(api.POST("/api/pieces/{id}/hold", path), ...stale))}>
            {piece.state === "going" ? "Hold the rest" : "Hold"}
          </Button>
        )}
        {!brief && piece.approved && WAITS.has(piece.state) && (
          <Button
            onClick={act(async () => {
              await mutate(api.POST("/api/pieces/{id}/change", path), "everything");
              go("/approvals");
            })}
          >
            Change it, and ask again
          </Button>
        )}
        <Button look="quiet" onClick={act(() => mutate(api.POST("/api/pieces/{id}/back", path), ...stale))}>
          Take it back
        </Button>
      </div>
      {wrong && (
        <p role="alert" className="mt-1 text-sm text-brick">
          {wrong}
        </p>
      )}
    </div>
  );
}
