import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Failed, Loading } from "../../components/Quiet";
import { sayError } from "../../components/Toast";
import { count } from "../../components/words";

/** A house that is held: what it would send, run and hand out again, and the one press that lets it go. */
export function Held({ hold, owner }: { hold: Schemas["HoldView"]; owner: boolean }) {
  const [copied, setCopied] = useState(hold.why === "restored");
  const [runFor, setRunFor] = useState<number[]>([]);
  const [going, setGoing] = useState(false);
  const held = useQuery({ ...reads.held(), enabled: owner });

  async function letGo() {
    setGoing(true);
    try {
      await mutate(api.POST("/api/house/let-go", { body: { copy: copied, run_for: runFor } }), "everything");
    } catch (error) {
      sayError(error);
    } finally {
      setGoing(false);
    }
  }

  return (
    <section aria-labelledby="held" className="mt-6 border-y border-ochre py-5">
      <h2 id="held" className="font-serif text-2xl font-semibold tracking-tight">
        Held until you start it
      </h2>
      {!owner && <p className="mt-2 max-w-prose text-sm">An owner has to start it. Until then it can only be read.</p>}
      {owner && (
        <>
          {hold.why === "moved" && (
            <fieldset className="mt-3 space-y-1 text-sm">
              <legend className="mb-1 text-soft">What happened to the folder?</legend>
              <label className="flex items-baseline gap-2">
                <input type="radio" name="what" checked={!copied} onChange={() => setCopied(false)} />
                It was moved here. Nobody works with the old one any more.
              </label>
              <label className="flex items-baseline gap-2">
                <input type="radio" name="what" checked={copied} onChange={() => setCopied(true)} />
                It is a copy, and the original may have gone on since.
              </label>
            </fieldset>
          )}
          {copied && (
            <p className="mt-3 max-w-prose text-sm text-soft">
              Stop the original first. What waits to go out is looked for at its channel before it is sent; where that
              cannot tell, you are asked.
            </p>
          )}
          {held.isPending && <Loading what="Looking at what it would do …" />}
          {held.isError && <Failed error={held.error} again={() => held.refetch()} />}
          {held.data && <Would held={held.data} copied={copied} runFor={runFor} setRunFor={setRunFor} />}
          <div className="mt-5">
            <Button look="main" disabled={going || held.isPending} onClick={letGo}>
              {going ? "Starting …" : "Start the house"}
            </Button>
          </div>
        </>
      )}
    </section>
  );
}

type WouldProps = {
  held: Schemas["HeldView"];
  copied: boolean;
  runFor: number[];
  setRunFor: (ids: number[]) => void;
};

function Would({ held, copied, runFor, setRunFor }: WouldProps) {
  return (
    <div className="mt-5 grid gap-8 lg:grid-cols-3">
      <div>
        <h3 className="smallcaps border-b border-rule pb-1">Would send</h3>
        {held.sends.length === 0 && <Nothing>No piece waits to go out.</Nothing>}
        <ul>
          {held.sends.map((piece) => (
            <li key={piece.piece} className="border-b border-line py-2.5">
              <p className="piece line-clamp-3 text-reading leading-snug">{piece.text || piece.title}</p>
              <p className="mt-1 text-xs text-soft">
                {piece.channel} ·{" "}
                {!copied
                  ? "is sent"
                  : piece.can_be_asked
                    ? "is looked for there first"
                    : "cannot be looked for: you decide"}{" "}
                ·{" "}
                <Link className="underline underline-offset-2" to={`/runs/${piece.run}`}>
                  its run
                </Link>
              </p>
            </li>
          ))}
        </ul>
        {held.more_sends > 0 && <Nothing>And {count(held.more_sends, "more piece")}.</Nothing>}
      </div>
      <div>
        <h3 className="smallcaps border-b border-rule pb-1">Would go on with</h3>
        {held.carries.length === 0 && <Nothing>No run is open.</Nothing>}
        <ul>
          {held.carries.map((one) => (
            <li key={one.workflow} className="flex justify-between gap-3 border-b border-line py-2.5 text-sm">
              <Link className="underline-offset-2 hover:underline" to={`/workflows/${one.workflow}`}>
                {one.name}
              </Link>
              <span className="shrink-0 text-soft">{count(one.runs, "run")}</span>
            </li>
          ))}
        </ul>
      </div>
      <div>
        <h3 className="smallcaps border-b border-rule pb-1">Would hand out</h3>
        {held.hands_out.length === 0 && <Nothing>Nothing new is there for any start.</Nothing>}
        <ul>
          {held.hands_out.map((one) => (
            <li key={one.workflow} className="border-b border-line py-2.5 text-sm">
              <p>{one.name}</p>
              {one.why ? (
                <p className="mt-0.5 text-xs text-brick">Its start cannot be looked at: {one.why}</p>
              ) : (
                <p className="mt-0.5 line-clamp-2 text-xs text-soft">
                  {count(one.items, "new item")}: {one.titles.join(" · ")}
                </p>
              )}
              {copied && (
                <label className="mt-1.5 flex items-baseline gap-2 text-xs">
                  <input
                    type="checkbox"
                    checked={runFor.includes(one.workflow)}
                    onChange={(event) =>
                      setRunFor(
                        event.target.checked
                          ? [...runFor, one.workflow]
                          : runFor.filter((workflow) => workflow !== one.workflow),
                      )
                    }
                  />
                  Run for them; otherwise they are passed over
                </label>
              )}
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}

function Nothing({ children }: { children: React.ReactNode }) {
  return <p className="py-2.5 text-sm text-soft">{children}</p>;
}
