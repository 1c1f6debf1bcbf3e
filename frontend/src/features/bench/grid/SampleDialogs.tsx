import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, type Bench, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Area, Field, Input } from "../../../components/Field";
import type { FormField } from "../../../components/FormFields";
import { FormFields, useFilled, valuesOf } from "../../../components/FormFields";
import { Failed, Loading } from "../../../components/Quiet";
import { RunState } from "../../../components/State";
import { useSettled } from "../../../components/settled";
import { say, sayError } from "../../../components/Toast";
import { when } from "../../../components/words";

type Item = Record<string, unknown>;

const asText = (value: unknown) =>
  value === undefined || value === null ? "" : typeof value === "string" ? value : JSON.stringify(value, null, 1);

/** A typed text as the value it stands for: numbers, lists and objects where the field or the text says so. */
function asValue(text: string, type: string, before: unknown): unknown {
  if (type === "number" && text.trim() !== "" && !Number.isNaN(Number(text))) return Number(text);
  if (type === "list" || type === "any" || (before !== null && typeof before === "object")) {
    try {
      return JSON.parse(text);
    } catch {
      return type === "list" ? text.split("\n").filter(Boolean) : text;
    }
  }
  return text;
}

/** The fields a start has somebody fill in; none where it brings its items itself. */
function fieldsOf(bench: Bench): FormField[] {
  return (bench.fields as FormField[]).filter((field) => field?.name);
}

function objectOf(json: string): Item {
  try {
    const made = JSON.parse(json);
    if (typeof made === "object" && made !== null && !Array.isArray(made)) return made;
  } catch {
    // Told below, like what is JSON and no object.
  }
  throw new Error("This is not a JSON object. It begins with { and ends with }.");
}

