import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Bench, Cell, Schemas } from "../../../api/client";
import * as reads from "../../../api/reads";
import { Beside } from "../../../components/Beside";
import { Button } from "../../../components/Button";
import { typing, useKeys } from "../../../components/keys";
import { Failed, Loading } from "../../../components/Quiet";
import { Iterations } from "../../../page-view/Iterations";
import { Reader } from "../../../page-view/Reader";
import { type Aside, Comparing, differs } from "../grid/Comparing";
import { linesOf, sure, withLine } from "../model/document";
import { nameOf, type usePage } from "../model/page";
import type { Commands } from "../model/writing";
import { CompareTakes, MOST_TAKES, TakeForm, takeAt, takesOf } from "../takes/Takes";
import { settingsOf, withControl } from "./controls/around";
import { Help } from "./Help";
import { LineMenu } from "./LineMenu";
import { Mending } from "./Mending";
import { StartPanel } from "./StartPanel";
import { StepForm } from "./StepForm";

type Props = {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  catalogue: Schemas["Catalogue"];
  step: string;
  /** Whether it was put in just now. */
  fresh: boolean;
  sample: number | null;
  cell: Cell | undefined;
  maker: boolean;
  given: boolean;
  aside: Aside | null;
  onAside: (aside: Aside | null) => void;
  onGiven: (given: boolean) => void;
  onChoose: (line: string) => void;
  /** Give the keys back to the page. */
  onLeave: () => void;
  /** The first field of a line just put in is there, or it has none. */
  onCursor: (field: HTMLElement | null) => void;
  onClose: () => void;
  onRun: (again: boolean) => void;
  onRunRow: () => void;
  onMute: () => void;
  commands: Commands;
};

/** What takes words or a choice. */
const FIELDS = "input:not([type=checkbox],[type=radio],[type=hidden]), textarea, select, .cm-content";

