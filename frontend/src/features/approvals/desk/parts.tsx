/** What the desk and the page behind a signed link have in common: the piece, and the words for it. */
import { useEffect, useRef, useState } from "react";
import type { Finding, Schemas } from "../../../api/client";
import { Button } from "../../../components/Button";
import { PieceFull } from "../../../components/pieces/PieceFull";
import { type Composed, isDraftItself } from "./composed";
import { PieceParts } from "./PieceParts";

/** What a person changed: the text, or parts of the draft by name; and parts of pieces by their lines. */
export type Edit = {
  text: string | null;
  parts: Record<string, unknown>;
  pieces: Record<string, Record<string, unknown>>;
};
export const UNCHANGED: Edit = { text: null, parts: {}, pieces: {} };

/** Whether anything is other than it was put before the person. */
export const isChanged = (edit: Edit, text: string) =>
  (edit.text !== null && edit.text.trim() !== text.trim()) ||
  Object.keys(edit.parts).length > 0 ||
  Object.keys(edit.pieces).length > 0;

/** The draft with a change in it and its rules, measured by the server a moment after the last key. */
export function useMeasured(
  edit: Edit,
  known: { text: string; findings: Finding[]; pieces: Composed[] },
  measure: (edit: Edit) => Promise<Schemas["Measured"]>,
) {
  const [measured, setMeasured] = useState<(Schemas["Measured"] & { of: string; wrong: string }) | null>(null);
  const call = useRef(measure);
  call.current = measure;
  const changed = isChanged(edit, known.text);
  const of = changed ? JSON.stringify(edit) : "";
  useEffect(() => {
    if (!of) return;
    const timer = window.setTimeout(() => {
      call.current(JSON.parse(of) as Edit).then(
        (found) => setMeasured({ of, ...found, wrong: "" }),
        (error) =>
          setMeasured({ of, text: "", findings: [], pieces: [], changes: [], wrong: (error as Error).message }),
      );
    }, 200);
    return () => window.clearTimeout(timer);
  }, [of]);
  if (!of || !measured) return { ...known, changes: [], wrong: "" };
  return measured.of === of ? measured : { ...measured, wrong: "" };
}

/** What goes out when this is approved, in all its parts. A lone post whose text stands above as it is needs no second look. */
export function GoesOut({
  pieces,
  text,
  first,
  edit,
  onEdit,
}: {
  pieces: readonly Composed[];
  text: string;
  /** The pieces as they were made, while they may be changed. */
  first?: readonly Composed[];
  edit?: Edit;
  onEdit?: (edit: Edit) => void;
}) {
  const change = (one: Composed) =>
    edit && onEdit ? (
      <PieceParts
        one={one}
        named={pieces.length > 1}
        first={first?.find((other) => other.line === one.line)}
        given={edit.pieces[one.line] ?? {}}
        set={(given) => onEdit({ ...edit, pieces: { ...edit.pieces, [one.line]: given } })}
      />
    ) : null;
  const head = pieces[0];
  const lone = isDraftItself(pieces, text);
  if (!head) return null;
  // The fields stand in one place whatever is shown above them, so that whoever writes in them stays there.
  return (
    <>
      {lone ? (
        head.piece!.refused.map((words) => (
          <p key={words} className="mt-2 text-sm text-brick">
            ✕ {words}
          </p>
        ))
      ) : (
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
      )}
      <div>
        {pieces.map((one) => (
          <div key={one.line}>{change(one)}</div>
        ))}
      </div>
    </>
  );
}

/** A must-rule is broken: letting the piece out all the same is an act of its own. */
export function LetOut({ broken, busy, onLetOut }: { broken: string[]; busy: boolean; onLetOut: () => void }) {
  if (!broken.length) return null;
  return (
    <div role="alert" className="mt-3 max-w-xl border-l-2 border-brick bg-brickwash px-3 py-2 text-sm">
      <p className="text-brick">✕ It breaks a rule: {broken.join("; ")}.</p>
      <p className="mt-1">Change it, or let it out as it is. That is written down, and shown wherever the piece is.</p>
      <Button className="mt-2" disabled={busy} onClick={onLetOut}>
        Send it out all the same
      </Button>
    </div>
  );
}

/** The must-rules that findings say are broken, in words. */
export const brokenMusts = (findings: Finding[]) =>
  findings.filter((f) => !f.kept && f.strength === "must").map((f) => f.says);

export const DECIDED: Record<string, string> = {
  approve: "Approved",
  back: "Sent back",
  decline: "Declined",
  void: "The run has ended",
};
