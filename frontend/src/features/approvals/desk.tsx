/** What the desk and the page behind a signed link have in common: the piece, and the words for it. */
import { useEffect, useRef, useState } from "react";
import type { Finding, Schemas } from "../../api/client";
import { Away } from "../../components/Away";
import { Button } from "../../components/Button";
import { EvidenceOf } from "../../components/Evidence";
import { Area, Choice, Field, Input } from "../../components/Field";
import { Counter, Linked } from "../../components/Piece";
import { PieceFull } from "../../components/pieces/PieceFull";
import { Changes, Findings, Versions } from "../../components/Rules";
import { characters, when } from "../../components/words";
import { type Composed, isDraftItself } from "./composed";

export type Asked = Schemas["AskedByMail"];

/** The piece as it will appear, changed in place; counter and rules follow as one types. */
function EditablePiece({
  text,
  limit,
  disabled,
  onChange,
  inputRef,
}: {
  text: string;
  limit: number | null;
  disabled: boolean;
  onChange: (text: string) => void;
  inputRef: React.RefObject<HTMLTextAreaElement | null>;
}) {
  const box = inputRef;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the height follows the text
  useEffect(() => {
    const area = box.current;
    if (!area) return;
    area.style.height = "auto";
    area.style.height = `${area.scrollHeight}px`;
  }, [text, box]);
  return (
    <div>
      {disabled ? (
        <div className="piece text-xl leading-relaxed">
          <Linked text={text} />
        </div>
      ) : (
        <textarea
          ref={box}
          aria-label="The piece, to be changed in place"
          value={text}
          rows={3}
          onChange={(e) => onChange(e.target.value)}
          className="piece -mx-3 block w-[calc(100%+1.5rem)] resize-none overflow-hidden rounded border border-transparent bg-transparent px-3 py-1 text-xl leading-relaxed hover:border-line focus:border-rule focus:bg-sheet"
        />
      )}
      <Counter length={characters(text.trim())} limit={limit} />
    </div>
  );
}

/** What a person changed: the text, or parts of the draft by name. */
export type Edit = { text: string | null; parts: Record<string, unknown> };

/** The draft with a change in it and its rules, measured by the server a moment after the last key. */
export function useMeasured(
  edit: Edit,
  known: { text: string; findings: Finding[]; pieces: Composed[] },
  measure: (edit: Edit) => Promise<Schemas["Measured"]>,
) {
  const [measured, setMeasured] = useState<(typeof known & { of: string; wrong: string }) | null>(null);
  const call = useRef(measure);
  call.current = measure;
  const changed = (edit.text !== null && edit.text !== known.text) || Object.keys(edit.parts).length > 0;
  const of = changed ? JSON.stringify(edit) : "";
  useEffect(() => {
    if (!of) return;
    const timer = window.setTimeout(() => {
      call.current(JSON.parse(of) as Edit).then(
        (found) => setMeasured({ of, ...found, wrong: "" }),
        (error) => setMeasured({ of, text: "", findings: [], pieces: [], wrong: (error as Error).message }),
      );
    }, 200);
    return () => window.clearTimeout(timer);
  }, [of]);
  if (!of || !measured) return { ...known, wrong: "" };
  return measured.of === of ? measured : { ...measured, wrong: "" };
}

type Part = Schemas["PartOfDraft"];

