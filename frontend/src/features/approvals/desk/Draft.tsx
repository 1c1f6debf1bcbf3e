/** What is asked about, changed in place in each of its parts. */
import { useEffect, useState } from "react";
import type { Schemas } from "../../../api/client";
import { Area, Choice, Field, Input } from "../../../components/Field";
import { useKeys } from "../../../components/keys";
import { Counter, Linked } from "../../../components/Piece";
import { Prose } from "../../../components/Prose";
import { Changes } from "../../../components/Rules";
import { characters } from "../../../components/words";
import type { Edit } from "./parts";
import { RichText } from "./RichText";

type Part = Schemas["PartOfDraft"];
/** Whether a text is HTML, to be read and written as its readers see it. */
const MARKUP = /<\/?(?:p|h[1-6]|ul|ol|li|a|strong|em|b|i|br|table|blockquote|div)\b[^>]*>/i;

/** The piece as it will appear, changed in place; counter and rules follow as one types. */
function EditablePiece({
  text,
  limit,
  counted,
  disabled,
  onChange,
  inputRef,
}: {
  text: string;
  limit: number | null;
  counted: boolean;
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
      {counted && <Counter length={characters(text.trim())} limit={limit} />}
    </div>
  );
}

/** What is asked about, to be changed in place while it is open: as one text, or part by part; and the other drafts that go out
with it. */
export function Draft({
  asked,
  open,
  edit,
  shown,
  wrong,
  onEdit,
  inputRef,
}: {
  asked: Pick<Schemas["AskedByMail"], "parts" | "others" | "question" | "limit" | "act" | "round" | "rewrite">;
  open: boolean;
  edit: Edit;
  shown: string;
  wrong: string;
  onEdit: (edit: Edit) => void;
  inputRef: React.RefObject<HTMLTextAreaElement | null>;
}) {
  const change = (name: string, value: unknown) => onEdit({ ...edit, parts: { ...edit.parts, [name]: value } });
  const { rewrite } = asked;
  const [marked, setMarked] = useState(asked.round > 1 && rewrite.length > 0);
  const editable = open && !asked.act && !asked.question;
  useKeys(
    editable && marked
      ? {
          e: () => {
            setMarked(false);
            requestAnimationFrame(() => inputRef.current?.focus());
          },
        }
      : {},
  );
  return (
    <>
      {editable && asked.round > 1 && rewrite.length > 0 && (
        <p className="mb-2 text-xs text-soft">
          <button
            type="button"
            aria-pressed={marked}
            className="underline underline-offset-2"
            onClick={() => setMarked(!marked)}
          >
            {marked ? "Show it as it is, to change it" : "Mark what the rewrite changed"}
          </button>
        </p>
      )}
      {editable && marked ? (
        <div className="piece text-xl leading-relaxed">
          <Changes changes={rewrite} />
        </div>
      ) : open && asked.parts.length > 0 ? (
        <Parts parts={asked.parts} values={edit.parts} onChange={change} />
      ) : editable && MARKUP.test(shown) ? (
        <RichText label="The piece" html={shown} set={(text) => onEdit({ ...edit, text })} />
      ) : MARKUP.test(shown) && !asked.question ? (
        <Prose html={shown} />
      ) : (
        <EditablePiece
          text={shown}
          limit={asked.limit}
          counted={!asked.question}
          disabled={!editable}
          onChange={(text) => onEdit({ ...edit, text })}
          inputRef={inputRef}
        />
      )}
      {open && asked.others.length > 0 && (
        <section className="mt-6 border-t border-line pt-4" aria-label="Goes out with it">
          <Parts parts={asked.others} values={edit.parts} onChange={change} />
        </section>
      )}
      {wrong && <p className="mt-2 text-sm text-brick">{wrong}</p>}
    </>
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
      return MARKUP.test(String(value ?? "")) ? (
        <RichText label={part.label} html={String(value ?? "")} set={set} />
      ) : (
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
