import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../api/client";
import * as reads from "../api/reads";
import { may, useSession } from "../app/session";
import { Failed, Loading } from "./Quiet";
import { sayError } from "./Toast";
import { count, money } from "./words";

type Support = Schemas["SupportView"];

/** Every text in some values, by where it stands. */
export function sourcesOf(given: { path: string; value: unknown }[]): Record<string, string> {
  const out: Record<string, string> = {};
  const walk = (name: string, value: unknown) => {
    if (Object.keys(out).length >= 390) return;
    if (typeof value === "string" || typeof value === "number") {
      if (String(value).trim()) out[name] = String(value);
    } else if (Array.isArray(value)) for (const [i, one] of value.entries()) walk(`${name}[${i + 1}]`, one);
    else if (value && typeof value === "object")
      for (const [key, one] of Object.entries(value)) walk(`${name}.${key}`, one);
  };
  for (const one of given) walk(one.path, one.value);
  return out;
}

/** A short mark that differs where the text does (FNV-1a, 32 bits, with the length). */
function markOf(text: string): string {
  let hash = 0x811c9dc5;
  for (let i = 0; i < text.length; i++) hash = Math.imul(hash ^ text.charCodeAt(i), 0x01000193);
  return `${text.length}-${hash >>> 0}`;
}

const WAVY = "underline decoration-wavy underline-offset-4";

/** What is known of a sentence: how it is marked, the sign before its words, and the words. */
type Known = { look: string; tone: string; sign: string; words: string; many: string };
const KNOWN: Record<Support["level"] | "unsure", Known> = {
  supported: { look: "", tone: "text-leaf", sign: "✓", words: "Stands in a source", many: "stand in a source" },
  "by paraphrase": {
    look: "",
    tone: "text-leaf",
    sign: "≈",
    words: "Stands in a source in other words",
    many: "in other words",
  },
  unsure: {
    look: "underline decoration-dotted decoration-soft underline-offset-4",
    tone: "text-soft",
    sign: "?",
    words: "No passage found. It may be said in other words, or stand in no source",
    many: "without a passage",
  },
  doubtful: {
    look: `${WAVY} decoration-ochre`,
    tone: "text-ochre",
    sign: "!",
    words: "Doubtful: near to a passage, but not all of it stands there",
    many: "doubtful",
  },
  "contradicts a source": {
    look: `${WAVY} decoration-brick bg-brickwash`,
    tone: "text-brick",
    sign: "✕",
    words: "A source says otherwise",
    many: "against a source",
  },
  "in no source": {
    look: `${WAVY} decoration-brick`,
    tone: "text-brick",
    sign: "✕",
    words: "In no source",
    many: "in no source",
  },
  "needs none": {
    look: "",
    tone: "text-soft",
    sign: "",
    words: "A greeting, call, question or opinion: needs no source",
    many: "needing none",
  },
};
const ORDER = ["contradicts a source", "in no source", "doubtful", "unsure"] as const;
const known = (one: Support): Known => KNOWN[one.unsure ? "unsure" : one.level];

/** How many sentences are known to be what, in one line; the worst first. */
function summary(list: Support[]): { words: string; look: Known } {
  const needing = list.filter((one) => one.level !== "needs none");
  const of = (level: (typeof ORDER)[number]) =>
    needing.filter((one) => (level === "unsure" ? one.unsure : !one.unsure && one.level === level)).length;
  const parts = ORDER.filter((level) => of(level) > 0).map((level) => `${of(level)} ${KNOWN[level].many}`);
  const good = needing.filter((one) => !one.flagged && !one.unsure).length;
  if (!needing.length) return { words: "Nothing in it needs a source.", look: KNOWN.supported };
  if (!parts.length)
    return {
      words:
        needing.length === 1
          ? "Its sentence stands in a source."
          : `All ${needing.length} sentences stand in a source.`,
      look: KNOWN.supported,
    };
  const worst = ORDER.find((level) => of(level) > 0)!;
  return {
    words: `${good} of ${needing.length} sentences ${good === 1 ? "stands" : "stand"} in a source; ${parts.join(", ")}.`,
    look: KNOWN[worst],
  };
}

