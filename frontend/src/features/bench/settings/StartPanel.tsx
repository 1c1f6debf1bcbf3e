import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ApiError, api, newKey, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import type { FormField } from "../../../components/FormFields";
import { FormFields, useFilled, valuesOf } from "../../../components/FormFields";
import { say, sayError } from "../../../components/Toast";
import { ago, count, when } from "../../../components/words";

type Start = Schemas["StartView"];

/** How the start stands: what it found, when it is next due, the addresses others need, and starting it now. */
export function StartPanel({
  workflow,
  live,
  maker,
  sample,
}: {
  workflow: number;
  live: boolean;
  maker: boolean;
  sample: number | null;
}) {
  const [asking, setAsking] = useState(false);
  const start = useQuery(reads.start(workflow, live));
  if (!start.data) return null;
  const s = start.data;
  const looks = ["poll", "clock", "rows", "runs"].includes(s.listens);
  const look = () => lookNow(workflow);

  return (
    <div className="mb-4 space-y-2 border-b border-line pb-3 text-sm">
      <p className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        {live ? (
          <>
            <span className={s.failed ? "text-brick" : ""}>{s.found || "Not looked at yet."}</span>
            <span className="text-xs text-soft">
              {s.looked_at ? `${looks ? "looked" : "last one"} ${ago(s.looked_at)}` : ""}
              {s.runs > 0 && ` · ${count(s.runs, "run")} so far`}
              {s.queued > 0 && ` · ${s.queued} waiting their turn`}
            </span>
          </>
        ) : (
          <span className="text-soft">{s.rests}</span>
        )}
        {live && maker && (
          <span className="ml-auto flex gap-2">
            {looks && <Button onClick={look}>{s.listens === "clock" ? "Start now" : "Look now"}</Button>}
            {(s.by_hand || sample !== null) && (
              <Button onClick={() => setAsking(true)}>{s.by_hand ? "Start now …" : "Run on this sample …"}</Button>
            )}
          </span>
        )}
      </p>
      {s.passed.length > 0 && <PassedOver titles={s.passed} workflow={workflow} maker={maker} />}
      {s.form_url && <Address label="The form’s address" value={s.form_url} open />}
      {s.call_url && <Address label="Call this address (POST)" value={s.call_url} />}
      {s.call_secret && <Address label="Secret for signing" value={s.call_secret} secret />}
      {asking && <Now start={s} workflow={workflow} sample={sample} onClose={() => setAsking(false)} />}
    </div>
  );
}

async function lookNow(workflow: number) {
  try {
    await mutate(api.POST("/api/workflows/{id}/look", { params: { path: { id: workflow } } }), ["start", workflow]);
  } catch (error) {
    sayError(error);
  }
}

/** What a live page does next, beside its state: when it looks or runs, and having it do so now. */
export function Next({ workflow, maker }: { workflow: number; maker: boolean }) {
  const [asking, setAsking] = useState(false);
  const start = useQuery(reads.start(workflow, true)).data;
  if (!start) return null;
  const looks = ["poll", "rows"].includes(start.listens);
  const run = start.listens === "clock" ? start.next_times[0] : undefined;
  const look = looks && start.next_at && start.next_at * 1000 > Date.now() ? start.next_at : undefined;
  return (
    <span className="flex items-baseline gap-2 text-xs text-soft">
      {run && <span>next run {when(Date.parse(run) / 1000)}</span>}
      {look && (
        <span title={start.looked_at ? `looked ${ago(start.looked_at)}` : undefined}>next look {when(look)}</span>
      )}
      {maker && (looks || start.listens === "clock") && (
        <button type="button" className="text-leaf underline underline-offset-2" onClick={() => lookNow(workflow)}>
          {looks ? "Look now" : "Start now"}
        </button>
      )}
      {maker && start.by_hand && (
        <button type="button" className="text-leaf underline underline-offset-2" onClick={() => setAsking(true)}>
          Start now …
        </button>
      )}
      {asking && <Now start={start} workflow={workflow} sample={null} onClose={() => setAsking(false)} />}
    </span>
  );
}