/** The bench: the chosen line's settings on one side, on the other the reader with the chosen sample's result. */
export function BenchPanel(props: Props) {
  const { bench, page, catalogue, step, sample, cell, maker } = props;
  const [tall, setTall] = useState(false);
  const [place, setPlace] = useState("");
  const [comparing, setComparing] = useState(false);
  const [help, setHelp] = useState(false);
  const settings = useRef<HTMLDivElement>(null);
  const [begun, setBegun] = useState(false);
  // A take of a draft is set up in its draft.
  const home = step.split("~")[0]!;
  const take = takeAt(step);
  const doc = linesOf(page.doc).find((l) => l.id === home);
  const line = bench.lines.find((l) => l.id === step);
  const kind = catalogue.kinds.find((k) => k.name === doc?.kind);
  const values = useQuery(reads.values(bench.id, step, sample));
  const result = useQuery(
    reads.cell(bench.id, sample, step, place, cell?.state === "running" ? "before" : `${cell?.state} ${cell?.at}`),
  );
  const here: Aside | null =
    sample !== null && result.data ? { step, sample, name: nameOf(bench, step, sample), result: result.data } : null;
  // A line just put in has the cursor in its first field, or in what it needs first, and is not told off before anything was typed.
  const gap =
    props.fresh && !begun ? line?.problems.find((p) => p.severity === "error" && p.place[0])?.place[0] : undefined;
  const { onCursor } = props;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the line was put in
  useEffect(() => {
    if (!props.fresh || !line) return;
    const needed = gap ?? (kind?.form.required as string[] | undefined)?.[0];
    const until = performance.now() + 1500;
    let drawn = 0;
    const first = (what: string) => settings.current?.querySelector<HTMLElement>(`[data-setting] ${what}`) ?? null;
    const look = () => {
      const of = needed && settings.current?.querySelector<HTMLElement>(`[data-setting="${needed}"]`);
      // What edits a text with values in it may be fetched only now.
      if ((of || settings.current)?.querySelector("[data-late]") && performance.now() < until) {
        drawn = requestAnimationFrame(look);
        return;
      }
      const own = of ? (of.querySelector<HTMLElement>(FIELDS) ?? of.querySelector<HTMLElement>("button")) : null;
      onCursor(own ?? first(`:is(${FIELDS})`) ?? first("button"));
    };
    look();
    return () => cancelAnimationFrame(drawn);
  }, [props.fresh, !!line]);
  useKeys({ c: () => props.onAside(props.aside ? null : here), h: () => setHelp((now) => !now) });
  if (!doc || !line) return null;
  const takes = takesOf(doc, kind);
  const taking = withControl(kind, "takes");
  const settle = (settings: Record<string, unknown>) =>
    page.edit(
      (d) => withLine(d, home, (l) => ({ ...l, settings })),
      [home, ...takes.map((_, i) => `${home}~${i + 2}`)],
    );
  const addTake = () => {
    const name = `Take ${takes.length + 2}`;
    const worded = settingsOf(kind).filter(([, p]) => p.told === "prompt");
    const over = Object.fromEntries(worded.map(([setting]) => [setting, doc.settings[setting] ?? ""]));
    settle({ ...doc.settings, [taking!]: [...takes, { name, ...over }] });
    props.onChoose(`${home}~${takes.length + 2}`);
  };
  const dropTake = () => {
    settle({ ...doc.settings, [taking!]: takes.filter((_, i) => i !== take - 1) });
    props.onChoose(home);
  };
  const keepTake = () => {
    const { name: _, ...over } = takes[take - 1]!;
    const set = Object.fromEntries(Object.entries(over).filter(([, v]) => v !== "" && v !== null && v !== undefined));
    settle({ ...doc.settings, ...set, [taking!]: [] });
    props.onChoose(home);
  };
  const isStart = bench.lines[0]?.id === step;
  return (
    <section
      aria-label="Bench"
      onKeyDownCapture={(event) => {
        // Out of a field, back to the page; the next Esc closes the bench. An open list of values is closed first.
        if (event.key !== "Escape" || !typing(event.target)) return;
        if (document.querySelector(".cm-tooltip-autocomplete")) return;
        if ((event.target as Element).closest("[role=dialog], [role=menu]")) return;
        event.preventDefault();
        event.stopPropagation();
        props.onLeave();
      }}
      className={`flex shrink-0 flex-col border-t-2 border-ink bg-paper ${tall ? "h-[82vh]" : "h-[min(54vh,max(7.5rem,100vh-17rem))]"}`}
    >
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-5 py-1.5 short:flex-nowrap short:overflow-x-auto">
        <h2 className="smallcaps text-soft">{line.kind_title}</h2>
        <span className="text-xs text-soft">
          {take ? "of" : "called"} <span className="slot">{home}</span>
        </span>
        <span className="ml-auto" />
        {maker && !isStart && sample !== null && (
          <>
            <Button look="main" disabled={cell?.state === "running"} onClick={() => props.onRun(false)} hint="R">
              Run this cell
            </Button>
            <Button onClick={props.onRunRow} hint="⇧R">
              The row
            </Button>
            <Button look="quiet" onClick={() => props.onRun(true)} hint="F">
              Ask again
            </Button>
          </>
        )}
        {takes.length > 0 && (
          <Button look="quiet" onClick={() => setComparing(true)}>
            Side by side
          </Button>
        )}
        {maker && taking && takes.length + 1 < MOST_TAKES && (
          <Button look="quiet" onClick={addTake}>
            Another take
          </Button>
        )}
        {maker && kind?.stage === "publish" && (
          <Button look="quiet" onClick={kind.holds ? props.commands.find : props.commands.alsoTo}>
            Also to …
          </Button>
        )}
        {maker && !isStart && !take && (
          <Button look="quiet" onClick={props.onMute} hint="M">
            {doc.muted ? "Unmute" : "Mute"}
          </Button>
        )}
        {maker && !take && <LineMenu line={step} start={isStart} commands={props.commands} />}
        <Button look="quiet" onClick={() => setHelp(!help)} aria-pressed={help} hint="H">
          Help
        </Button>
        <Button look="quiet" onClick={() => setTall(!tall)} aria-pressed={tall}>
          {tall ? "Lower" : "Taller"}
        </Button>
        <Button look="quiet" onClick={props.onClose} hint="Esc">
          Close
        </Button>
      </div>
      <div className="grid min-h-0 flex-1 grid-cols-1 max-md:overflow-y-auto md:grid-cols-2">
        <div
          ref={settings}
          data-settings
          onInput={() => setBegun(true)}
          onChange={() => setBegun(true)}
          className="border-line px-5 py-3 max-md:order-2 max-md:border-t md:overflow-y-auto md:border-r"
        >
          {isStart && <StartPanel workflow={bench.id} live={bench.state === "live"} maker={maker} sample={sample} />}
          {maker && (
            <Mending
              workflow={bench.id}
              problems={line.problems}
              settle={settle}
              sure={(guess) => page.edit((d) => withLine(d, home, (l) => sure(l, guess)))}
              make={props.commands.make}
            />
          )}
          {take > 0 ? (
            <TakeForm
              doc={doc}
              kind={kind!}
              take={take}
              catalogue={catalogue}
              above={[]}
              below={[]}
              values={values.data ?? []}
              problems={bench.lines.find((l) => l.id === home)?.problems ?? []}
              disabled={!maker}
              onChange={settle}
              onKeep={keepTake}
              onRemove={dropTake}
              onRun={() => props.onRun(false)}
            />
          ) : kind ? (
            <StepForm
              doc={doc}
              kind={kind}
              catalogue={catalogue}
              above={linesOf(page.doc).slice(0, linesOf(page.doc).indexOf(doc))}
              below={linesOf(page.doc).slice(linesOf(page.doc).indexOf(doc) + 1)}
              values={values.data ?? []}
              problems={gap ? [] : line.problems}
              disabled={!maker}
              onChange={(settings) => page.edit((d) => withLine(d, step, (l) => ({ ...l, settings })), [step])}
              onPolicy={(on_failure) => page.edit((d) => withLine(d, step, (l) => ({ ...l, on_failure })))}
              onLanes={(lanes) => page.edit((d) => withLine(d, step, (l) => ({ ...l, lanes })), [step])}
              onAddLane={() => props.commands.make({ what: "add_lane", line: step })}
              onRemoveLane={(lane) => props.commands.make({ what: "remove_lane", line: lane })}
              onRun={() => props.onRun(false)}
            />
          ) : (
            <p className="text-sm text-brick">This Ulmus does not know the kind “{doc.kind}”.</p>
          )}
        </div>
        <div className="px-5 py-3 md:overflow-y-auto">
          {help ? (
            <Help
              kind={doc.kind}
              onPut={
                maker && !isStart && !take
                  ? (lines) => props.commands.make({ what: "paste", line: home, lines })
                  : undefined
              }
              onClose={() => setHelp(false)}
            />
          ) : sample === null ? (
            <p className="text-sm text-soft">Add a sample to see what this line gives.</p>
          ) : result.isPending ? (
            <Loading what="Fetching the result …" />
          ) : result.isError ? (
            <Failed error={result.error} again={() => result.refetch()} />
          ) : (
            <>
              <Iterations list={result.data.iterations} chosen={result.data.address} onChoose={setPlace} />
              <Comparing aside={props.aside} here={here!} onAside={props.onAside} />
              {props.aside && differs(props.aside, here!) ? (
                <Beside before={props.aside} after={{ name: here!.name, result: result.data }} />
              ) : (
                <Reader
                  brand={bench.brand_key}
                  result={result.data}
                  stage={line.stage}
                  state={cell?.state ?? "fresh"}
                  partial={cell?.partial ?? ""}
                  limit={line.limit ?? null}
                  given={props.given}
                  onGiven={props.onGiven}
                />
              )}
            </>
          )}
        </div>
      </div>
      {comparing && (
        <CompareTakes workflow={bench.id} step={home} sample={sample} onClose={() => setComparing(false)} />
      )}
    </section>
  );
}