/** The draft with what its sources do not support marked; the sentence chosen stands with the passage that comes nearest. */
export function EvidenceOf({
  text,
  sources,
  opinions = [],
}: {
  text: string;
  sources: Record<string, string>;
  /** What a model that was asked while drafting said of its sentences. */
  opinions?: Schemas["OpinionView"][];
}) {
  const [chosen, setChosen] = useState<number | null>(null);
  const [asked, setAsked] = useState<{ of: string; list: Schemas["OpinionView"][]; cost: number } | null>(null);
  const second = asked?.of === text ? asked : null;
  const all = [...opinions, ...(second?.list ?? [])];
  const mark = markOf(JSON.stringify([sources, all]));
  const found = useQuery({ ...reads.evidence(text, sources, all, mark), placeholderData: keepPreviousData });
  const [asking, setAsking] = useState(false);
  const session = useSession();
  if (found.isPending) return <Loading what="Looking in the sources …" />;
  if (found.isError) return <Failed error={found.error} again={() => found.refetch()} />;
  const list = found.data;
  if (!list.length) return <p className="text-sm text-soft">There is nothing to look for.</p>;
  const told = summary(list);
  const before = new Set(all.map((one) => one.text));
  const doubted = list.filter((one) => (one.flagged || one.unsure) && !before.has(one.text));
  async function ask() {
    setAsking(true);
    try {
      const body = { sentences: doubted.slice(0, 30).map((one) => one.text), sources };
      const said = await ok(api.POST("/api/opinion", { body }));
      setAsked({ of: text, list: said.opinions, cost: said.cost });
    } catch (error) {
      sayError(error);
    } finally {
      setAsking(false);
    }
  }
  const against = list.findIndex((one) => one.level === "contradicts a source");
  const worst = against >= 0 ? against : list.findIndex((one) => one.flagged);
  const at = chosen ?? (worst >= 0 ? worst : null);
  const shown = at === null ? null : (list[at] ?? null);
  return (
    <div>
      <p className={`mb-2 text-sm ${told.look.tone}`}>
        <span aria-hidden>{told.look.sign} </span>
        {told.words}
      </p>
      {all.length > 0 && (
        <p className="mb-2 text-xs text-soft">
          A model was asked about {count(all.length, "sentence")}
          {second && ` (${money(second.cost)})`}; what it says counts where the passage it shows stands in a source.
        </p>
      )}
      {doubted.length > 0 && may(session.data, "maker") && (
        <p className="mb-2 text-xs text-soft">
          {
            <button type="button" className="text-leaf underline underline-offset-2" disabled={asking} onClick={ask}>
              {asking
                ? "Asking a model …"
                : `Ask a model about the ${doubted.length === 1 ? "sentence" : `${doubted.length} sentences`} in doubt`}
            </button>
          }
        </p>
      )}
      <div className="piece text-reading leading-relaxed">
        {list.map((one, i) => (
          <span key={one.start}>
            {i > 0 ? between(text, list[i - 1]!.end, one.start) : ""}
            <button
              type="button"
              aria-pressed={i === at}
              className={`inline text-left ${known(one).look} ${i === at ? "bg-shade" : "hover:bg-shade"}`}
              onClick={() => setChosen(i)}
            >
              <Marked one={one} />
              <span className="sr-only"> ({known(one).words})</span>
            </button>
          </span>
        ))}
      </div>
      {shown && (
        <div className="mt-3 border-l-2 border-line pl-3 text-sm" aria-live="polite">
          <p className={known(shown).tone}>
            <span aria-hidden>{known(shown).sign} </span>
            {known(shown).words}.
          </p>
          {shown.reasons.length > 0 && (
            <ul className="mt-1">
              {shown.reasons.map((reason) => (
                <li key={reason} className="text-ink">
                  {reason.replace(/^./, (first) => first.toUpperCase())}.
                </li>
              ))}
            </ul>
          )}
          {shown.sums.length > 0 && <p className="mt-1 text-soft">Reckoned from the source: {shown.sums.join("; ")}</p>}
          {shown.passage ? (
            <p className="mt-1 font-serif">
              {shown.passage} <span className="slot ml-1 text-xs">{shown.source}</span>
            </p>
          ) : (
            shown.level !== "needs none" && (
              <p className="mt-1 text-soft">No passage of the sources comes near to this.</p>
            )
          )}
        </div>
      )}
    </div>
  );
}

const between = (text: string, from: number, to: number) => text.slice(from, to).replace(/[^\s]/g, "") || " ";

/** A sentence with what stands in no source set off. */
function Marked({ one }: { one: Support }) {
  const parts = [];
  let at = 0;
  for (const claim of one.missing) {
    const from = Math.max(at, claim.start - one.start);
    const to = Math.max(from, claim.end - one.start);
    parts.push(one.text.slice(at, from));
    parts.push(
      <mark key={claim.start} className="bg-brickwash text-brick" title={`This ${claim.kind} stands in no source`}>
        {one.text.slice(from, to)}
      </mark>,
    );
    at = to;
  }
  return (
    <>
      {parts}
      {one.text.slice(at)}
    </>
  );
}