/** Items that are new in the feed but bear an old date: more likely brought up again than news. */
function PassedOver({ titles, workflow, maker }: { titles: string[]; workflow: number; maker: boolean }) {
  const settle = useMutation({
    mutationFn: (run: boolean) =>
      mutate(api.POST("/api/workflows/{id}/passed", { params: { path: { id: workflow } }, body: { run } }), [
        "start",
        workflow,
      ]),
    onError: sayError,
  });
  return (
    <div className="border-l-2 border-ochre pl-3">
      <p className="text-ochre">○ Passed over: {count(titles.length, "item")} dated long before this went live.</p>
      <p className="line-clamp-2 text-xs text-soft">{titles.join(" · ")}</p>
      {maker && (
        <p className="mt-1 flex gap-2">
          <Button disabled={settle.isPending} onClick={() => settle.mutate(true)}>
            Run for {titles.length === 1 ? "it" : "them"}
          </Button>
          <Button look="quiet" disabled={settle.isPending} onClick={() => settle.mutate(false)}>
            Leave {titles.length === 1 ? "it" : "them"}
          </Button>
        </p>
      )}
    </div>
  );
}

function Address({ label, value, open, secret }: { label: string; value: string; open?: boolean; secret?: boolean }) {
  const [shown, setShown] = useState(!secret);
  return (
    <div className="flex items-baseline gap-2">
      <span className="shrink-0 text-xs text-soft">{label}</span>
      <code className="min-w-0 flex-1 truncate text-xs">{shown ? value : "••••••••••••••••"}</code>
      {secret && (
        <button type="button" className="text-xs underline" onClick={() => setShown(!shown)}>
          {shown ? "Hide" : "Show"}
        </button>
      )}
      <button
        type="button"
        className="text-xs text-leaf underline"
        onClick={() => navigator.clipboard.writeText(value).then(() => say("Copied."), sayError)}
      >
        Copy
      </button>
      {open && (
        <a className="text-xs text-leaf underline" href={value} target="_blank" rel="noreferrer">
          Open
        </a>
      )}
    </div>
  );
}

/** The question before a run that is for real, with the start's fields. */
function Now({
  start,
  workflow,
  sample,
  onClose,
}: {
  start: Start;
  workflow: number;
  sample: number | null;
  onClose: () => void;
}) {
  const go = useNavigate();
  // One key for each time this is opened: pressed twice, or once with its answer lost, it begins one run.
  const [key] = useState(newKey);
  const [inHand, setInHand] = useState("");
  const hand = start.by_hand;
  const fields = (hand ? start.fields : []) as FormField[];
  const filled = useFilled(fields);

  async function begin() {
    try {
      const again = !!inHand;
      const body = hand
        ? { values: await valuesOf(fields, filled), sample: null, key, again }
        : { values: {}, sample, key, again };
      const { run } = await mutate(
        api.POST("/api/workflows/{id}/start", { params: { path: { id: workflow } }, body }),
        "everything",
      );
      go(`/runs/${run}`);
    } catch (error) {
      if (error instanceof ApiError && error.code === "in_hand") setInHand(error.message);
      else if (!filled.refused(error)) sayError(error);
    }
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title={hand ? "Start a run" : "Run on this sample, for real"}
      about="This is no proof: what the page publishes and writes will go out, after the approvals it asks for."
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          begin();
        }}
      >
        <FormFields fields={fields} filled={filled} />
        {inHand && (
          <p role="alert" className="mt-3 text-sm text-brick">
            {inHand}
          </p>
        )}
        <div className="mt-5 flex gap-2">
          <Button look="main" type="submit">
            {inHand ? "Run on it again" : "Start the run"}
          </Button>
          <Button look="quiet" onClick={onClose}>
            Not now
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
