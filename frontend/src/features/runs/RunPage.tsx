import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ok, queries } from "../../api/client";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { useKeys } from "../../components/keys";
import { Failed, Loading } from "../../components/Quiet";
import { RunState } from "../../components/State";
import { say, sayError } from "../../components/Toast";
import { clock, money, when } from "../../components/words";
import { CellBody } from "../bench/CellBody";
import { OutlineLine } from "../bench/Outline";
import { Reader } from "../bench/Reader";
import { Doubt, LetRest, TakeUp } from "../today/Today";

/** A run: the same page with one column, and the reader beside it. */
export function RunPage() {
  const id = Number(useParams().id);
  const session = useSession();
  const maker = may(session.data, "maker");
  const [search] = useSearchParams();
  const [wanted, choose] = useState(search.get("line"));
  const [given, setGiven] = useState(false);
  const [journal, setJournal] = useState(false);
  const path = { params: { path: { id } } };
  const run = useQuery({ queryKey: ["run", id], queryFn: () => ok(api.GET("/api/runs/{id}", path)) });
  const lines = run.data?.lines ?? [];
  const step = lines.some((l) => l.id === wanted)
    ? wanted
    : run.data?.run.step || lines.findLast((l) => l.stage === "publish")?.id || lines.at(-1)?.id || null;
  const cell = run.data?.cells.find((c) => c.step === step);
  const result = useQuery({
    queryKey: ["run", id, step, cell?.state, cell?.at],
    enabled: !!step,
    placeholderData: (before) => before,
    queryFn: () => ok(api.GET("/api/runs/{id}/steps/{step}", { params: { path: { id, step: step! } } })),
  });
  const move = (by: number) =>
    choose((now) => {
      const at = lines.findIndex((l) => l.id === (now ?? step));
      return lines[Math.min(lines.length - 1, Math.max(0, at + by))]?.id ?? now;
    });
  useKeys({ ArrowDown: () => move(1), ArrowUp: () => move(-1), g: () => setGiven((now) => !now) });
  if (run.isPending) return <Loading what="Fetching the run …" />;
  if (run.isError) return <Failed error={run.error} again={() => run.refetch()} />;
  const r = run.data.run;
  const line = lines.find((l) => l.id === step);

  const act = (call: () => Promise<unknown>, words: string) => async () => {
    try {
      await call();
      say(words);
      queries.invalidateQueries({ queryKey: ["run", id] });
    } catch (error) {
      sayError(error);
    }
  };

  let before = "";
  return (
    <main className="flex min-h-0 flex-1 flex-col lg:h-[calc(100vh-45px)]">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-5 py-2">
        <h1 className="font-serif text-xl font-semibold tracking-tight">{r.title}</h1>
        <RunState state={r.state} />
        <span className="text-xs text-soft">
          <Link className="underline underline-offset-2" to={`/workflows/${r.workflow}`}>
            {r.workflow_name}
          </Link>
          , revision {run.data.revision} · began {when(r.started_at)}
          {r.ended_at ? `, ended ${when(r.ended_at)}` : ""} · {r.tokens} tokens · {money(r.cost)}
        </span>
        <span className="ml-auto" />
        {run.data.approval && (
          <Link
            to={`/approvals/${run.data.approval}`}
            className="rounded-[4px] border border-leaf bg-leaf px-3 py-1 text-sm text-onleaf"
          >
            Read and decide
          </Link>
        )}
        {run.data.piece && <Doubt id={run.data.piece} />}
        {maker && r.state === "failed" && (
          <>
            <TakeUp run={id} />
            <LetRest run={id} />
          </>
        )}
        {maker && !r.ended_at && (
          <Button
            look="quiet"
            onClick={act(
              () => ok(api.POST("/api/runs/{id}/cancel", path)),
              "Cancelled. What already went out stays out.",
            )}
          >
            Cancel the run
          </Button>
        )}
        {maker && (
          <Button
            look="quiet"
            onClick={act(() => ok(api.POST("/api/runs/{id}/keep", path)), "Kept as a sample of its workflow.")}
          >
            Keep as sample
          </Button>
        )}
        <Button look="quiet" aria-pressed={journal} onClick={() => setJournal(!journal)}>
          Journal
        </Button>
      </div>
      {r.message && r.state === "failed" && (
        <p role="alert" className="border-b border-line bg-brickwash px-5 py-1.5 text-sm text-brick">
          Stopped: {r.message} Once the cause is gone, take the run up again; nothing is done twice.
        </p>
      )}
      <div className="grid min-h-0 flex-1 lg:grid-cols-[minmax(22rem,30vw)_minmax(16rem,22vw)_1fr]">
        <div
          role="grid"
          aria-label="The page as it ran"
          className="col-span-2 grid content-start overflow-y-auto border-r border-line lg:grid-cols-subgrid"
        >
          {lines.map((one, i) => {
            const stage = one.stage === before ? "" : one.stage;
            before = one.stage;
            const its = run.data.cells.find((c) => c.step === one.id);
            const chosen = one.id === step;
            return (
              <div key={one.id} role="row" className="contents">
                <div role="rowheader" className={`border-b border-line py-2 pr-3 pl-1 ${chosen ? "bg-shade" : ""}`}>
                  <OutlineLine
                    line={one}
                    number={i + 1}
                    stage={stage}
                    chosen={chosen}
                    onChoose={() => choose(one.id)}
                  />
                </div>
                <button
                  type="button"
                  role="gridcell"
                  aria-selected={chosen}
                  tabIndex={chosen ? 0 : -1}
                  onClick={() => choose(one.id)}
                  className={`relative border-b border-l border-line px-3 py-2 text-left ${chosen ? "bg-sheet ring-2 ring-leaf ring-inset" : "hover:bg-sheet"}`}
                >
                  <span className="sr-only">Line {i + 1}: </span>
                  {its?.state === "running" && <span className="running-bar absolute inset-x-0 top-0 h-[3px]" />}
                  {its ? (
                    <CellBody cell={its} stage={one.stage} lines={4} />
                  ) : (
                    <span className="line-clamp-3 text-sm">{String(run.data.item.title ?? "")}</span>
                  )}
                </button>
              </div>
            );
          })}
        </div>
        <div className="overflow-y-auto bg-sheet px-6 py-4">
          {journal ? (
            <section>
              <h2 className="smallcaps mb-2 text-soft">Journal</h2>
              <ol className="text-sm">
                {run.data.journal.map((entry, i) => (
                  <li key={i} className="grid grid-cols-[4rem_8rem_1fr] gap-3 border-b border-line py-1">
                    <span className="text-soft">{clock(entry.at)}</span>
                    <span className="[overflow-wrap:anywhere]">
                      {entry.address && <span className="slot">{entry.address}</span>}
                    </span>
                    <span>{entry.says}</span>
                  </li>
                ))}
              </ol>
            </section>
          ) : result.isPending || !line ? (
            <Loading what="Fetching the result …" />
          ) : result.isError ? (
            <Failed error={result.error} again={() => result.refetch()} />
          ) : (
            <Reader
              result={result.data}
              stage={line.stage}
              state={cell?.state ?? "fresh"}
              partial=""
              limit={null}
              given={given}
              onGiven={setGiven}
            />
          )}
        </div>
      </div>
    </main>
  );
}
