import type { Result } from "../api/client";
import { useKept } from "../api/files";
import { Doing, Sources, type Turn } from "../components/Doing";
import { EvidenceOf, sourcesOf } from "../components/Evidence";
import { Post } from "../components/Piece";
import { Shown, Tree } from "../components/Values";

/** A picture as it is, with what it was made after. */
export function Picture({ output }: { output: Record<string, unknown> }) {
  const source = useKept()(String(output.link));
  return (
    <figure>
      <img
        src={source}
        alt={String(output.prompt ?? output.name ?? "")}
        className="max-h-[70vh] max-w-full border border-line"
      />
      <figcaption className="mt-2 text-xs text-soft">
        {[
          output.name,
          output.width && `${output.width} × ${output.height}`,
          output.size && `${Math.round(Number(output.size) / 1000)} kB`,
        ]
          .filter(Boolean)
          .join(" · ")}{" "}
        <a className="text-leaf underline" href={source} download={String(output.name ?? "picture")}>
          Save it
        </a>
      </figcaption>
      {!!output.prompt && <p className="mt-3 text-sm">{String(output.prompt)}</p>}
    </figure>
  );
}

/** A list as a table; all of it as one text, and what else there is, below. */
export function Listed({ output }: { output: Record<string, unknown> }) {
  const items = (output.items ?? output.chapters) as unknown[];
  const text = String(output.text ?? "");
  return (
    <article>
      <p className="mb-2 text-sm text-soft">
        {items.length}
        {Number(output.found) > items.length ? ` of ${output.found} found` : ""}
        {output.title ? ` · ${output.title}` : ""}
        {output.minutes ? ` chapters in ${output.minutes} minutes` : ""}
        {Array.isArray(output.speakers) && output.speakers.length ? ` · ${output.speakers.join(", ")}` : ""}
      </p>
      <Shown value={items} />
      {text && (
        <details className="mt-4 border-t border-line pt-2">
          <summary className="cursor-pointer text-xs text-soft">As text, for a prompt</summary>
          <div className="piece mt-2 text-sm">{text}</div>
        </details>
      )}
      {Array.isArray(output.problems) && output.problems.length > 0 && (
        <div className="mt-3 text-sm text-ochre">
          <Shown value={output.problems} />
        </div>
      )}
    </article>
  );
}

const READ = new Set(["title", "author", "date", "words", "link", "text"]);

/** What a source gave beside its text. */
export function Beyond({ output }: { output: Record<string, unknown> }) {
  const rest = Object.entries(output).filter(([name, value]) => !READ.has(name) && value && String(value).length);
  if (!rest.length) return null;
  return (
    <details className="mt-4 border-t border-line pt-2">
      <summary className="cursor-pointer text-xs text-soft">
        Also given: {rest.map(([name]) => name).join(", ")}
      </summary>
      <div className="mt-2">
        <Tree values={Object.fromEntries(rest)} />
      </div>
    </details>
  );
}

const COUNTED = new Set(["text", "sources", "used", "rounds"]);

/** What an assignment came to, where it has it from, and what it did on the way. */
export function Assigned({ result, text, stale }: { result: Result; text: string; stale: boolean }) {
  const output = result.output as Record<string, unknown>;
  const talk = result.detail.talk as Turn[];
  const parts = Object.fromEntries(Object.entries(output).filter(([name]) => !COUNTED.has(name) && name[0] !== "@"));
  const sources = (output.sources ?? []) as { title: string; link: string }[];
  const material = talk.filter((turn) => turn.gave).map((turn) => ({ path: turn.tool, value: turn.gave }));
  return (
    <>
      {Object.keys(parts).length ? <Tree values={parts} /> : text && <Post text={text} limit={null} />}
      {sources.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Found at</h3>
          <Sources sources={sources} />
        </section>
      )}
      {text && !Object.keys(parts).length && !stale && material.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Evidence</h3>
          <EvidenceOf text={text} sources={sourcesOf(material)} />
        </section>
      )}
      <section>
        <h3 className="smallcaps mb-2 text-soft">What it did</h3>
        <Doing talk={talk} />
      </section>
    </>
  );
}
