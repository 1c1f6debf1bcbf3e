/** What the desk and the page behind a signed link have in common: the piece, and the words for it. */
import { useEffect, useRef, useState } from "react";
import type { Finding, Schemas } from "../../api/client";
import { EvidenceOf } from "../../components/Evidence";
import { Counter, Linked } from "../../components/Piece";
import { Changes, Findings, Versions } from "../../components/Rules";
import { when } from "../../components/words";

export type Asked = Schemas["Letter"];

/** The piece as it will appear, changed in place; counter and rules follow as one types. */
export function EditablePiece({
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
  useEffect(() => {
    const area = box.current;
    if (!area) return;
    area.style.height = "auto";
    area.style.height = `${area.scrollHeight}px`;
  }, [text, box]);
  return (
    <div>
      {disabled ? (
        <div className="piece text-[1.25rem] leading-relaxed">
          <Linked text={text} />
        </div>
      ) : (
        <textarea
          ref={box}
          aria-label="The piece, to be changed in place"
          value={text}
          rows={3}
          onChange={(e) => onChange(e.target.value)}
          className="piece -mx-3 block w-[calc(100%+1.5rem)] resize-none overflow-hidden rounded-[4px] border border-transparent bg-transparent px-3 py-1 text-[1.25rem] leading-relaxed hover:border-line focus:border-rule focus:bg-sheet"
        />
      )}
      <Counter length={[...text.trim()].length} limit={limit} />
    </div>
  );
}

/** The rules on a text while it is being changed; measured by the server, a moment after the last key. */
export function useMeasured(
  text: string,
  known: { text: string; findings: Finding[] },
  measure: (text: string) => Promise<Finding[]>,
) {
  const [measured, setMeasured] = useState<{ text: string; findings: Finding[] } | null>(null);
  const call = useRef(measure);
  call.current = measure;
  useEffect(() => {
    if (text === known.text) return;
    const timer = window.setTimeout(() => {
      call.current(text).then(
        (findings) => setMeasured({ text, findings }),
        () => {},
      );
    }, 200);
    return () => window.clearTimeout(timer);
  }, [text, known.text]);
  return text === known.text || !measured ? known.findings : measured.findings;
}

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
            <a
              className="text-xs [overflow-wrap:anywhere] text-leaf underline"
              href={source.link}
              target="_blank"
              rel="noreferrer"
            >
              {source.link}
            </a>
          )}
          <div className="piece mt-2 text-[0.93rem] leading-relaxed whitespace-pre-line">
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
