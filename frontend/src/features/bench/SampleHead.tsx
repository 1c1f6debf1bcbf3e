import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { api, type Bench, ok, queries, type Schemas } from "../../api/client";
import { Button } from "../../components/Button";
import { say, sayError } from "../../components/Toast";
import { SampleFromRun, TypeSample } from "./SampleDialogs";

type Sample = Schemas["SampleView"];

const ITEM = "cursor-pointer rounded-[3px] px-3 py-1.5 outline-none data-[highlighted]:bg-shade";
const MENU = "z-50 max-w-sm rounded-[5px] border border-rule bg-sheet p-1 text-sm text-ink shadow-lg";

async function change(workflow: number, act: () => Promise<unknown>) {
  try {
    await act();
    queries.invalidateQueries({ queryKey: ["bench", workflow] });
  } catch (error) {
    sayError(error);
  }
}

/** The head of a proof column: which real item it is. The first is the lead sample. */
export function SampleHead({
  sample,
  number,
  bench,
  chosen,
  maker,
  onRun,
}: {
  sample: Sample;
  number: number;
  bench: Bench;
  chosen: boolean;
  maker: boolean;
  onRun: () => void;
}) {
  const workflow = bench.id;
  const [copying, setCopying] = useState(false);
  const path = { params: { path: { id: workflow, sample: sample.id } } };
  return (
    <div
      role="columnheader"
      className={`border-r border-b border-line border-b-rule px-3 py-2 ${chosen ? "bg-shade" : "bg-paper"}`}
    >
      <div className="flex items-start justify-between gap-2">
        <span title={sample.label} className="line-clamp-2 text-xs font-semibold">
          <span className="text-soft">{number === 1 ? "Lead sample" : `Sample ${number}`} </span>
          {sample.label}
        </span>
        {copying && (
          <TypeSample bench={bench} item={sample.item as Record<string, unknown>} onClose={() => setCopying(false)} />
        )}
        {maker && (
          <DropdownMenu.Root>
            <DropdownMenu.Trigger
              aria-label={`Sample ${number}`}
              className="-mt-0.5 rounded px-1 text-soft hover:bg-shade"
            >
              …
            </DropdownMenu.Trigger>
            <DropdownMenu.Portal>
              <DropdownMenu.Content align="end" className={MENU}>
                <DropdownMenu.Item className={ITEM} onSelect={onRun}>
                  Run this column
                </DropdownMenu.Item>
                {number > 1 && (
                  <DropdownMenu.Item
                    className={ITEM}
                    onSelect={() =>
                      change(workflow, () =>
                        ok(
                          api.PATCH("/api/workflows/{id}/samples/{sample}", {
                            ...path,
                            body: { shown: null, item: null, lead: true },
                          }),
                        ),
                      )
                    }
                  >
                    Make it the lead
                  </DropdownMenu.Item>
                )}
                <DropdownMenu.Item className={ITEM} onSelect={() => setCopying(true)}>
                  Change a copy …
                </DropdownMenu.Item>
                <DropdownMenu.Item
                  className={ITEM}
                  onSelect={() =>
                    change(workflow, () =>
                      ok(
                        api.PATCH("/api/workflows/{id}/samples/{sample}", {
                          ...path,
                          body: { shown: false, item: null, lead: false },
                        }),
                      ),
                    )
                  }
                >
                  Hide it
                </DropdownMenu.Item>
                <DropdownMenu.Item
                  className={`${ITEM} text-brick`}
                  onSelect={() => change(workflow, () => ok(api.DELETE("/api/workflows/{id}/samples/{sample}", path)))}
                >
                  Forget it
                </DropdownMenu.Item>
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
        )}
      </div>
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
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button look="quiet" disabled={add.busy} title="One more sample">
            {add.busy ? "Looking …" : "Add …"}
          </Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" className={MENU}>
            <DropdownMenu.Item className={ITEM} onSelect={() => add.latest(1)}>
              The start’s latest item
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => add.open("type")}>
              Type one in …
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => add.open("run")}>
              From a run …
            </DropdownMenu.Item>
            {hidden.length > 0 && (
              <DropdownMenu.Label className="smallcaps px-3 pt-2 text-soft">Hidden</DropdownMenu.Label>
            )}
            {hidden.map((s) => (
              <DropdownMenu.Item
                key={s.id}
                className={ITEM}
                onSelect={() =>
                  change(bench.id, () =>
                    ok(
                      api.PATCH("/api/workflows/{id}/samples/{sample}", {
                        params: { path: { id: bench.id, sample: s.id } },
                        body: { shown: true, item: null, lead: false },
                      }),
                    ),
                  )
                }
              >
                {s.label}
              </DropdownMenu.Item>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {add.dialog}
    </div>
  );
}

/** Ways to the first sample, said where the proofs will stand. */
export function FirstSample({ bench }: { bench: Bench }) {
  const add = useAddSample(bench);
  return (
    <div className="mt-3 flex flex-wrap gap-2">
      <Button look="main" disabled={add.busy} onClick={() => add.latest(3)}>
        {add.busy ? "Looking …" : "Take the latest from the start"}
      </Button>
      <Button onClick={() => add.open("type")}>Type one in …</Button>
      {add.dialog}
    </div>
  );
}

function useAddSample(bench: Bench) {
  const [busy, setBusy] = useState(false);
  const [opened, open] = useState<"" | "type" | "run">("");
  async function latest(count: number) {
    setBusy(true);
    try {
      await ok(
        api.POST("/api/workflows/{id}/samples", { params: { path: { id: bench.id } }, body: { item: null, count } }),
      );
      await queries.refetchQueries({ queryKey: ["bench", bench.id] });
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
    ) : opened === "run" ? (
      <SampleFromRun bench={bench} onClose={close} />
    ) : null;
  return { busy, latest, open, dialog };
}