/** A sample typed in by its values, or pasted as JSON; also for changing a copy of one. */
export function TypeSample({ bench, item, onClose }: { bench: Bench; item: Item | null; onClose: () => void }) {
  const asked = fieldsOf(bench);
  const filled = useFilled(asked, Object.fromEntries(asked.map((f) => [f.name, asText(item?.[f.name])])));
  const others = [...new Set([...Object.keys(bench.start_fields), ...Object.keys(item ?? {})])];
  // Of an item whose fields somebody fills in, the rest is put in by the start.
  const names = asked.length && !item ? [] : others.filter((name) => !asked.some((f) => f.name === name));
  const [texts, setTexts] = useState<Record<string, string>>(
    Object.fromEntries(names.map((n) => [n, asText(item?.[n])])),
  );
  const [json, setJson] = useState<string | null>(null);
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);

  async function typed(): Promise<Item> {
    const rest = names.map((n) => [n, asValue(texts[n] ?? "", bench.start_fields[n] ?? "", item?.[n])]);
    if (!asked.length) return Object.fromEntries(rest);
    const values = await valuesOf(asked, filled);
    for (const { name, type } of asked) {
      if (type === "number") values[name] = asValue(String(values[name]), "number", null);
      if (type === "file") values[name] ??= item?.[name] ?? {};
    }
    const first = asked.map((f) => filled.values[f.name] || filled.files[f.name]?.name).find(Boolean);
    return item ? { ...item, ...Object.fromEntries(rest), ...values } : { title: first ?? "", ...values };
  }

  async function keep(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    try {
      const made = json !== null ? objectOf(json) : await typed();
      await mutate(
        api.POST("/api/workflows/{id}/samples", {
          params: { path: { id: bench.id } },
          body: { item: made, count: 1, identities: [] },
        }),
        ["bench", bench.id],
      );
      onClose();
    } catch (error) {
      setWrong((error as Error).message);
      setBusy(false);
    }
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title={item ? "A changed copy" : "Type a sample in"}
      about="What the start would bring. Leave empty what does not matter."
    >
      <form onSubmit={keep} className="space-y-3">
        {json === null ? (
          <>
            {asked.length > 0 && <FormFields fields={asked} filled={filled} free />}
            {names.map((name) => (
              <Field key={name} label={name}>
                <Area
                  rows={(texts[name] ?? "").length > 90 ? 4 : 1}
                  value={texts[name] ?? ""}
                  onChange={(e) => setTexts({ ...texts, [name]: e.target.value })}
                />
              </Field>
            ))}
          </>
        ) : (
          <Field label="The item as JSON">
            <Area rows={14} className="font-mono text-xs" value={json} onChange={(e) => setJson(e.target.value)} />
          </Field>
        )}
        {wrong && (
          <p role="alert" className="text-sm text-brick">
            {wrong}
          </p>
        )}
        <div className="flex gap-2 pt-1">
          <Button look="main" type="submit" disabled={busy}>
            {busy ? "Keeping …" : "Keep as a sample"}
          </Button>
          <Button
            look="quiet"
            onClick={() => setJson(json === null ? JSON.stringify(item ?? {}, null, 2) : null)}
            aria-pressed={json !== null}
          >
            {json === null ? "As JSON" : "By its values"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

/** A sample taken from something that really ran. */
export function SampleFromRun({ bench, onClose }: { bench: Bench; onClose: () => void }) {
  const runs = useQuery(reads.runsOf(bench.id, 30));
  async function take(id: number) {
    try {
      await mutate(api.POST("/api/runs/{id}/keep", { params: { path: { id } } }), ["bench", bench.id]);
      say("Kept as a sample.");
      onClose();
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <Dialog open onClose={onClose} title="From a run" about="Its starting item becomes a sample of this page.">
      {runs.isPending ? (
        <Loading what="Fetching the runs …" />
      ) : runs.isError ? (
        <Failed error={runs.error} again={() => runs.refetch()} />
      ) : runs.data.runs.length === 0 ? (
        <p className="text-sm text-soft">This workflow has not run yet.</p>
      ) : (
        <ul>
          {runs.data.runs.map((run) => (
            <li key={run.id}>
              <button
                type="button"
                onClick={() => take(run.id)}
                className="flex w-full items-baseline gap-3 border-b border-line py-2 text-left hover:bg-shade"
              >
                <span className="min-w-0 flex-1 font-serif">{run.title}</span>
                <RunState state={run.state} />
                <span className="text-xs text-soft">{when(run.started_at)}</span>
              </button>
            </li>
          ))}
        </ul>
      )}
    </Dialog>
  );
}

/** As many samples as are kept at once. */
const AT_ONCE = 8;

/** Whether all the words stand in what is told of an item. */
const told = (one: Schemas["FoundItemView"], words: string) =>
  words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => `${one.title} ${one.about}`.toLowerCase().includes(word));

/** Samples chosen from all that the start finds now. */
export function ChooseSamples({ bench, onClose }: { bench: Bench; onClose: () => void }) {
  const [words, setWords] = useState("");
  const [chosen, setChosen] = useState<string[]>([]);
  const all = useQuery(reads.items(bench.id, ""));
  // The outside is asked once; only where it has more than are listed here does the house look for words, once typing has stopped.
  const more = (all.data?.more ?? 0) > 0;
  const settled = useSettled(words);
  const narrowed = useQuery({ ...reads.items(bench.id, settled), enabled: more && settled !== "" });
  const items = more && settled !== "" ? narrowed : all;
  const listed = (items.data?.items ?? []).filter((one) => more || told(one, words));
  async function keep() {
    try {
      await mutate(
        api.POST("/api/workflows/{id}/samples", {
          params: { path: { id: bench.id } },
          body: { item: null, count: 1, identities: chosen },
        }),
        ["bench", bench.id],
      );
      onClose();
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <Dialog open onClose={onClose} title="Choose samples" about="What the start finds now.">
      <Field label="Find">
        <Input autoFocus value={words} onChange={(e) => setWords(e.target.value)} />
      </Field>
      {items.isPending ? (
        <Loading what="Looking …" />
      ) : items.isError ? (
        <Failed error={items.error} again={() => items.refetch()} />
      ) : listed.length === 0 ? (
        <p className="mt-3 text-sm text-soft">{words ? "Nothing fits." : "The start finds nothing now."}</p>
      ) : (
        <ul className="mt-3 max-h-[46vh] overflow-y-auto border-t border-line">
          {listed.map((one) => (
            <li key={one.identity}>
              <label className="flex cursor-pointer items-baseline gap-3 border-b border-line py-1.5 hover:bg-shade">
                <input
                  type="checkbox"
                  disabled={one.kept || (chosen.length >= AT_ONCE && !chosen.includes(one.identity))}
                  checked={one.kept || chosen.includes(one.identity)}
                  onChange={(e) =>
                    setChosen(e.target.checked ? [...chosen, one.identity] : chosen.filter((id) => id !== one.identity))
                  }
                />
                <span className="min-w-0 flex-1">
                  <span className="block truncate font-serif">{one.title}</span>
                  <span className="block truncate text-xs text-soft">{one.kept ? "a sample already" : one.about}</span>
                </span>
              </label>
            </li>
          ))}
        </ul>
      )}
      {items.data && items.data.more > 0 && (
        <p className="mt-2 text-xs text-soft">And {items.data.more.toLocaleString()} more: say some of their words.</p>
      )}
      <Button look="main" className="mt-4" disabled={!chosen.length} onClick={keep}>
        {chosen.length > 1 ? `Keep ${chosen.length} as samples` : "Keep as a sample"}
      </Button>
    </Dialog>
  );
}
