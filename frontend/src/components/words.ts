/** Small words for times, money and numbers, the same everywhere. */

const time = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", hour12: false });
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });
const weekday = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long" });

export const clock = (at: number) => time.format(at * 1000);
export const longDay = (at: number) => weekday.format(at * 1000);

/** “14:05” today, “22 Nov, 14:05” otherwise. */
export function when(at: number): string {
  const date = new Date(at * 1000);
  return date.toDateString() === new Date().toDateString() ? clock(at) : `${day.format(date)}, ${clock(at)}`;
}

/** “just now”, “12 minutes”, “3 hours”, “5 days”. */
export function ago(at: number): string {
  const seconds = Math.max(0, Date.now() / 1000 - at);
  if (seconds < 60) return "just now";
  const [size, word] = seconds < 3600 ? [60, "minute"] : seconds < 86400 ? [3600, "hour"] : [86400, "day"];
  const count = Math.floor(seconds / (size as number));
  return `${count} ${word}${count === 1 ? "" : "s"} ago`;
}

/** A moment as a field for dates (10 signs) or for dates and times (16) takes it, here. */
export function forField(at: number | null | undefined, signs: 10 | 16): string {
  if (!at) return "";
  const date = new Date(at * 1000);
  return new Date(date.getTime() - date.getTimezoneOffset() * 60_000).toISOString().slice(0, signs);
}

/** How long something lasts, in the largest whole unit: “3 hours”, “7 days”. */
export function lasting(seconds: number): string {
  const units: [number, string][] = [
    [86400, "day"],
    [3600, "hour"],
    [60, "minute"],
  ];
  const [size, word] = units.find(([one]) => seconds >= one) ?? [1, "second"];
  const n = Math.round(seconds / size);
  return `${n} ${word}${n === 1 ? "" : "s"}`;
}

/** Money with as many places as it needs to be more than nothing. */
export function money(amount: number): string {
  const places = amount === 0 || amount >= 1 ? 2 : 4;
  return `€ ${amount.toFixed(places)}`;
}

export const count = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString()} ${n === 1 ? one : many}`;

export const RUN_WORDS: Record<string, string> = {
  queued: "waits its turn",
  running: "running",
  resting: "waits until later",
  waiting: "will try again",
  held: "paused",
  stuck: "asks how to go on",
  asking: "waits for a person",
  unsure: "in doubt",
  failed: "failed",
  done: "done",
  declined: "declined",
  cancelled: "cancelled",
  skipped: "passed over",
};

const graphemes = new Intl.Segmenter(undefined, { granularity: "grapheme" });

/** How many characters one sees (extended grapheme clusters, UAX #29), as the rules count. */
export function characters(text: string): number {
  let count = 0;
  for (const _ of graphemes.segment(text)) count += 1;
  return count;
}