/** What goes out when this is approved, in all its parts. A lone post whose text stands above as it is needs no second look. */
export function GoesOut({ pieces, text }: { pieces: readonly Composed[]; text: string }) {
  const first = pieces[0];
  const lone = isDraftItself(pieces, text);
  if (!first || (lone && !first.piece?.refused.length)) return null;
  if (lone)
    return first.piece!.refused.map((words) => (
      <p key={words} className="mt-2 text-sm text-brick">
        ✕ {words}
      </p>
    ));
  return (
    <section className="mt-6" aria-labelledby="goes-out">
      <h2 id="goes-out" className="smallcaps mb-2 text-soft">
        What goes out
      </h2>
      <ul className="space-y-6">
        {pieces.map((one) => (
          <li key={one.line}>
            <p className="mb-1 text-sm text-soft">
              {one.title}
              {one.piece?.channel && ` · ${one.piece.channel}`}
            </p>
            {one.piece && <PieceFull view={one.piece} />}
            {one.wrong && <p className="text-sm text-brick">✕ {one.wrong}</p>}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What is asked about, to be changed in place while it is open: as one text, or part by part. */
export function Draft({
  asked,
  open,
  edit,
  shown,
  wrong,
  onEdit,
  inputRef,
}: {
  asked: Pick<Schemas["AskedByMail"], "parts" | "question" | "limit" | "act">;
  open: boolean;
  edit: Edit;
  shown: string;
  wrong: string;
  onEdit: (edit: Edit) => void;
  inputRef: React.RefObject<HTMLTextAreaElement | null>;
}) {
  if (open && asked.parts.length > 0)
    return (
      <>
        <Parts
          parts={asked.parts}
          values={edit.parts}
          onChange={(name, value) => onEdit({ ...edit, parts: { ...edit.parts, [name]: value } })}
        />
        {wrong && <p className="mt-2 text-sm text-brick">{wrong}</p>}
      </>
    );
  return (
    <EditablePiece
      text={shown}
      limit={asked.question ? null : asked.limit}
      disabled={!open || !!asked.act || asked.question}
      onChange={(text) => onEdit({ ...edit, text })}
      inputRef={inputRef}
    />
  );
}

/** A draft made of fields or a list: each part is changed in its place, and everything made of it follows. */
function Parts({
  parts,
  values,
  onChange,
}: {
  parts: Part[];
  values: Record<string, unknown>;
  onChange: (name: string, value: unknown) => void;
}) {
  return (
    <div className="space-y-4">
      {parts.map((part) => (
        <PartField
          key={part.name}
          part={part}
          value={part.name in values ? values[part.name] : part.value}
          set={(value) => onChange(part.name, value)}
        />
      ))}
    </div>
  );
}

/** How many rows a text takes where so many signs stand in one. */
const rowsOf = (text: string, wide: number, most: number) =>
  Math.min(
    most,
    text.split("\n").reduce((rows, line) => rows + Math.max(1, Math.ceil(line.length / wide)), 0),
  );

function PartField({ part, value, set }: { part: Part; value: unknown; set: (value: unknown) => void }) {
  const area = "piece text-lead leading-relaxed";
  switch (part.type) {
    case "choice":
      return (
        <Field label={part.label}>
          <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            {[...new Set([...part.choices, String(value ?? "")])].map((one) => (
              <option key={one}>{one}</option>
            ))}
          </Choice>
        </Field>
      );
    case "yes_no":
      return (
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" checked={value === true} onChange={(e) => set(e.target.checked)} /> {part.label}
        </label>
      );
    case "number":
      return (
        <Field label={part.label}>
          <Input
            type="number"
            step="any"
            value={value === null || value === undefined ? "" : String(value)}
            onChange={(e) => set(e.target.value === "" ? null : Number(e.target.value))}
          />
        </Field>
      );
    case "list": {
      const list = Array.isArray(value) ? value : [];
      return (
        <Field label={part.label} help="One on each line.">
          <Area
            rows={Math.min(12, list.length + 1)}
            className={area}
            value={list.map((one) => (typeof one === "string" ? one : JSON.stringify(one))).join("\n")}
            onChange={(e) => set(e.target.value.split("\n"))}
          />
        </Field>
      );
    }
    case "items": {
      const items = (Array.isArray(value) ? value : []) as Record<string, unknown>[];
      const put = (n: number, name: string, one: unknown) =>
        set(items.map((item, i) => (i === n ? { ...item, [name]: one } : item)));
      return (
        <ol className="space-y-4">
          {items.map((item, n) => (
            <li key={n} className="border-l-2 border-line pl-3">
              <p className="flex items-baseline justify-between text-xs text-soft">
                {n + 1}
                <button
                  type="button"
                  className="underline underline-offset-2"
                  onClick={() => set(items.filter((_, i) => i !== n))}
                >
                  Leave out
                </button>
              </p>
              {Object.entries(item).map(([name, one]) => (
                <Field key={name} label={name}>
                  <Area
                    rows={rowsOf(String(one ?? ""), 60, 6)}
                    className={area}
                    value={Array.isArray(one) ? one.join("\n") : String(one ?? "")}
                    onChange={(e) => put(n, name, Array.isArray(one) ? e.target.value.split("\n") : e.target.value)}
                  />
                </Field>
              ))}
            </li>
          ))}
        </ol>
      );
    }
    default:
      return (
        <Field label={part.label}>
          <Area
            rows={rowsOf(String(value ?? ""), 66, 14)}
            className={area}
            value={String(value ?? "")}
            onChange={(e) => set(e.target.value)}
          />
        </Field>
      );
  }
}

/** A must-rule is broken: letting the piece out all the same is an act of its own. */
export function LetOut({ broken, busy, onLetOut }: { broken: string[]; busy: boolean; onLetOut: () => void }) {
  if (!broken.length) return null;
  return (
    <div role="alert" className="mt-3 max-w-xl border-l-2 border-brick bg-brickwash px-3 py-2 text-sm">
      <p className="text-brick">✕ It breaks a rule: {broken.join("; ")}.</p>
      <p className="mt-1">Change it, or let it out as it is. That is written down, and shown wherever the piece is.</p>
      <Button className="mt-2" disabled={busy} onClick={onLetOut}>
        Let it out all the same
      </Button>
    </div>
  );
}

/** The must-rules that findings say are broken, in words. */
export const brokenMusts = (findings: Finding[]) =>
  findings.filter((f) => !f.kept && f.strength === "must").map((f) => f.says);

/** What no source supports, rules, what changed, the notes so far, earlier versions, and the sources the draft was made from. */
export function EvidencePane({ asked, findings, text }: { asked: Asked; findings: Finding[]; text?: string }) {
  const last = asked.versions.at(-1);
  const sources = Object.fromEntries(
    asked.sources.flatMap((one) =>
      (["title", "link", "text"] as const)
        .filter((name) => one[name])
        .map((name) => [`${one.step}.${name}`, one[name]]),
    ),
  );
  return (
    <div className="space-y-6">
      {text && !asked.question && asked.sources.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Evidence</h3>
          <EvidenceOf text={text} sources={sources} />
        </section>
      )}
      {!asked.question && !asked.act && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Rules</h3>
          <Findings findings={findings} />
        </section>
      )}
      {asked.round > 1 && last && last.changes.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">What changed since the last round</h3>
          <Changes changes={last.changes} />
        </section>
      )}
      {asked.notes.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Notes</h3>
          <ul className="space-y-2 text-sm">
            {asked.notes.map((n) => (
              <li key={n.at}>
                “{n.note}”{" "}
                <span className="text-xs text-soft">
                  {n.by}, {when(n.at)}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {asked.sources.map((source, n) => (
        <section key={`${n} ${source.step}`}>
          <h3 className="smallcaps mb-1 text-soft">Source</h3>
          <p className="font-serif text-lg leading-snug">{source.title}</p>
          {source.link && (
            <Away to={source.link} className="text-xs [overflow-wrap:anywhere] text-leaf underline">
              {source.link}
            </Away>
          )}
          <div className="piece mt-2 text-reading leading-relaxed whitespace-pre-line">
            {source.text.replaceAll("\n", "\n\n")}
          </div>
        </section>
      ))}
      {asked.versions.length > 1 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">All versions</h3>
          <Versions versions={asked.versions} />
        </section>
      )}
    </div>
  );
}

export const DECIDED: Record<string, string> = {
  approve: "Approved",
  back: "Sent back",
  decline: "Declined",
  void: "The run has ended",
};
