/** What can be undone and done again: states of something, oldest first. */

/** Changes of one thing within so many milliseconds count as one. */
const ONE_CHANGE = 1500;
const MOST_KEPT = 500;

export class History<T> {
  private past: T[] = [];
  private future: T[] = [];
  private latest = { at: 0, what: "" };

  /** How often one can go back, and on again. */
  get steps() {
    return { back: this.past.length, on: this.future.length };
  }

  /** Keep the state before a change; `what` names what was changed, empty for a change by itself. */
  keep(before: T, what: string, at: number) {
    const same = what && what === this.latest.what && at - this.latest.at < ONE_CHANGE;
    this.latest = { at, what };
    if (!same) this.past = [...this.past.slice(1 - MOST_KEPT), before];
    this.future = [];
  }

  /** What was before cannot be brought back any more. */
  forget() {
    this.past = [];
    this.future = [];
  }

  /** The state before this one; `null` where there is none. */
  undo(now: T): T | null {
    return this.travel(this.past, this.future, now);
  }

  /** The state that was undone last; `null` where there is none. */
  redo(now: T): T | null {
    return this.travel(this.future, this.past, now);
  }

  private travel(from: T[], to: T[], now: T): T | null {
    const other = from.pop();
    if (other === undefined) return null;
    to.push(now);
    this.latest = { at: 0, what: "" };
    return other;
  }
}
