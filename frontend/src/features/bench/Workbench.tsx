import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useLocation, useParams, useSearchParams } from "react-router";
import { api, type Bench } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { useKeys } from "../../components/keys";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { sayError } from "../../components/Toast";
import type { Aside } from "./grid/Comparing";
import { useDragging } from "./grid/dragging";
import { Finder } from "./grid/Finder";
import type { RowActions } from "./grid/Row";
import { Rows } from "./grid/Rows";
import { AddSample, FirstSample, SampleHead } from "./grid/SampleHead";
import { Following } from "./head/Clients";
import { LivePanel } from "./head/LivePanel";
import { SayChange } from "./head/SayChange";
import { giveKeys } from "./model/ahead";
import { cellKey, useCells } from "./model/cells";
import { linesOf, withLine } from "./model/document";
import { usePage } from "./model/page";
import { usePresence } from "./model/presence";
import { END, useWriting } from "./model/writing";
import { BenchPanel } from "./settings/BenchPanel";

/** The workbench: the page on the left, its proofs beside it, the bench under both. */
export function Workbench() {
  const id = Number(useParams().id);
  const bench = useQuery(reads.bench(id));
  if (bench.isPending) return <Loading what="Opening the page …" />;
  if (bench.isError) return <Failed error={bench.error} again={() => bench.refetch()} />;
  return <Opened key={id} bench={bench.data} />;
}

