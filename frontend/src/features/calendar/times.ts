/** Days and weeks of the calendar, by the clock where it is looked at. Moments are seconds since the epoch. */

export const DAY = 86_400;

/** Midnight at the beginning of a moment's day. */
export function midnight(at: number): number {
  const date = new Date(at * 1000);
  return new Date(date.getFullYear(), date.getMonth(), date.getDate()).getTime() / 1000;
}

/** So many days on, at the same time by the clock, also across a change of the clocks. */
export function daysOn(at: number, days: number): number {
  const date = new Date(at * 1000);
  date.setDate(date.getDate() + days);
  return date.getTime() / 1000;
}

/** Monday's midnight of a moment's week. */
export function weekOf(at: number): number {
  const date = new Date(at * 1000);
  return daysOn(midnight(at), -((date.getDay() + 6) % 7));
}

/** The midnights of so many days from one on. */
export const daysFrom = (first: number, count: number) => Array.from({ length: count }, (_, n) => daysOn(first, n));

/** A moment's time by the clock on another day. */
export function onDay(at: number, day: number): number {
  const time = new Date(at * 1000);
  const date = new Date(day * 1000);
  date.setHours(time.getHours(), time.getMinutes(), time.getSeconds(), 0);
  return date.getTime() / 1000;
}

/** “2026-11-30” for a day, and the day for that; nothing where it is none. */
export function named(day: number): string {
  const date = new Date(day * 1000);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())}`;
}

export function dayOf(name: string | null): number | null {
  const found = /^(\d{4})-(\d\d)-(\d\d)$/.exec(name ?? "");
  return found ? new Date(Number(found[1]), Number(found[2]) - 1, Number(found[3])).getTime() / 1000 : null;
}

/** A moment as a field for date and time holds it, and back. */
export const inField = (at: number) => {
  const date = new Date(at * 1000);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${named(at)}T${two(date.getHours())}:${two(date.getMinutes())}`;
};
export const fromField = (value: string) => new Date(value).getTime() / 1000;

/** Things with a moment, by the day they are on. */
export function byDay<T extends { at: number }>(things: readonly T[]): Map<number, T[]> {
  const found = new Map<number, T[]>();
  for (const thing of things) {
    const day = midnight(thing.at);
    found.set(day, [...(found.get(day) ?? []), thing]);
  }
  return found;
}
