import { useState } from "react";
import { api, type Bench, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import { Button } from "../../../components/Button";
import { Dots, Item, Menu, MenuHead } from "../../../components/Menu";
import { say, sayError, sayGone } from "../../../components/Toast";
import { count } from "../../../components/words";
import { ChooseSamples, SampleFromRun, TypeSample } from "./SampleDialogs";

type Sample = Schemas["SampleView"];

async function change(act: () => Promise<unknown>) {
  try {
    await act();
  } catch (error) {
    sayError(error);
  }
}

/** Show or hide a sample, or make it the lead. */
const alter = (workflow: number, sample: number, how: { shown?: boolean; lead?: boolean }) =>
  change(() =>
    mutate(
      api.PATCH("/api/workflows/{id}/samples/{sample}", {
        params: { path: { id: workflow, sample } },
        body: { shown: null, item: null, lead: false, ...how },
      }),
      ["bench", workflow],
    ),
  );

/** The head of a proof column: which real item it is. The first is the lead sample. */
export function SampleHead({
  sample,
  number,
  bench,
  chosen,
  maker,
  failed,
  onFailed,
  onRun,
}: {
  sample: Sample;
  number: number;
  bench: Bench;
  chosen: boolean;
  maker: boolean;
  /** How many of its proofs failed; pressed, the first of them is shown. */
  failed: number;
  onFailed: () => void;
  onRun: () => void;
}) {
  const workflow = bench.id;
  const [copying, setCopying] = useState(false);
  const path = { params: { path: { id: workflow, sample: sample.id } } };
  async function forget() {
    await mutate(api.DELETE("/api/workflows/{id}/samples/{sample}", path), ["bench", workflow]);
    const again = () =>
      mutate(
        api.POST("/api/workflows/{id}/samples", {
          params: { path: { id: workflow } },
          body: { item: sample.item as Record<string, unknown>, count: 1, identities: [] },
        }),
        ["bench", workflow],
      );
    sayGone(`“${sample.label}” is no sample any more.`, () => change(again));
  }
  return (
    <div
      role="columnheader"
      className={`border-r border-b border-line border-b-rule px-3 py-2 ${chosen ? "bg-shade" : "bg-paper"}`}
    >
      <div className="flex items-start justify-between gap-2">
        <span id={`sample-${sample.id}`} title={sample.label} className="line-clamp-2 text-xs font-semibold">
          <span className="text-soft">{number === 1 ? "Lead sample" : `Sample ${number}`} </span>
          {sample.label}
        </span>
        {copying && (
          <TypeSample bench={bench} item={sample.item as Record<string, unknown>} onClose={() => setCopying(false)} />
        )}
        {maker && (
          <Menu opens={<Dots label={`Sample ${number}`} />}>
            <Item onSelect={onRun}>Run this column</Item>
            {number > 1 && <Item onSelect={() => alter(workflow, sample.id, { lead: true })}>Make it the lead</Item>}
            <Item onSelect={() => setCopying(true)}>Change a copy …</Item>
            <Item onSelect={() => alter(workflow, sample.id, { shown: false })}>Hide it</Item>
            <Item grave onSelect={() => change(forget)}>
              Forget it
            </Item>
          </Menu>
        )}
      </div>
      {failed > 0 && (
        <button type="button" onClick={onFailed} className="text-xs text-brick underline underline-offset-2">
          ✕ {count(failed, "proof")} failed
        </button>
      )}
    </div>
  );
}

/** One more sample: the start's next latest item, one typed in, one from a run, or one that was hidden. */
export function AddSample({ bench, maker }: { bench: Bench; maker: boolean }) {
  const add = useAddSample(bench);
  const hidden = bench.samples.filter((s) => !s.shown);
  if (!maker) return <div role="columnheader" className="border-b border-rule bg-paper" />;
  return (
    <div role="columnheader" className="border-b border-rule bg-paper px-1 py-1.5">
      <Menu
        opens={
          <Button look="quiet" disabled={add.busy} title="One more sample">
            {add.busy ? "Looking …" : "Add …"}
          </Button>
        }
      >
        <Item onSelect={() => add.latest(1)}>The start’s latest item</Item>
        <Item onSelect={() => add.open("choose")}>Choose from the start …</Item>
        <Item onSelect={() => add.open("type")}>Type one in …</Item>
        <Item onSelect={() => add.open("run")}>From a run …</Item>
        {hidden.length > 0 && <MenuHead>Hidden</MenuHead>}
        {hidden.map((s) => (
          <Item key={s.id} onSelect={() => alter(bench.id, s.id, { shown: true })}>
            {s.label}
          </Item>
        ))}
      </Menu>
      {add.dialog}
    </div>
  );
}

/** Ways to the first sample, said where the proofs will stand. */
export function FirstSample({ bench }: { bench: Bench }) {
  const add = useAddSample(bench);
  return (
    <div className="mt-3 flex flex-wrap gap-2">
      {!bench.pushed && (
        <Button look="main" disabled={add.busy} onClick={() => add.latest(3)}>
          {add.busy ? "Looking …" : "Take the latest from the start"}
        </Button>
      )}
      {!bench.pushed && <Button onClick={() => add.open("choose")}>Choose …</Button>}
      <Button look={bench.pushed ? "main" : "plain"} onClick={() => add.open("type")}>
        Type one in …
      </Button>
      {add.dialog}
    </div>
  );
}

function useAddSample(bench: Bench) {
  const [busy, setBusy] = useState(false);
  const [opened, open] = useState<"" | "choose" | "type" | "run">("");
  async function latest(count: number) {
    setBusy(true);
    try {
      await mutate(
        api.POST("/api/workflows/{id}/samples", {
          params: { path: { id: bench.id } },
          body: { item: null, count, identities: [] },
        }),
        ["bench", bench.id],
      );
      say("Kept as a sample. Run it to see its proofs.");
    } catch (error) {
      sayError(error);
    } finally {
      setBusy(false);
    }
  }
  const close = () => open("");
  const dialog =
    opened === "type" ? (
      <TypeSample bench={bench} item={null} onClose={close} />
    ) : opened === "choose" ? (
      <ChooseSamples bench={bench} onClose={close} />
    ) : opened === "run" ? (
      <SampleFromRun bench={bench} onClose={close} />
    ) : null;
  return { busy, latest, open, dialog };
}
