/**
 * The page being written: edits are kept at once, saved a moment later, and never overwrite someone else's.
 * Every change can be undone; changes of the page's shape are made by the server, which knows the values' names.
 */
import { useCallback, useEffect, useRef, useState } from "react";
import { ApiError, api, type Bench, ok, queries, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import { changedFields, type Edited, laidOver, merged, type PageDoc, WHOLE } from "./document";
import { History } from "./history";
import { stillTyping } from "./typing";

export type Saving = "saved" | "saving" | "unsaved" | "conflict";

export type Change = Partial<Schemas["EditBody"]> & { what: Schemas["EditBody"]["what"] };

const PAUSE = 250;
/** Whoever types on without a pause has it saved so often. */
const LONGEST_UNSAVED = 3000;

/** The document with its edits. `stale` names the lines whose results an unsaved edit has put out of date. */
export function usePage(bench: Bench) {
  const [doc, setDoc] = useState<PageDoc>(bench.document as PageDoc);
  const [saving, setSaving] = useState<Saving>("saved");
  const [stale, setStale] = useState<Set<string>>(new Set());
  const [wrong, setWrong] = useState("");
  // `base` is the page as the server last had it here, `touched` the lines edited since.
  const now = useRef({
    doc,
    base: doc,
    touched: new Set<string>(),
    version: bench.version,
    dirty: false,
    busy: false,
    since: 0,
  });
  const timer = useRef(0);
  const history = useRef(new History<PageDoc>());
  const [steps, setSteps] = useState({ back: 0, on: 0 });

  /** Keep the page as it was, so that what follows can be undone. */
  const keep = useCallback((before: PageDoc, what: string) => {
    history.current.keep(before, what, Date.now());
    setSteps(history.current.steps);
  }, []);

  /** Someone else's changes came in: what was before them cannot be brought back without undoing theirs too. */
  const forget = useCallback(() => {
    history.current.forget();
    setSteps(history.current.steps);
  }, []);

  // biome-ignore lint/correctness/useExhaustiveDependencies: `later` and `save` call one another
  const save = useCallback(async () => {
    const here = now.current;
    if (!here.dirty || here.busy) return;
    here.busy = true;
    here.dirty = false;
    let failed = false;
    const sent = here.doc;
    const touched = here.touched;
    here.touched = new Set();
    setSaving("saving");
    try {
      const path = { params: { path: { id: bench.id } }, body: { document: here.doc, version: here.version } };
      const saved = await mutate(api.PUT("/api/workflows/{id}", path), ["bench", bench.id]);
      here.version = saved.version;
      here.base = sent;
      setWrong("");
      if (!here.dirty) {
        setSaving("saved");
        setStale(new Set());
      }
    } catch (error) {
      here.dirty = failed = true;
      for (const line of touched) here.touched.add(line);
      const status = error instanceof ApiError ? error.status : 0;
      const merged = status === 409 ? await merge(bench.id, here) : null;
      if (merged) {
        // Someone changed other lines meanwhile: both changes stand.
        here.doc = merged.doc;
        here.base = merged.theirs;
        here.version = merged.version;
        setDoc(here.doc);
        forget();
        here.busy = failed = false;
        timer.current = window.setTimeout(later, 0);
        return;
      }
      setSaving(status === 409 ? "conflict" : "unsaved");
      setWrong((error as Error).message);
      if (status === 0 || status >= 500) timer.current = window.setTimeout(save, 3000);
    } finally {
      here.busy = false;
    }
    // Edits made while this was on its way follow at once; after a refusal it is the person's turn.
    if (here.dirty && !failed && !timer.current) timer.current = window.setTimeout(later, PAUSE);
  }, [bench.id]);

  const later = useCallback(() => {
    timer.current = 0;
    if (stillTyping(PAUSE) && performance.now() - now.current.since < LONGEST_UNSAVED)
      timer.current = window.setTimeout(later, PAUSE);
    else save();
  }, [save]);

  const edit = useCallback(
    (change: (doc: PageDoc) => PageDoc, touched: string[] = []) => {
      const here = now.current;
      const before = here.doc;
      here.doc = change(before);
      keep(before, touched.length ? [...touched, ...changedFields(before, here.doc, touched)].join() : "");
      if (!here.dirty) here.since = performance.now();
      here.dirty = true;
      // An edit of the page as a whole cannot be laid over another's.
      for (const line of touched.length ? touched : [WHOLE]) here.touched.add(line);
      setDoc(here.doc);
      setSaving("saving");
      if (touched.length) {
        setStale((before) => {
          const more = touched.flatMap((id) => [id, ...(bench.lines.find((l) => l.id === id)?.dependents ?? [])]);
          return more.every((id) => before.has(id)) ? before : new Set([...before, ...more]);
        });
      }
      window.clearTimeout(timer.current);
      timer.current = window.setTimeout(later, PAUSE);
    },
    [bench.lines, later, keep],
  );

  // Someone else's save, or our own reload: take it in unless we have edits of our own.
  useEffect(() => {
    const here = now.current;
    if (bench.version > here.version && !here.dirty && !here.busy) {
      here.doc = here.base = bench.document as PageDoc;
      here.version = bench.version;
      setDoc(here.doc);
      forget();
    }
  }, [bench.version, bench.document, forget]);

  useEffect(() => {
    const warn = (event: BeforeUnloadEvent) => {
      if (now.current.dirty) event.preventDefault();
    };
    window.addEventListener("beforeunload", warn);
    return () => {
      window.removeEventListener("beforeunload", warn);
      window.clearTimeout(timer.current);
      timer.current = 0;
      save();
    };
  }, [save]);

  /** After a conflict: keep mine over theirs, or take theirs. */
  const settle = useCallback(
    async (mine: boolean) => {
      const fresh = await ok(api.GET("/api/workflows/{id}/bench", { params: { path: { id: bench.id } } }));
      const here = now.current;
      here.version = fresh.version;
      if (!mine) {
        here.doc = here.base = fresh.document as PageDoc;
        here.touched.clear();
        here.dirty = false;
        setDoc(here.doc);
        forget();
        setSaving("saved");
        setStale(new Set());
        queries.setQueryData(["bench", bench.id], fresh);
      } else {
        here.dirty = true;
        save();
      }
    },
    [bench.id, save, forget],
  );

  /** Save what is unsaved now, and wait for it. */
  const flush = useCallback(async () => {
    window.clearTimeout(timer.current);
    timer.current = 0;
    await save();
    while (now.current.busy) await new Promise((done) => setTimeout(done, 20));
  }, [save]);

  /** Change the page's shape; gives the line to look at next. Refused in words where it cannot be done. */
  const change = useCallback(
    async (body: Change): Promise<string> => {
      await flush();
      const here = now.current;
      if (here.dirty) throw new ApiError("The last change is not saved yet. Try again in a moment.", 0);
      const empty = { line: "", kind: "", settings: {}, lines: {}, parent: "", index: 0, name: "", moving: [] };
      const path = { params: { path: { id: bench.id } }, body: { ...empty, ...body, version: here.version } };
      const before = here.doc;
      here.busy = true; // news of this very change must not be taken for someone else's
      try {
        const made = await mutate(api.POST("/api/workflows/{id}/edits", path), ["bench", bench.id]);
        keep(before, "");
        here.base = made.document as PageDoc;
        // What was typed meanwhile is laid over it, and saved after.
        here.doc = laidOver(here.base, here.doc, here.touched);
        here.version = made.version;
        setDoc(here.doc);
        return made.line;
      } catch (error) {
        if (error instanceof ApiError && error.status === 409) {
          setSaving("conflict");
          setWrong(error.message);
        }
        throw error;
      } finally {
        here.busy = false;
        if (here.dirty && !timer.current) timer.current = window.setTimeout(later, PAUSE);
      }
    },
    [bench.id, flush, keep, later],
  );

  const travel = useCallback(
    (way: "undo" | "redo") => {
      const here = now.current;
      const other = history.current[way](here.doc);
      if (!other) return false;
      here.doc = other;
      here.dirty = true;
      here.touched.add(WHOLE);
      setDoc(other);
      setSteps(history.current.steps);
      window.clearTimeout(timer.current);
      timer.current = 0;
      save();
      return true;
    },
    [save],
  );
  const undo = useCallback(() => travel("undo"), [travel]);
  const redo = useCallback(() => travel("redo"), [travel]);

  return { doc, edit, change, undo, redo, steps, saving, stale, wrong, settle, flush };
}

/** My edits laid over someone else's, where they touched other lines; `null` where a person has to say. */
async function merge(id: number, mine: Edited) {
  const fresh = await ok(api.GET("/api/workflows/{id}/bench", { params: { path: { id } } })).catch(() => null);
  const theirs = fresh?.document as PageDoc | undefined;
  const doc = theirs ? merged(mine, theirs) : null;
  return doc && { doc, theirs: theirs!, version: fresh!.version };
}

/** A cell in words, for where it is compared. */
export const nameOf = (bench: Bench, step: string, sample: number) => {
  const line = bench.lines.find((l) => l.id === step);
  return `${line?.kind_title ?? ""} “${step}”, ${bench.samples.find((s) => s.id === sample)?.label ?? "sample"}`;
};
