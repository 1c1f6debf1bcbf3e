import type { ReactNode } from "react";

type Tone = "leaf" | "ochre" | "brick" | "soft";

const TONES: Record<Tone, string> = { leaf: "text-leaf", ochre: "text-ochre", brick: "text-brick", soft: "text-soft" };

/** A state told by shape and word, and only then by colour. */
export function State({ tone, mark, children }: { tone: Tone; mark: string; children: ReactNode }) {
  return (
    <span className={`inline-flex items-baseline gap-1 text-xs ${TONES[tone]}`}>
      <span aria-hidden className="font-sans">
        {mark}
      </span>
      <span>{children}</span>
    </span>
  );
}

const RUNS: Record<string, [Tone, string, string]> = {
  running: ["leaf", "▸", "running"],
  queued: ["soft", "◔", "waits its turn"],
  resting: ["ochre", "◔", "waits until later"],
  held: ["ochre", "‖", "paused"],
  stuck: ["brick", "?", "asks how to go on"],
  waiting: ["ochre", "◔", "will try again"],
  asking: ["ochre", "○", "waits for a person"],
  unsure: ["brick", "?", "in doubt"],
  failed: ["brick", "✕", "failed"],
  done: ["leaf", "●", "done"],
  declined: ["soft", "–", "declined"],
  cancelled: ["soft", "–", "cancelled"],
  skipped: ["soft", "–", "passed over"],
};

/** A run's state. */
export function RunState({ state }: { state: string }) {
  const [tone, mark, word] = RUNS[state] ?? ["soft", "·", state];
  return (
    <State tone={tone} mark={mark}>
      {word}
    </State>
  );
}
