import type { Change, Finding, Version } from "../api/client";

/** Rules as measured: broken ones first, each told by mark and word. */
export function Findings({ findings }: { findings: Finding[] }) {
  if (!findings.length) return <p className="text-sm text-soft">No rules are set for this draft.</p>;
  const sorted = [...findings].sort((a, b) => Number(a.kept) - Number(b.kept));
  return (
    <ul className="space-y-1 text-sm">
      {sorted.map((f, i) => (
        <li key={i} className={`flex gap-2 ${f.kept ? "" : f.strength === "must" ? "text-brick" : "text-ochre"}`}>
          <span aria-hidden className="w-4 shrink-0 text-center">
            {f.kept ? "✓" : "✕"}
          </span>
          <span>
            <span className="sr-only">{f.kept ? "Kept: " : "Broken: "}</span>
            {f.says}
            {!f.kept && <span className="text-soft">{f.strength === "must" ? " · must" : " · should"}</span>}
          </span>
        </li>
      ))}
    </ul>
  );
}

/** Two versions in one text: what was added underlined, what was removed struck through. */
export function Changes({
  changes,
  removed = true,
  beside = false,
}: {
  changes: Change[];
  removed?: boolean;
  /** The other version stands beside it, so that what is missing there is marked and not struck out. */
  beside?: boolean;
}) {
  return (
    <div className="piece text-reading leading-relaxed">
      {changes.map((c, i) =>
        c.what === "same" ? (
          <span key={i}>{c.text}</span>
        ) : c.what === "added" ? (
          <ins key={i} className="bg-leafwash text-leaf decoration-leaf underline-offset-2">
            {c.text}
          </ins>
        ) : removed ? (
          <del
            key={i}
            className={
              beside
                ? "bg-ochrewash underline decoration-ochre decoration-dotted underline-offset-2"
                : "bg-brickwash text-brick"
            }
          >
            {c.text}
          </del>
        ) : null,
      )}
    </div>
  );
}

/** Every version of a draft, the newest first. */
export function Versions({ versions }: { versions: Version[] }) {
  return (
    <ol className="space-y-5">
      {versions
        .map((version, i) => ({ version, number: i + 1 }))
        .reverse()
        .map(({ version, number }) => (
          <li key={number}>
            <div className="mb-1 text-xs text-soft">
              <span className="smallcaps">Version {number}</span>
              {version.why && <span className="text-ochre"> · {version.why}</span>}
            </div>
            {version.changes.length ? (
              <Changes changes={version.changes} />
            ) : (
              <div className="piece text-reading leading-relaxed">{version.text}</div>
            )}
            <div className="mt-1 text-xs text-soft">
              {version.findings
                .filter((f) => !f.kept)
                .map((f) => f.says)
                .join(" · ") || (version.findings.length ? "All rules kept" : "")}
            </div>
          </li>
        ))}
    </ol>
  );
}
