/** What a decision rests on: what no source supports, rules, what changed, notes, versions, and the sources themselves. */
import type { Finding, Schemas } from "../../../api/client";
import { Away } from "../../../components/Away";
import { EvidenceOf } from "../../../components/Evidence";
import { Changes, Findings, Versions } from "../../../components/Rules";
import { when } from "../../../components/words";

type Asked = Pick<Schemas["ApprovalView"], "sources" | "versions" | "notes" | "rewrite" | "question" | "act">;

/** What no source supports, rules, what changed, the notes so far, earlier versions, and the sources the draft was made from. */
export function EvidencePane({ asked, findings, text }: { asked: Asked; findings: Finding[]; text?: string }) {
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
          <EvidenceOf
            text={text}
            sources={sources}
            opinions={asked.versions.findLast((version) => version.opinions?.length)?.opinions}
          />
        </section>
      )}
      {!asked.question && !asked.act && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Rules</h3>
          <Findings findings={findings} />
        </section>
      )}
      {asked.rewrite.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">What changed since the last round</h3>
          <Changes changes={asked.rewrite} />
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
