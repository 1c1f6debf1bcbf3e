import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Away } from "../../components/Away";
import { Button } from "../../components/Button";
import { Doubt } from "../../components/Doubt";
import { useHouse } from "../../components/House";
import { Linked } from "../../components/Piece";
import { PieceBrief } from "../../components/pieces/PieceBrief";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { State } from "../../components/State";
import { sayError } from "../../components/Toast";
import { Trouble } from "../../components/Trouble";
import { ago, count, longDay, money, when } from "../../components/words";
import { Soon } from "../calendar/Soon";
import { DayLine } from "./DayLine";
import { Held } from "./Held";

const FirstSteps = lazy(() => import("./FirstSteps").then((m) => ({ default: m.FirstSteps })));

type Waiting = Schemas["Waiting"];

/** The morning page: what waits, what went out, what it cost. */
export function Today() {
  const session = useSession().data;
  const maker = may(session, "maker");
  const owner = may(session, "owner");
  const hold = useHouse().data?.hold;
  const today = useQuery(reads.today());
  if (today.isPending) return <Loading what="Fetching the day …" />;
  if (today.isError) return <Failed error={today.error} again={() => today.refetch()} />;
  const day = today.data;
  const asked = day.waiting.filter((one) => ASKED.has(one.what)).length;
  // Where nothing is live yet there is no day to show.
  const begins = !!day.first_steps && day.live === 0;
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <div className="flex flex-wrap items-baseline justify-between gap-4">
        <h1 className="font-serif text-3xl font-semibold tracking-tight">{longDay(day.now)}</h1>
        <p className="text-sm text-soft">
          {count(day.live, "workflow")} live · {money(day.spent_month)} spent on drafting this month,{" "}
          {money(day.spent_today)} today
          {day.budgets.map((b) => (
            <span key={b.name} className="block text-right text-xs">
              {b.name}: {money(b.spent_month)} of {money(b.month_money ?? 0)} this month
            </span>
          ))}
        </p>
      </div>
      {hold && <Held hold={hold} owner={owner} />}
      {day.first_steps && (
        <Suspense fallback={<Loading />}>
          <FirstSteps steps={day.first_steps} owner={owner} maker={maker} />
        </Suspense>
      )}
      {!begins && <DayLine day={day} />}
      {day.troubles.length > 0 && (
        <section aria-label="Outside" className="mt-4 space-y-1 border-l-2 border-brick bg-brickwash px-4 py-2">
          {day.troubles.map((t) => (
            <Trouble key={t.key} trouble={t} maker={maker} />
          ))}
        </section>
      )}
      <div className={`mt-8 grid gap-12 lg:grid-cols-[7fr_5fr] ${begins && !day.waiting.length ? "hidden" : ""}`}>
        <section aria-labelledby="waiting">
          <h2 id="waiting" className="smallcaps border-b border-rule pb-1 text-lg">
            Waiting for you{" "}
            {day.waiting.length > 0 && (
              <span className="text-ochre">{(day.waiting.length + day.more_waiting).toLocaleString()}</span>
            )}
            {asked > 0 && asked < day.waiting.length && !day.more_waiting && (
              <span className="text-sm tracking-normal text-soft normal-case [font-variant-caps:normal]">
                , {asked} of them under Approvals
              </span>
            )}
          </h2>
          {day.waiting.length === 0 ? (
            <Empty title="Nothing waits.">New drafts and whatever needs a decision appear here by themselves.</Empty>
          ) : (
            <ul>
              {day.waiting.map((one) => (
                <WaitingRow key={`${one.what}${one.id}`} one={one} maker={maker} />
              ))}
            </ul>
          )}
          {day.more_waiting > 0 && (
            <p className="py-4 text-sm text-soft">
              And {count(day.more_waiting, "more", "more")}, under{" "}
              <Link className="underline underline-offset-2" to="/approvals">
                Approvals
              </Link>{" "}
              and{" "}
              <Link className="underline underline-offset-2" to="/runs?state=failed">
                Runs
              </Link>
              .
            </p>
          )}
        </section>
        <div>
          <Soon />
          <section aria-labelledby="out">
            <h2 id="out" className="smallcaps border-b border-rule pb-1 text-lg">
              Went out <span className="text-soft">{day.sent_today} today</span>
            </h2>
            {day.went_out.length === 0 ? (
              <Empty title="Nothing went out yet.">What is published appears here as its readers see it.</Empty>
            ) : (
              <ul>
                {day.went_out.map((piece) => (
                  <li key={piece.id} className="border-b border-line py-4">
                    {piece.piece ? (
                      <PieceBrief piece={piece.piece} lines={7} />
                    ) : (
                      <p className="text-sm text-soft">{piece.title}</p>
                    )}
                    <p className="mt-2 text-xs text-soft">
                      {piece.link ? (
                        <Away to={piece.link} className="text-leaf underline underline-offset-2">
                          {piece.channel}
                        </Away>
                      ) : (
                        piece.channel
                      )}
                      , {when(piece.at)}
                      {piece.approved_by ? ` · passed by ${piece.approved_by}` : " · nobody was asked"}
                      {piece.despite.length > 0 && (
                        <span className="text-brick"> · let out although it breaks: {piece.despite.join("; ")}</span>
                      )}{" "}
                      ·{" "}
                      <Link className="underline underline-offset-2" to={`/runs/${piece.run}`}>
                        how it was made
                      </Link>
                    </p>
                  </li>
                ))}
              </ul>
            )}
          </section>
        </div>
      </div>
    </main>
  );
}