function Opened({ bench }: { bench: Bench }) {
  const session = useSession();
  const runs = may(session.data, "maker");
  // A page that follows another is changed there; it is tried and let live here.
  const maker = runs && !bench.follows;
  const page = usePage(bench);
  const cells = useCells(bench, page.stale);
  const failed = bench.lines.flatMap((l) =>
    bench.samples
      .filter((s) => cells.get(cellKey(l.id, s.id))?.state === "failed")
      .map((s) => ({ step: l.id, sample: s.id })),
  );
  const samples = useMemo(() => bench.samples.filter((s) => s.shown), [bench.samples]);
  const [search, setSearch] = useSearchParams();
  // The place is kept here and only mirrored in the address, so that no key is lost while the address changes.
  const [place, setPlace] = useState({ line: search.get("line"), sample: Number(search.get("sample")) });
  // A line just made stands in the document before the server's view of the page has it.
  const known = bench.lines.some((l) => l.id === place.line) || linesOf(page.doc).some((l) => l.id === place.line);
  const step = known ? place.line : null;
  const sample = samples.find((s) => s.id === place.sample)?.id ?? samples[0]?.id ?? null;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the address follows the place; its setter is new at each drawing
  useEffect(() => {
    setSearch(step ? { line: step, ...(sample ? { sample: String(sample) } : {}) } : {}, { replace: true });
  }, [step, sample]);
  const [given, setGiven] = useState(false);
  // A cell set aside, to be compared with the one that is chosen.
  const [aside, setAside] = useState<Aside | null>(null);
  const grid = useRef<HTMLDivElement>(null);
  const rows = useRef<{ show: (line: string) => void }>(null);
  const catalogue = useQuery(reads.catalogue());
  const [notes, setNotes] = useState<string[]>(useLocation().state?.notes ?? []);
  const others = usePresence(bench.id, session.data?.email ?? "", step);

  const choose = (line: string | null, column?: number) => setPlace((now) => ({ line, sample: column ?? now.sample }));

  const benchOpen = !!step && !!catalogue.data;
  // A line just made can be shown only once its row is there.
  const there = bench.lines.some((l) => l.id === step);
  useEffect(() => {
    if (benchOpen && there) rows.current?.show(step);
  }, [step, benchOpen, there]);

  async function make(steps: string[] | null, columns: number[] | null, again = false) {
    try {
      await page.flush();
      const body = { steps, samples: columns, again };
      await mutate(api.POST("/api/workflows/{id}/proofs", { params: { path: { id: bench.id } }, body }), "nothing");
    } catch (error) {
      sayError(error);
    }
  }
  const stop = () =>
    mutate(api.DELETE("/api/workflows/{id}/proofs", { params: { path: { id: bench.id } } }), "nothing").catch(sayError);
  const running = [...cells.values()].some((c) => c.state === "running");
  const due = [...cells.values()].filter((c) => ["stale", "empty", "failed"].includes(c.state)).length;

  const beside = <T,>(list: T[], at: number, by: number) => list[Math.min(list.length - 1, Math.max(0, at + by))];
  const moveLine = (by: number) =>
    setPlace((now) => {
      const lines = bench.lines.filter((l) => l.kind !== "lane");
      const at = lines.findIndex((l) => l.id === now.line);
      return { ...now, line: (at < 0 ? lines[0] : beside(lines, at, by))?.id ?? null };
    });
  const moveSample = (by: number) =>
    setPlace((now) => {
      const at = Math.max(
        0,
        samples.findIndex((s) => s.id === now.sample),
      );
      return { line: now.line ?? bench.lines[0]?.id ?? null, sample: beside(samples, at, by)?.id ?? now.sample };
    });
  const mute = (line: string) => page.edit((doc) => withLine(doc, line, (l) => ({ ...l, muted: !l.muted })), [line]);
  const isStep = step && step !== bench.lines[0]?.id;
  /** The line that was just put in, until one goes on to another. */
  const [fresh, setFresh] = useState("");
  useEffect(() => setFresh((line) => (line === step ? line : "")), [step]);
  const writing = useWriting({ bench, page, maker, step, choose, onMade: setFresh });
  useEffect(() => {
    if (writing.finding !== null) setFresh("");
  }, [writing.finding]);
  const dragging = useDragging(page.doc, (line, parent, index) =>
    writing.commands.make({ what: "move", line, parent, index }),
  );
  const actions = useRef<RowActions>({ choose, drag: dragging.drag });
  actions.current = { choose, drag: dragging.drag };
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the page is opened
  useEffect(() => {
    // A page just made asks first what sets it off.
    if (search.get("begin")) writing.setFinding("");
  }, []);
  const [said, setSaid] = useState<{ line: string; words: string } | null>(null);
  const finder = (line: string, depth: number) =>
    writing.finding === line && (
      <div role="row" className="bench-row">
        <div role="gridcell" className="left-0 z-20 border-r md:sticky border-b border-line bg-leafwash">
          <Finder
            workflow={bench.id}
            version={bench.version}
            line={line}
            depth={depth}
            onTake={writing.take}
            onSay={(words) => {
              writing.setFinding(null);
              setSaid({ line: line === END ? (bench.lines.findLast((l) => !l.parent)?.id ?? line) : line, words });
            }}
            onClose={() => writing.setFinding(null)}
          />
        </div>
        <div role="gridcell" className="border-b border-line" style={{ gridColumn: "2 / -1" }} />
      </div>
    );
  const { goal } = dragging;
  // The rows are the most there is to draw, and typing changes nothing in them but what is out of date.
  // biome-ignore lint/correctness/useExhaustiveDependencies: `actions` is kept up to date apart; `finder` changes with what is being found
  const table = useMemo(
    () => (
      <Rows
        ref={rows}
        scroller={grid}
        lines={bench.lines}
        samples={samples}
        step={step}
        sample={sample}
        cells={cells}
        maker={maker}
        goal={goal}
        actions={actions}
        finder={finder}
      />
    ),
    [bench, samples, step, sample, cells, maker, goal, writing.finding],
  );
  useKeys({
    ArrowDown: () => moveLine(1),
    ArrowUp: () => moveLine(-1),
    ArrowRight: () => moveSample(1),
    ArrowLeft: () => moveSample(-1),
    Enter: () => {
      if (step) document.querySelector<HTMLElement>("[data-settings] :is(input,select,textarea,.cm-content)")?.focus();
      setPlace((now) => ({ ...now, line: now.line ?? bench.lines[0]?.id ?? null }));
    },
    Escape: () => (aside ? setAside(null) : choose(null)),
    a: () => runs && make(null, null),
    r: () => runs && isStep && sample && make([step], [sample]),
    R: () => runs && isStep && make([step], null),
    f: () => runs && isStep && sample && make([step], [sample], true),
    s: () => stop(),
    g: () => setGiven((now) => !now),
    m: () => maker && isStep && mute(step.split("~")[0]!),
  });

  const columns = Math.max(samples.length, 1);
  return (
    <div className="flex h-[calc(100vh-45px)] min-h-0 flex-col">
      <LivePanel bench={bench} page={page} maker={runs} others={others} onChoose={(line) => choose(line)}>
        {maker && (
          <span className="flex">
            <Button
              look="quiet"
              className="!px-2"
              title="Undo (Ctrl Z)"
              disabled={!page.steps.back}
              onClick={writing.undo}
            >
              Undo
            </Button>
            <Button
              look="quiet"
              className="!px-2"
              title="Do again (Ctrl Shift Z)"
              disabled={!page.steps.on}
              onClick={writing.redo}
            >
              Redo
            </Button>
          </span>
        )}
        {running ? (
          <Button onClick={stop} hint="S">
            Stop
          </Button>
        ) : runs && samples.length > 0 ? (
          <Button onClick={() => make(null, null)} disabled={due === 0} hint="A">
            {due ? `Run ${due} out of date` : "All proofs are fresh"}
          </Button>
        ) : null}
      </LivePanel>
      {bench.follows && <Following workflow={bench.id} brand={bench.brand_key} leading={bench.follows} maker={runs} />}
      {notes.length > 0 && (
        <div role="status" className="flex items-start gap-4 bg-shade px-5 py-2 text-sm">
          <div>
            <p className="smallcaps text-soft">About this page</p>
            <ul>
              {notes.map((note) => (
                <li key={note}>{note}</li>
              ))}
            </ul>
          </div>
          <Button look="quiet" className="ml-auto" onClick={() => setNotes([])}>
            Got it
          </Button>
        </div>
      )}
      {page.saving === "conflict" && (
        <div role="alert" className="flex items-center gap-3 bg-ochrewash px-5 py-1.5 text-sm text-ochre">
          {page.wrong}
          <Button onClick={() => page.settle(false)}>Load theirs</Button>
          <Button onClick={() => page.settle(true)}>Keep mine</Button>
        </div>
      )}
      {page.saving === "unsaved" && (
        <p role="alert" className="bg-ochrewash px-5 py-1 text-sm text-ochre">
          Not saved yet: {page.wrong}
        </p>
      )}
      <div ref={grid} className="relative min-h-0 flex-1 overflow-auto bg-paper">
        <div
          role="grid"
          aria-label="The page and its proofs"
          aria-rowcount={bench.lines.length + 1}
          style={{
            minWidth: `calc(var(--outline) + ${columns} * 14.5rem + 5.5rem)`,
            ["--columns" as string]: columns,
          }}
        >
          <div role="row" aria-rowindex={1} className="bench-row sticky top-0 z-20">
            <div
              role="columnheader"
              className="left-0 z-20 border-r border-b border-rule bg-paper px-3 py-2 text-xs text-soft md:sticky"
            >
              <span className="ml-[4.9rem]">The page</span>
            </div>
            {samples.map((s, i) => (
              <SampleHead
                key={s.id}
                sample={s}
                number={i + 1}
                bench={bench}
                chosen={!!step && s.id === sample}
                maker={runs}
                failed={failed.filter((one) => one.sample === s.id).length}
                onFailed={() => choose(failed.find((one) => one.sample === s.id)!.step, s.id)}
                onRun={() => make(null, [s.id])}
              />
            ))}
            {samples.length === 0 && <div role="columnheader" className="border-b border-rule bg-paper" />}
            <AddSample bench={bench} maker={runs} />
          </div>
          {table}
          {finder(END, 0)}
        </div>
        {maker && writing.finding === null && (
          <div className="sticky left-0 w-fit py-2 pl-[5.2rem]">
            <Button look="quiet" onClick={() => writing.setFinding(END)} hint="N">
              Add a line
            </Button>
          </div>
        )}
        {samples.length === 0 && (
          /* Where the proofs will stand; on a phone, under the page. */
          <div className="px-8 md:absolute md:top-16 md:left-[calc(var(--outline)+2rem)] md:max-w-md md:px-0">
            <Empty title="No samples yet.">
              Proofs are made on real items, side by side. Nothing is published or written by a proof.
            </Empty>
            {runs && <FirstSample bench={bench} />}
          </div>
        )}
      </div>
      {step && catalogue.data && writing.finding === null && (
        <BenchPanel
          key={step}
          fresh={fresh === step}
          bench={bench}
          page={page}
          catalogue={catalogue.data}
          step={step}
          sample={sample}
          cell={sample ? cells.get(cellKey(step, sample)) : undefined}
          maker={maker}
          given={given}
          aside={aside}
          onAside={setAside}
          onGiven={setGiven}
          onChoose={(line) => choose(line)}
          onLeave={() => {
            (document.activeElement as HTMLElement | null)?.blur();
            const cell = grid.current?.querySelector<HTMLElement>("[role=gridcell][aria-selected=true]");
            cell?.focus({ preventScroll: true });
          }}
          onCursor={giveKeys}
          onClose={() => choose(null)}
          onRun={(again) => sample && make([step], [sample], again)}
          onRunRow={() => make([step], null)}
          onMute={() => mute(step)}
          commands={writing.commands}
        />
      )}
      {said && (
        <SayChange workflow={bench.id} page={page} line={said.line} words={said.words} onClose={() => setSaid(null)} />
      )}
    </div>
  );
}
