import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Bench, type Cell, ok, type Schemas } from "../../api/client";
import { Button } from "../../components/Button";
import { Failed, Loading } from "../../components/Quiet";
import { Iterations } from "./Iterations";
import { LineMenu } from "./LineMenu";
import { linesOf, type usePage, withLine } from "./page";
import { Reader } from "./Reader";
import { StartPanel } from "./StartPanel";
import { StepForm } from "./StepForm";
import type { Commands } from "./writing";

type Props = {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  catalogue: Schemas["Catalogue"];
  step: string;
  sample: number | null;
  cell: Cell | undefined;
  limit: number | null;
  maker: boolean;
  given: boolean;
  onGiven: (given: boolean) => void;
  onClose: () => void;
  onRun: (again: boolean) => void;
  onRunRow: () => void;
  onMute: () => void;
  commands: Commands;
};

/** The bench: the chosen line's settings on one side, on the other the reader with the chosen sample's result. */
export function BenchPanel(props: Props) {
  const { bench, page, catalogue, step, sample, cell, maker } = props;
  const [tall, setTall] = useState(false);
  const [place, setPlace] = useState("");
  const doc = linesOf(page.doc).find((l) => l.id === step);
  const line = bench.lines.find((l) => l.id === step);
  const kind = catalogue.kinds.find((k) => k.name === doc?.kind);
  const values = useQuery({
    queryKey: ["values", bench.id, step, sample],
    queryFn: () =>
      ok(api.GET("/api/workflows/{id}/values/{step}", { params: { path: { id: bench.id, step }, query: { sample } } })),
  });
  const result = useQuery({
    queryKey: [
      "cell",
      bench.id,
      sample,
      step,
      place,
      cell?.state === "running" ? "before" : `${cell?.state} ${cell?.at}`,
    ],
    enabled: sample !== null,
    placeholderData: (before) => before,
    queryFn: () =>
      ok(
        api.GET("/api/workflows/{id}/cells/{sample}/{step}", {
          params: { path: { id: bench.id, sample: sample!, step }, query: { place } },
        }),
      ),
  });
  if (!doc || !line) return null;
  const isStart = bench.lines[0]?.id === step;
  return (
    <section
      aria-label="Bench"
      className={`flex shrink-0 flex-col border-t-2 border-ink bg-paper ${tall ? "h-[82vh]" : "h-[54vh]"}`}
    >
      <div className="flex items-center gap-2 border-b border-line px-5 py-1.5">
        <h2 className="smallcaps text-soft">{line.kind_title}</h2>
        <span className="text-xs text-soft">
          called <span className="slot">{step}</span>
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
        {maker && !isStart && (
          <Button look="quiet" onClick={props.onMute} hint="M">
            {doc.muted ? "Unmute" : "Mute"}
          </Button>
        )}
        {maker && <LineMenu line={step} start={isStart} commands={props.commands} />}
        <Button look="quiet" onClick={() => setTall(!tall)} aria-pressed={tall}>
          {tall ? "Lower" : "Taller"}
        </Button>
        <Button look="quiet" onClick={props.onClose} hint="Esc">
          Close
        </Button>
      </div>
      <div className="grid min-h-0 flex-1 grid-cols-2">
        <div data-settings className="overflow-y-auto border-r border-line px-5 py-3">
          {isStart && <StartPanel workflow={bench.id} live={bench.state === "live"} maker={maker} sample={sample} />}
          {kind ? (
            <StepForm
              doc={doc}
              kind={kind}
              catalogue={catalogue}
              above={linesOf(page.doc).slice(0, linesOf(page.doc).indexOf(doc))}
              values={values.data ?? []}
              problems={line.problems}
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
        <div className="overflow-y-auto px-5 py-3">
          {sample === null ? (
            <p className="text-sm text-soft">Add a sample to see what this line gives.</p>
          ) : result.isPending ? (
            <Loading what="Fetching the result …" />
          ) : result.isError ? (
            <Failed error={result.error} again={() => result.refetch()} />
          ) : (
            <>
              <Iterations list={result.data.iterations} chosen={result.data.address} onChoose={setPlace} />
              <Reader
                result={result.data}
                stage={line.stage}
                state={cell?.state ?? "fresh"}
                partial={cell?.partial ?? ""}
                limit={props.limit}
                given={props.given}
                onGiven={props.onGiven}
              />
            </>
          )}
        </div>
      </div>
    </section>
  );
}
