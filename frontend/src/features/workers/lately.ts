/** Seconds without a word after which a worker counts as gone: its house takes its steps away by then. */
export const GONE = 30;

/** How a worker stands that was heard of so many seconds ago, in words, and whether it is to be worried about. */
export function lately(worker: { heard: number; at_work: number }): { says: string; gone: boolean } {
  if (worker.heard < GONE) return { says: worker.at_work ? "at work" : "ready", gone: false };
  if (worker.heard < 90) return { says: `not heard of for ${Math.round(worker.heard)} seconds`, gone: true };
  const minutes = Math.round(worker.heard / 60);
  return { says: `not heard of for ${minutes} minute${minutes === 1 ? "" : "s"}`, gone: true };
}
