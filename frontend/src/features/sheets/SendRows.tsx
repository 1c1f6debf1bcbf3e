import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type ApiError, api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Choice, Field } from "../../components/Field";
import { say } from "../../components/Toast";
import { count } from "../../components/words";

/** Chosen rows sent through a workflow that starts from this sheet: a run for each. */
export function SendRows({ sheet, ids, onClose }: { sheet: string; ids: number[]; onClose: (sent: boolean) => void }) {
  const path = { params: { path: { key: sheet } } };
  const takers = useQuery(reads.takers(sheet));
  const [chosen, setChosen] = useState<number | null>(null);
  const [again, setAgain] = useState(false);
  const [paced, setPaced] = useState(false);
  const [aDay, setADay] = useState(10);
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  const list = takers.data ?? [];
  const workflow = chosen ?? list[0]?.id;

  async function send() {
    if (!workflow) return;
    setBusy(true);
    try {
      const sent = await mutate(
        api.POST("/api/sheets/{key}/rows/send", { ...path, body: { workflow, ids, again, a_day: paced ? aDay : 0 } }),
        "runs",
        ["sheet", sheet, "workflows"],
      );
      const left = sent.left_out ? ` ${count(sent.left_out, "row")} left out: empty, used, or sent before.` : "";
      say(
        paced
          ? `${count(sent.count, "row")} go through, ${aDay} a day.${left}`
          : `${count(sent.count, "run")} began.${left}`,
      );
      onClose(true);
    } catch (error) {
      setWrong((error as ApiError).message);
    } finally {
      setBusy(false);
    }
  }

  return (
    <Dialog
      open
      onClose={() => onClose(false)}
      title={`Send ${count(ids.length, "row")} through a workflow`}
      about="Each row begins a run, for real. What the page publishes waits for the approvals it asks for."
    >
      {takers.isPending ? (
        <p className="text-sm text-soft">Looking which workflows take these rows …</p>
      ) : list.length === 0 ? (
        <p className="text-sm">
          No live workflow starts from this sheet. Make one whose first line is <em>New row in a sheet</em> or{" "}
          <em>Next unused row of a sheet</em>, and make it live.
        </p>
      ) : (
        <div className="space-y-3">
          <Field label="Through">
            <Choice value={String(workflow)} onChange={(e) => setChosen(Number(e.target.value))}>
              {list.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </Choice>
          </Field>
          <Field label="When" group>
            <label className="flex items-baseline gap-2 text-sm">
              <input type="radio" name="when" checked={!paced} onChange={() => setPaced(false)} /> All now
            </label>
            <label className="flex items-baseline gap-2 text-sm">
              <input type="radio" name="when" checked={paced} onChange={() => setPaced(true)} /> So many a day, from
              today on:
              <input
                type="number"
                aria-label="Rows a day"
                min={1}
                max={10000}
                value={aDay}
                onFocus={() => setPaced(true)}
                onChange={(e) => setADay(Math.max(1, Math.min(10000, Number(e.target.value) || 1)))}
                className="w-20 rounded border border-rule bg-sheet px-2 py-0.5 text-sm"
              />
            </label>
          </Field>
          <label className="flex items-baseline gap-2 text-sm">
            <input type="checkbox" checked={again} onChange={(e) => setAgain(e.target.checked)} /> Also those it has had
            before
          </label>
        </div>
      )}
      {wrong && (
        <p role="alert" className="mt-3 text-sm text-brick">
          {wrong}
        </p>
      )}
      <div className="mt-5 flex gap-2">
        {list.length > 0 && (
          <Button look="main" disabled={busy} onClick={send}>
            {paced ? `Send ${aDay} a day` : `Begin ${count(ids.length, "run")}`}
          </Button>
        )}
        <Button look="quiet" onClick={() => onClose(false)}>
          Not now
        </Button>
      </div>
    </Dialog>
  );
}