/** What waits for a person's word at the desk. */
const ASKED = new Set<Waiting["what"]>(["approval", "leave", "question"]);

function WaitingRow({ one, maker }: { one: Waiting; maker: boolean }) {
  const to = {
    approval: `/approvals/${one.id}`,
    leave: `/approvals/${one.id}`,
    question: `/approvals/${one.id}`,
    failed: `/runs/${one.id}`,
    stuck: `/runs/${one.id}`,
    held: `/runs/${one.id}`,
    unsure: "",
    late: "",
    start: `/workflows/${one.id}`,
    runs: `/workflows/${one.id}`,
    gap: `/workflows/${one.id}`,
  }[one.what];
  return (
    <li className="border-b border-line py-4">
      <div className="flex items-baseline justify-between gap-4">
        <div>
          <WaitingState what={one.what} says={one.says} />
          <p className="mt-0.5 font-serif text-lg leading-snug">{one.title}</p>
        </div>
        <span className="shrink-0 text-xs text-soft">{ago(one.at)}</span>
      </div>
      {ASKED.has(one.what) ? (
        <blockquote className="piece mt-2 border-l-2 border-ochre pl-3 text-reading leading-snug">
          <Linked text={one.text} />
        </blockquote>
      ) : (
        <p className="mt-1 text-sm text-brick">{one.says}</p>
      )}
      {one.broken.length > 0 && <p className="mt-1 text-sm text-brick">✕ breaks a rule: {one.broken.join("; ")}</p>}
      {(one.what === "unsure" || one.what === "late") && one.piece && (
        <blockquote className="mt-2 border-l-2 border-brick pl-3">
          <PieceBrief piece={one.piece} lines={7} />
        </blockquote>
      )}
      <div className="mt-3 flex flex-wrap items-center gap-2">
        {one.what === "unsure" ? (
          <Doubt id={one.id} />
        ) : one.what === "late" ? (
          <Late id={one.id} />
        ) : (
          <Link
            to={to}
            className={`rounded border px-3 py-1 text-sm ${ASKED.has(one.what) ? "border-leaf bg-leaf text-onleaf" : "border-rule bg-sheet hover:bg-shade"}`}
          >
            {
              {
                approval: "Read and decide",
                leave: "Read and decide",
                question: "Answer",
                failed: "See what happened",
                stuck: "Say how to go on",
                held: "Look at the run",
                start: "Look at the start",
                runs: "Look at the page",
                gap: "Fill the gap",
                unsure: "",
                late: "",
              }[one.what]
            }
          </Link>
        )}
        {one.what === "runs" && maker && <Grant workflow={one.id} />}
        {one.what === "failed" && maker && (
          <>
            <TakeUp run={one.id} />
            <LetRest run={one.id} />
          </>
        )}
        <span className="text-xs text-soft">{one.from_}</span>
      </div>
    </li>
  );
}

/** A piece that was to go out earlier than it could. */
function Late({ id }: { id: number }) {
  const act = (what: "move" | "back") => async () => {
    const path = { params: { path: { id } } };
    try {
      if (what === "move")
        await mutate(api.POST("/api/pieces/{id}/move", { ...path, body: { at: null } }), "today", "calendar");
      else await mutate(api.POST("/api/pieces/{id}/back", path), "today", "calendar");
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <>
      <Button onClick={act("move")}>Send it all the same</Button>
      <Button look="quiet" onClick={act("back")}>
        Take it back
      </Button>
    </>
  );
}

/** A workflow that has begun as many runs today as it may. */
function Grant({ workflow }: { workflow: number }) {
  async function grant() {
    try {
      await mutate(api.POST("/api/workflows/{id}/grant", { params: { path: { id: workflow } } }), "today");
    } catch (error) {
      sayError(error);
    }
  }
  return <Button onClick={grant}>Run more today</Button>;
}

function WaitingState({ what, says }: { what: Waiting["what"]; says: string }) {
  if (what === "approval" || what === "leave" || what === "question")
    return (
      <State tone="ochre" mark="○">
        {
          {
            approval: "a draft to approve",
            leave: "an assignment asks whether it may",
            question: "a question to answer",
          }[what]
        }
        {says && `, ${says.toLowerCase()}`}
      </State>
    );
  const words = {
    failed: "a run stopped",
    stuck: "how should this go on?",
    held: "a run is paused",
    runs: "as many runs as it may today",
    unsure: "did this go out?",
    late: "does not go by itself",
    start: "the start cannot be looked at",
    gap: "something is missing",
  }[what];
  return (
    <State tone="brick" mark={what === "unsure" ? "?" : "✕"}>
      {words}
    </State>
  );
}

/** Have a run go on from where it failed. */
export function TakeUp({ run }: { run: number }) {
  return (
    <Button
      onClick={async () => {
        try {
          await mutate(
            api.POST("/api/runs/{id}/take-up", { params: { path: { id: run } }, body: { address: "", values: {} } }),
            "everything",
          );
        } catch (error) {
          sayError(error);
        }
      }}
    >
      Take up again
    </Button>
  );
}

/** Leave a failed run as it is; it no longer waits for a decision. */
export function LetRest({ run }: { run: number }) {
  return (
    <Button
      look="quiet"
      onClick={async () => {
        try {
          await mutate(api.POST("/api/runs/{id}/cancel", { params: { path: { id: run } } }), "everything");
        } catch (error) {
          sayError(error);
        }
      }}
    >
      Leave it as it is
    </Button>
  );
}
