/** The page as a document: its lines found, changed, and two people's edits laid together. Nothing here is drawn or sent. */
export type Policy = { retries: number; wait: number; after?: "stop" | "skip" | "value" | "ask"; value?: string };
export type LaneDoc = { id: string; when?: string; muted?: boolean; steps: LineDoc[] };
export type LineDoc = {
  id: string;
  kind: string;
  settings: Record<string, unknown>;
  muted?: boolean;
  on_failure?: Policy;
  steps?: LineDoc[];
  lanes?: LaneDoc[];
  guesses?: Record<string, { value?: unknown; why?: string }>;
};
export type PageDoc = { name: string; brand: string | null; start: LineDoc; steps: LineDoc[] } & Record<
  string,
  unknown
>;

/** Stands for an edit of the page as a whole, which cannot be laid over another's. */
export const WHOLE = "*";

/** A page as it is edited: as it stands, as the server last had it, and the lines edited since. */
export type Edited = { doc: PageDoc; base: PageDoc; touched: Set<string> };

/** My edits laid over someone else's page, where they touched other lines; `null` where a person has to say. */
export function merged(mine: Edited, theirs: PageDoc): PageDoc | null {
  if (mine.touched.has(WHOLE)) return null;
  const find = (doc: PageDoc, line: string) => linesOf(doc).find((l) => l.id === line);
  const same = (line: string) => JSON.stringify(find(theirs, line)) === JSON.stringify(find(mine.base, line));
  if (![...mine.touched].every((line) => find(theirs, line) && find(mine.doc, line) && same(line))) return null;
  return laidOver(theirs, mine.doc, mine.touched);
}

/** A page with some lines as they stand in another; lines that other does not have stay. */
export const laidOver = (doc: PageDoc, mine: PageDoc, touched: Set<string>) =>
  [...touched].reduce((doc, id) => withLine(doc, id, (l) => linesOf(mine).find((m) => m.id === id) ?? l), doc);

/** The lines of a document from top to bottom, the start first, those inside blocks too. */
export const linesOf = (doc: PageDoc) => [doc.start, ...doc.steps.flatMap(within)];

function within(line: LineDoc): LineDoc[] {
  const inside = [...(line.steps ?? []), ...(line.lanes ?? []).flatMap((lane) => lane.steps)];
  return [line, ...inside.flatMap(within)];
}

/** A line of which one guess is said to be right. */
export function sure(line: LineDoc, guess: string): LineDoc {
  const { [guess]: _, ...guesses } = line.guesses ?? {};
  return { ...line, guesses };
}

/** A document with one line changed, wherever it stands. */
export function withLine(doc: PageDoc, id: string, change: (line: LineDoc) => LineDoc): PageDoc {
  if (doc.start.id === id) return { ...doc, start: change(doc.start) };
  return { ...doc, steps: doc.steps.map((line) => changed(line, id, change)) };
}

function changed(line: LineDoc, id: string, change: (line: LineDoc) => LineDoc): LineDoc {
  if (line.id === id) return change(line);
  if (!line.steps && !line.lanes) return line;
  return {
    ...line,
    ...(line.steps && { steps: line.steps.map((one) => changed(one, id, change)) }),
    ...(line.lanes && {
      lanes: line.lanes.map((lane) => ({ ...lane, steps: lane.steps.map((one) => changed(one, id, change)) })),
    }),
  };
}

/** A document with one lane of a fork changed. */
export function withLane(doc: PageDoc, id: string, change: (lane: LaneDoc) => LaneDoc): PageDoc {
  const fork = linesOf(doc).find((line) => line.lanes?.some((lane) => lane.id === id));
  if (!fork) return doc;
  return withLine(doc, fork.id, (line) => ({
    ...line,
    lanes: line.lanes!.map((lane) => (lane.id === id ? change(lane) : lane)),
  }));
}

/** The settings in which these lines differ between two states of a page: what one goes back to field by field. */
export function changedFields(before: PageDoc, after: PageDoc, lines: string[]): string[] {
  const was = new Map(linesOf(before).map((line) => [line.id, line.settings]));
  return linesOf(after)
    .filter((line) => lines.includes(line.id))
    .flatMap((line) => {
      const old = was.get(line.id) ?? {};
      return Object.keys({ ...old, ...line.settings }).filter((name) => old[name] !== line.settings[name]);
    });
}
