import { type ReactNode, useState } from "react";
import { api, type Bench, ok, queries } from "../../api/client";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { say, sayError } from "../../components/Toast";
import { ago } from "../../components/words";
import { LiveState } from "../workflows/Workflows";
import { LimitsDialog } from "./LimitsDialog";
import type { Saving, usePage } from "./page";

const SAVING: Record<Saving, string> = {
  saved: "Saved",
  saving: "Saving …",
  unsaved: "Not saved yet",
  conflict: "Not saved: changed elsewhere",
};

/** The head of the workbench: the page's name, whether it listens, and the way to going live. */
export function LivePanel({
  bench,
  page,
  maker,
  onChoose,
  children,
}: {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  maker: boolean;
  onChoose: (line: string) => void;
  children: ReactNode;
}) {
  const [asking, setAsking] = useState(false);
  const [limits, setLimits] = useState(false);
  const errors = bench.problems.filter((p) => p.severity === "error");

  async function turn(to: "live" | "pause") {
    const path = { params: { path: { id: bench.id } } };
    try {
      await page.flush();
      if (to === "live") {
        const { revision } = await ok(api.POST("/api/workflows/{id}/live", path));
        say(`Live on revision ${revision}. What is already there is passed over.`);
        setAsking(false);
      } else await ok(api.POST("/api/workflows/{id}/pause", path));
      queries.invalidateQueries({ queryKey: ["bench", bench.id] });
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-5 py-2">
      <div className="min-w-0">
        <input
          aria-label="The workflow’s name"
          value={page.doc.name}
          readOnly={!maker}
          maxLength={120}
          onChange={(e) => e.target.value && page.edit((doc) => ({ ...doc, name: e.target.value }))}
          style={{ width: `${Math.max(12, page.doc.name.length + 1)}ch` }}
          className="max-w-[36rem] truncate rounded bg-transparent font-serif text-xl font-semibold tracking-tight hover:bg-shade"
        />
      </div>
      <LiveState state={bench.state} />
      <span className="text-xs text-soft">
        {bench.brand}
        {bench.revision ? ` · revision ${bench.revision}${bench.changed ? ", changed since" : ""}` : ""}
        {bench.failed || bench.pushed ? "" : bench.looked_at ? ` · looked ${ago(bench.looked_at)}` : ""}
      </span>
      {bench.failed && <span className="text-xs text-brick">✕ {bench.found}</span>}
      <span role="status" className="ml-auto text-xs text-soft">
        {maker ? SAVING[page.saving] : "You may look, not change"}
      </span>
      {children}
      {maker && (
        <>
          {bench.state === "live" && !bench.changed ? (
            <Button onClick={() => turn("pause")}>Pause</Button>
          ) : (
            <Button look="main" onClick={() => setAsking(true)}>
              {bench.state === "live" ? "Make the changes live" : "Go live"}
            </Button>
          )}
          <button
            type="button"
            className="text-xs text-soft underline underline-offset-2"
            onClick={() => setLimits(true)}
          >
            Limits
          </button>
          <a
            className="text-xs text-soft underline underline-offset-2"
            href={`/api/workflows/${bench.id}/file`}
            download
          >
            File
          </a>
        </>
      )}
      {limits && <LimitsDialog bench={bench} page={page} onClose={() => setLimits(false)} />}
      <Dialog
        open={asking}
        onClose={() => setAsking(false)}
        title="Before it goes live"
        about="What is missing keeps it from going live; what is risky is for you to weigh."
      >
        {bench.problems.length === 0 ? (
          <p className="text-sm">Nothing is missing, and nothing looks risky.</p>
        ) : (
          <ul className="space-y-1">
            {bench.problems.map((p, i) => (
              <li key={i}>
                <button
                  type="button"
                  className="w-full border-b border-line py-1.5 text-left text-sm hover:bg-shade"
                  onClick={() => {
                    setAsking(false);
                    onChoose(p.step);
                  }}
                >
                  <span className={p.severity === "error" ? "text-brick" : "text-ochre"}>
                    {p.severity === "error" ? "✕ missing" : "! risky"}
                  </span>{" "}
                  {p.message}{" "}
                  <span className="text-soft">
                    line {bench.lines.filter((l) => l.kind !== "lane").findIndex((l) => l.id === p.step) + 1}
                  </span>
                </button>
              </li>
            ))}
          </ul>
        )}
        <div className="mt-5 flex gap-2">
          <Button look="main" disabled={errors.length > 0} onClick={() => turn("live")}>
            Go live
          </Button>
          {bench.state === "live" && <Button onClick={() => turn("pause")}>Pause instead</Button>}
          <Button look="quiet" onClick={() => setAsking(false)}>
            Not yet
          </Button>
        </div>
      </Dialog>
    </div>
  );
}
