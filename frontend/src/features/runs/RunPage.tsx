import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Doubt } from "../../components/Doubt";
import { useKeys } from "../../components/keys";
import { LinkItem, Menu } from "../../components/Menu";
import { PieceBrief } from "../../components/pieces/PieceBrief";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { RunState } from "../../components/State";
import { say, sayError } from "../../components/Toast";
import { Trouble } from "../../components/Trouble";
import { clock, money, when } from "../../components/words";
import { Iterations } from "../../page-view/Iterations";
import { Reader } from "../../page-view/Reader";
import { LetRest, TakeUp } from "../today/Today";
import { Another, OtherResult, useOther } from "./Another";
import { Judge, TakeUpFrom } from "./deciding";
import { RowsWritten } from "./RowsWritten";
import { RunGrid, together } from "./RunGrid";

/** A run: the same page with one column, and the reader beside it. */
export function RunPage() {
  const id = Number(useParams().id);
  const session = useSession();
  const maker = may(session.data, "maker");
  const [search, setSearch] = useSearchParams();
  const [wanted, choose] = useState(search.get("line"));
  const [given, setGiven] = useState(false);
  const [journal, setJournal] = useState(false);
  const [place, setPlace] = useState("");
  const [taking, setTaking] = useState(false);
  const go = useNavigate();
  const path = { params: { path: { id } } };
  const run = useQuery(reads.run(id));
  const beside = Number(search.get("beside")) || null;
  const other = useOther(beside);
  const lines = together(run.data?.lines ?? [], other.run?.lines ?? []);
  const step = lines.some((l) => l.id === wanted)
    ? wanted
    : run.data?.run.step || lines.findLast((l) => l.stage === "publish")?.id || lines.at(-1)?.id || null;
  const cell = run.data?.cells.find((c) => c.step === step);
  const emptied = run.data?.emptied ?? null;
  const result = useQuery({
    ...reads.runStep(id, step, place, `${cell?.state} ${cell?.at}`),
    ...(emptied && { enabled: false }),
  });
  const inBlock = (lines.find((l) => l.id === step)?.depth ?? 0) > 0;
  const places = useQuery({
    ...reads.runIterations(id, step, [cell?.counts, cell?.state]),
    enabled: !!step && inBlock && !emptied,
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
    } catch (error) {
      sayError(error);
    }
  };

  const columns = [run.data, ...(other.run ? [other.run] : [])];
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
            className="rounded border border-leaf bg-leaf px-3 py-1 text-sm text-onleaf"
          >
            Read and decide
          </Link>
        )}
        {run.data.piece && <Doubt id={run.data.piece} />}
        {maker && r.state === "failed" && !emptied && (
          <>
            <TakeUp run={id} />
            <LetRest run={id} />
          </>
        )}
        {maker && r.state === "held" && (
          <Button
            look="main"
            onClick={act(() => mutate(api.POST("/api/runs/{id}/release", path), ["run", id]), "It goes on.")}
          >
            Go on
          </Button>
        )}
        {maker && !r.ended_at && r.state !== "held" && r.state !== "queued" && (
          <Button
            look="quiet"
            onClick={act(
              () => mutate(api.POST("/api/runs/{id}/pause", path), ["run", id]),
              "Paused. Nothing more happens until you press Go on.",
            )}
          >
            Pause
          </Button>
        )}
        {maker && r.ended_at && !emptied && (
          <Button
            look="quiet"
            onClick={async () => {
              try {
                const { run: next } = await mutate(api.POST("/api/runs/{id}/again", path), "runs");
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
              () => mutate(api.POST("/api/runs/{id}/cancel", path), ["run", id]),
              "Cancelled. What already went out stays out.",
            )}
          >
            Cancel the run
          </Button>
        )}
        {maker && !emptied && (
          <Button
            look="quiet"
            onClick={act(
              () => mutate(api.POST("/api/runs/{id}/keep", path), "bench"),
              "Kept as a sample of its workflow.",
            )}
          >
            Keep as sample
          </Button>
        )}
        {!emptied && (
          <Button look="quiet" aria-pressed={journal} onClick={() => setJournal(!journal)}>
            Journal
          </Button>
        )}
        <Menu opens={<Button look="quiet">Record …</Button>}>
          {["HTML", "PDF", "JSON"].map((kind) => (
            <LinkItem key={kind}>
              <a href={`/api/runs/${id}/record/${kind.toLowerCase()}`} download>
                As {kind}
              </a>
            </LinkItem>
          ))}
        </Menu>
        <Another
          run={r}
          chosen={beside}
          missing={other.missing}
          onChoose={(id) =>
            setSearch(id ? { ...(step ? { line: step } : {}), beside: String(id) } : {}, { replace: true })
          }
        />
      </div>
      {emptied && (
        <p role="status" className="border-b border-line bg-shade px-5 py-1.5 text-sm">
          What this run did is kept no longer: its time was over on {when(emptied)}. What went out, who said yes and
          when stays on its record.
        </p>
      )}
      {r.message && r.state === "failed" && !emptied && (
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
      <div
        className={`grid min-h-0 flex-1 ${other.run ? "lg:grid-cols-[minmax(17rem,22vw)_repeat(2,minmax(11rem,15vw))_1fr]" : "lg:grid-cols-[minmax(22rem,30vw)_minmax(16rem,22vw)_1fr]"}`}
      >
        <RunGrid lines={lines} columns={columns} step={step} onPick={pick} />
        <div className="overflow-y-auto bg-sheet px-6 py-4">
          {emptied ? (
            <Empty title={cell?.piece ? "This went out." : "What it did here is kept no longer."}>
              {cell?.piece ? <PieceBrief piece={cell.piece} lines={12} /> : "Choose a line that let something out."}
            </Empty>
          ) : journal ? (
            <Journal run={id} latest={run.data.journal} />
          ) : result.isPending || !line ? (
            <Loading what="Fetching the result …" />
          ) : result.isError ? (
            <Failed error={result.error} again={() => result.refetch()} />
          ) : other.run ? (
            <OtherResult run={other.run} step={step!} first={result.data} name={`Run ${id}`} />
          ) : (
            <>
              <Iterations
                list={(inBlock && places.data) || []}
                chosen={place || result.data.address}
                onChoose={setPlace}
                onTakeUp={
                  maker
                    ? (address) =>
                        act(
                          () =>
                            mutate(api.POST("/api/runs/{id}/take-up", { ...path, body: { address, values: {} } }), [
                              "run",
                              id,
                            ]),
                          "Taken up again for this item.",
                        )()
                    : undefined
                }
              />
              <Reader
                proof={false}
                result={result.data}
                stage={line.stage}
                state={cell?.state ?? "fresh"}
                partial=""
                limit={null}
                given={given}
                onGiven={setGiven}
              />
              {line.stage === "record" && (
                <RowsWritten run={id} address={place || result.data.address || line.id} maker={maker} />
              )}
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

/** What happened, in words: the latest page, and earlier ones where they are asked for. */
function Journal({ run, latest }: { run: number; latest: Schemas["JournalPage"] }) {
  const pages = useInfiniteQuery(reads.journal(run, latest));
  const entries = [...(pages.data?.pages ?? [latest])].reverse().flatMap((page) => page.entries);
  return (
    <section>
      <h2 className="smallcaps mb-2 text-soft">Journal</h2>
      {pages.hasNextPage && (
        <Button className="mb-2" disabled={pages.isFetchingNextPage} onClick={() => pages.fetchNextPage()}>
          {pages.isFetchingNextPage ? "Fetching …" : "Show what was before"}
        </Button>
      )}
      <ol className="text-sm">
        {entries.map((entry) => (
          <li key={entry.number} className="grid grid-cols-[4rem_8rem_1fr] gap-3 border-b border-line py-1">
            <span className="text-soft">{clock(entry.at)}</span>
            <span className="[overflow-wrap:anywhere]">
              {entry.address && <span className="slot">{entry.address}</span>}
            </span>
            <span>{entry.says}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
