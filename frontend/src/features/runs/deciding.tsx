import { useState } from "react";
import { api, ok } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { say, sayError } from "../../components/Toast";

/** A step has failed for good, and a person says how to go on. */
export function Judge({
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
      await mutate(
        api.POST("/api/runs/{id}/judge", { params: { path: { id: run } }, body: { address, choice, text } }),
        "everything",
      );
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
            className="min-w-48 flex-1 rounded border border-rule bg-sheet px-2 py-1"
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
export function TakeUpFrom({
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
      await mutate(
        api.POST("/api/runs/{id}/take-up", { params: { path: { id: run } }, body: { address: step, values: whole } }),
        "everything",
      );
      say("Taken up from this line.");
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
              className="mt-1 w-full rounded border border-rule bg-sheet px-2 py-1"
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
