import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { api, type Bench, ok, queries, type Schemas } from "../../api/client";
import { Button } from "../../components/Button";
import { say, sayError } from "../../components/Toast";

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

/** The head of a proof column: which real item it is. */
export function SampleHead({
  sample,
  number,
  workflow,
  chosen,
  maker,
  onRun,
}: {
  sample: Sample;
  number: number;
  workflow: number;
  chosen: boolean;
  maker: boolean;
  onRun: () => void;
}) {
  const path = { params: { path: { id: workflow, sample: sample.id } } };
  return (
    <div
      role="columnheader"
      className={`sticky top-0 z-10 border-r border-b border-line border-b-rule px-3 py-2 ${chosen ? "bg-shade" : "bg-paper"}`}
    >
      <div className="flex items-start justify-between gap-2">
        <span title={sample.label} className="line-clamp-2 text-xs font-semibold">
          <span className="text-soft">Sample {number} </span>
          {sample.label}
        </span>
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
                <DropdownMenu.Item
                  className={ITEM}
                  onSelect={() =>
                    change(workflow, () =>
                      ok(
                        api.PATCH("/api/workflows/{id}/samples/{sample}", {
                          ...path,
                          body: { shown: false, item: null },
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

/** One more sample: the start's next latest item, or one that was hidden. */
export function AddSample({ bench, maker }: { bench: Bench; maker: boolean }) {
  const [busy, setBusy] = useState(false);
  const hidden = bench.samples.filter((s) => !s.shown);
  if (!maker) return <div role="columnheader" className="sticky top-0 z-10 border-b border-rule bg-paper" />;

  async function capture() {
    setBusy(true);
    try {
      const count = bench.samples.length ? 1 : 3;
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

  return (
    <div role="columnheader" className="sticky top-0 z-10 border-b border-rule bg-paper px-1 py-1.5">
      <Button look="quiet" disabled={busy} onClick={capture} title="Keep the start’s next item as a sample">
        {busy ? "Looking …" : "Add"}
      </Button>
      {hidden.length > 0 && (
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className="px-3 text-xs text-soft underline">
            {hidden.length} hidden
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" className={MENU}>
              {hidden.map((s) => (
                <DropdownMenu.Item
                  key={s.id}
                  className={ITEM}
                  onSelect={() =>
                    change(bench.id, () =>
                      ok(
                        api.PATCH("/api/workflows/{id}/samples/{sample}", {
                          params: { path: { id: bench.id, sample: s.id } },
                          body: { shown: true, item: null },
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
      )}
    </div>
  );
}
