import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, ok, queries } from "../../api/client";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { useKeys } from "../../components/keys";
import { Failed, Loading } from "../../components/Quiet";
import { RunState } from "../../components/State";
import { say, sayError } from "../../components/Toast";
import { Trouble } from "../../components/Trouble";
import { clock, money, when } from "../../components/words";
import { CellBody } from "../bench/CellBody";
import { Iterations } from "../bench/Iterations";
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
  const [place, setPlace] = useState("");
  const [taking, setTaking] = useState(false);
  const go = useNavigate();
  const path = { params: { path: { id } } };
  const run = useQuery({ queryKey: ["run", id], queryFn: () => ok(api.GET("/api/runs/{id}", path)) });
  const lines = run.data?.lines ?? [];
  const step = lines.some((l) => l.id === wanted)
    ? wanted
    : run.data?.run.step || lines.findLast((l) => l.stage === "publish")?.id || lines.at(-1)?.id || null;
  const cell = run.data?.cells.find((c) => c.step === step);
  const result = useQuery({
    queryKey: ["run", id, step, place, cell?.state, cell?.at],
    enabled: !!step,
    placeholderData: (before) => before,
    queryFn: () =>
      ok(api.GET("/api/runs/{id}/steps/{step}", { params: { path: { id, step: step! }, query: { address: place } } })),
  });
  const inBlock = (lines.find((l) => l.id === step)?.depth ?? 0) > 0;
  const places = useQuery({
    queryKey: ["run", id, "iterations", step, cell?.counts, cell?.state],
    enabled: !!step && inBlock,
    placeholderData: (before) => before,
    queryFn: () => ok(api.GET("/api/runs/{id}/iterations/{step}", { params: { path: { id, step: step! } } })),
  });
  const pick = (line: string) => {
    setPlace("");
    choose(line);
  };
  const move = (by: number) => {
    const steps = lines.filter((l) => l.kind !== "lane");
    const at = steps.findIndex((l) => l.id === step);
    const next = steps[Math.min(steps.length - 1, Math.max(0, at + by))]?.id;
    if (next) pick(next);
  };
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
  let number = 0;
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
        {maker && r.state === "held" && (
          <Button look="main" onClick={act(() => ok(api.POST("/api/runs/{id}/release", path)), "It goes on.")}>
            Let it go on
          </Button>
        )}
        {maker && !r.ended_at && r.state !== "held" && r.state !== "queued" && (
          <Button
            look="quiet"
            onClick={act(
              () => ok(api.POST("/api/runs/{id}/pause", path)),
              "Paused. Nothing more happens until you let it go on.",
            )}
          >
            Pause
          </Button>
        )}
        {maker && r.ended_at && (
          <Button
            look="quiet"
            onClick={async () => {
              try {
                const { run: next } = await ok(api.POST("/api/runs/{id}/again", path));
                go(`/runs/${next}`);
              } catch (error) {
                sayError(error);
              }
            }}
          >
            Carry out again
          </Button>
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
      {run.data.judge && (
        <Judge run={id} address={run.data.judge} message={r.message} reviewer={may(session.data, "reviewer")} />
      )}
      {r.state === "held" && (
        <p role="alert" className="border-b border-line bg-ochrewash px-5 py-1.5 text-sm text-ochre">
          {r.message}
        </p>
      )}
      {run.data.waits_for.map((t) => (
        <div key={t.key} role="status" className="border-b border-line bg-brickwash px-5 py-1.5">
          <Trouble trouble={t} maker={maker} />
        </div>
      ))}
      {(run.data.parent || run.data.began.length > 0) && (
        <p className="border-b border-line px-5 py-1 text-xs text-soft">
          {run.data.parent && (
            <>
              Begun by{" "}
              <Link className="underline" to={`/runs/${run.data.parent}`}>
                run {run.data.parent}
              </Link>
              .{" "}
            </>
          )}
          {run.data.began.length > 0 && "It began "}
          {run.data.began.map((one) => (
            <Link key={one} className="mr-2 underline" to={`/runs/${one}`}>
              run {one}
            </Link>
          ))}
        </p>
      )}
      <div className="grid min-h-0 flex-1 lg:grid-cols-[minmax(22rem,30vw)_minmax(16rem,22vw)_1fr]">
        <div
          role="grid"
          aria-label="The page as it ran"
          className="col-span-2 grid content-start overflow-y-auto border-r border-line lg:grid-cols-subgrid"
        >
          {lines.map((one) => {
            const stage = one.stage === before || one.stage === "flow" ? "" : one.stage;
            before = one.stage && one.stage !== "flow" ? one.stage : before;
            if (one.kind !== "lane") number += 1;
            const shown = one.kind === "lane" ? 0 : number;
            const its = run.data.cells.find((c) => c.step === one.id);
            const chosen = one.id === step;
            return (
              <div key={one.id} role="row" className="contents">
                <div role="rowheader" className={`border-b border-line py-2 pr-3 pl-1 ${chosen ? "bg-shade" : ""}`}>
                  <OutlineLine
                    line={one}
                    number={shown}
                    stage={stage}
                    chosen={chosen}
                    onChoose={() => one.kind !== "lane" && pick(one.id)}
                  />
                </div>
                <button
                  type="button"
                  role="gridcell"
                  aria-selected={chosen}
                  tabIndex={chosen ? 0 : -1}
                  onClick={() => one.kind !== "lane" && pick(one.id)}
                  className={`relative border-b border-l border-line px-3 py-2 text-left ${chosen ? "bg-sheet ring-2 ring-leaf ring-inset" : "hover:bg-sheet"}`}
                >
                  <span className="sr-only">{shown ? `Line ${shown}` : "Lane"}: </span>
                  {its?.state === "running" && <span className="running-bar absolute inset-x-0 top-0 h-[3px]" />}
                  {its ? (
                    <CellBody cell={its} stage={one.stage} lines={4} />
                  ) : one.kind === "lane" ? null : (
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
            <>
              <Iterations
                list={places.data ?? []}
                chosen={place || result.data.address}
                onChoose={setPlace}
                onTakeUp={
                  maker
                    ? (address) =>
                        act(
                          () => ok(api.POST("/api/runs/{id}/take-up", { ...path, body: { address, values: {} } })),
                          "Taken up again for this item.",
                        )()
                    : undefined
                }
              />
              <Reader
                result={result.data}
                stage={line.stage}
                state={cell?.state ?? "fresh"}
                partial=""
                limit={null}
                given={given}
                onGiven={setGiven}
              />
              {maker && r.ended_at && r.state !== "cancelled" && line.depth === 0 && line.stage !== "start" && (
                <div className="mt-8 border-t border-line pt-3">
                  <Button onClick={() => setTaking(true)}>Take the run up from this line …</Button>
                  <TakeUpFrom
                    open={taking}
                    onClose={() => setTaking(false)}
                    run={id}
                    step={line.id}
                    given={result.data.given as { path: string; value: unknown }[]}
                  />
                </div>
              )}
            </>
          )}
        </div>
      </div>
    </main>
  );
}

/** A step has failed for good, and a person says how to go on. */
function Judge({
  run,
  address,
  message,
  reviewer,
}: {
  run: number;
  address: string;
  message: string;
  reviewer: boolean;
}) {
  const [text, setText] = useState("");
  const choose = (choice: "again" | "value" | "skip" | "stop") => async () => {
    try {
      await ok(api.POST("/api/runs/{id}/judge", { params: { path: { id: run } }, body: { address, choice, text } }));
      queries.invalidateQueries();
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <div role="alert" className="flex flex-wrap items-center gap-2 border-b border-line bg-brickwash px-5 py-2 text-sm">
      <span className="text-brick">
        <span className="slot">{address}</span> failed: {message} How should it go on?
      </span>
      {reviewer && (
        <>
          <Button onClick={choose("again")}>Try again</Button>
          <Button onClick={choose("skip")}>Pass over this item</Button>
          <Button onClick={choose("stop")}>Stop</Button>
          <input
            aria-label="A value to go on with"
            placeholder="or go on with this value"
            value={text}
            onChange={(e) => setText(e.target.value)}
            className="min-w-48 flex-1 rounded-[4px] border border-rule bg-sheet px-2 py-1"
          />
          <Button disabled={!text.trim()} onClick={choose("value")}>
            Go on with it
          </Button>
        </>
      )}
    </div>
  );
}

/** The question before a run goes on from a line that is behind it, with the texts it was given to change. */
function TakeUpFrom({
  open,
  onClose,
  run,
  step,
  given,
}: {
  open: boolean;
  onClose: () => void;
  run: number;
  step: string;
  given: { path: string; value: unknown }[];
}) {
  const texts = given.filter((g) => typeof g.value === "string" && g.path.split(".").length === 2);
  const [changed, setChanged] = useState<Record<string, string>>({});
  async function take() {
    try {
      const whole: Record<string, Record<string, unknown>> = {};
      for (const [path, text] of Object.entries(changed)) {
        const [root, name] = path.split(".") as [string, string];
        if (!whole[root]) {
          const found = await ok(
            api.GET("/api/runs/{id}/steps/{step}", {
              params: { path: { id: run, step: root }, query: { address: "" } },
            }),
          );
          whole[root] = { ...(found.output as Record<string, unknown>) };
        }
        whole[root]![name] = text;
      }
      await ok(
        api.POST("/api/runs/{id}/take-up", { params: { path: { id: run } }, body: { address: step, values: whole } }),
      );
      say("Taken up from this line.");
      queries.invalidateQueries();
      onClose();
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <Dialog
      open={open}
      onClose={onClose}
      wide
      title={`Take the run up from “${step}”`}
      about="This line and all under it are carried out once more, for real. What was published before stays out; it may go out a second time."
    >
      <div className="space-y-3">
        {texts.length > 0 && <p className="text-sm text-soft">It was given this. Change what should be different:</p>}
        {texts.map((g) => (
          <label key={g.path} className="block text-sm">
            <span className="slot">{g.path}</span>
            <textarea
              rows={Math.min(8, String(g.value).split("\n").length + 1)}
              className="mt-1 w-full rounded-[4px] border border-rule bg-sheet px-2 py-1"
              value={changed[g.path] ?? String(g.value)}
              onChange={(e) => setChanged((now) => ({ ...now, [g.path]: e.target.value }))}
            />
          </label>
        ))}
      </div>
      <div className="mt-5 flex gap-2">
        <Button look="main" onClick={take}>
          Take it up
        </Button>
        <Button look="quiet" onClick={onClose}>
          Not now
        </Button>
      </div>
    </Dialog>
  );
}
