import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../api/client";
import * as reads from "../api/reads";
import { may, useSession } from "../app/session";
import { Failed, Loading } from "./Quiet";
import { sayError } from "./Toast";
import { money } from "./words";

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
const MARKS: Record<string, string> = {
  supported: "",
  partly: "underline decoration-dotted decoration-ochre underline-offset-4",
  unsupported: `${WAVY} decoration-brick`,
  nothing: "",
};
const WORDS: Record<string, string> = {
  supported: "supported",
  partly: "partly supported",
  unsupported: "unsupported",
  nothing: "says nothing that needs support",
};

/** The draft with what its sources do not support marked; the sentence chosen stands with the passage that comes nearest. */
export function EvidenceOf({ text, sources }: { text: string; sources: Record<string, string> }) {
  const [chosen, setChosen] = useState<number | null>(null);
  const mark = markOf(JSON.stringify(sources));
  const found = useQuery(reads.evidence(text, sources, mark));
  const [opinions, setOpinions] = useState<{ of: string; list: Schemas["OpinionView"][]; cost: number } | null>(null);
  const [asking, setAsking] = useState(false);
  const session = useSession();
  if (found.isPending) return <Loading what="Looking in the sources …" />;
  if (found.isError) return <Failed error={found.error} again={() => found.refetch()} />;
  const list = found.data;
  if (!list.length) return <p className="text-sm text-soft">There is nothing to look for.</p>;
  const needing = list.filter((one) => one.level !== "nothing");
  const good = needing.filter((one) => one.level === "supported" && !one.missing.length).length;
  const doubted = list.filter((one) => one.level === "partly" || one.level === "unsupported" || one.missing.length);
  const second = opinions?.of === text ? opinions : null;
  async function ask() {
    setAsking(true);
    try {
      const body = { sentences: doubted.slice(0, 30).map((one) => one.text), sources };
      const said = await ok(api.POST("/api/opinion", { body }));
      setOpinions({ of: text, list: said.opinions, cost: said.cost });
    } catch (error) {
      sayError(error);
    } finally {
      setAsking(false);
    }
  }
  const worst = list.findIndex((one) => one.missing.length > 0 || one.level === "unsupported");
  const at = chosen ?? (worst >= 0 ? worst : null);
  const shown = at === null ? null : (list[at] ?? null);
  const said = shown && second?.list.find((one) => one.number === doubted.indexOf(shown) + 1);
  return (
    <div>
      <p className={`mb-2 text-sm ${good === needing.length ? "text-leaf" : worst >= 0 ? "text-brick" : "text-ochre"}`}>
        <span aria-hidden>{good === needing.length ? "✓" : "✕"} </span>
        {good === needing.length
          ? "The sources support every sentence."
          : `The sources support ${good} of ${needing.length} sentences.`}
      </p>
      {doubted.length > 0 && may(session.data, "maker") && (
        <p className="mb-2 text-xs text-soft">
          {second ? (
            `A model was asked about ${second.list.length} of them (${money(second.cost)}); choose a sentence to see what it says.`
          ) : (
            <button type="button" className="text-leaf underline underline-offset-2" disabled={asking} onClick={ask}>
              {asking
                ? "Asking a model …"
                : `Ask a model about the ${doubted.length === 1 ? "sentence" : `${doubted.length} sentences`} in doubt`}
            </button>
          )}
        </p>
      )}
      <div className="piece text-reading leading-relaxed">
        {list.map((one, i) => (
          <span key={one.start}>
            {i > 0 ? between(text, list[i - 1]!.end, one.start) : ""}
            <button
              type="button"
              aria-pressed={i === at}
              className={`inline text-left ${MARKS[one.level] ?? ""} ${i === at ? "bg-shade" : "hover:bg-shade"}`}
              onClick={() => setChosen(i)}
            >
              <Marked one={one} />
              <span className="sr-only"> ({WORDS[one.level]})</span>
            </button>
          </span>
        ))}
      </div>
      {shown && (
        <div className="mt-3 border-l-2 border-line pl-3 text-sm" aria-live="polite">
          <p className={shown.level === "supported" && !shown.missing.length ? "text-leaf" : "text-brick"}>
            {shown.missing.length
              ? `In no source: ${shown.missing.map((claim) => claim.text).join(", ")}`
              : (WORDS[shown.level] ?? shown.level).replace(/^./, (first) => first.toUpperCase())}
          </p>
          {shown.passage ? (
            <p className="mt-1 font-serif">
              {shown.passage} <span className="slot ml-1 text-xs">{shown.source}</span>
            </p>
          ) : (
            <p className="mt-1 text-soft">No passage of the sources comes near to this.</p>
          )}
          {said && (
            <p className="mt-2 border-t border-line pt-2">
              <span className={said.verdict === "supported" ? "text-leaf" : "text-brick"}>
                The model asked says: {said.verdict}.
              </span>{" "}
              {said.passage && (
                <span className="font-serif">
                  {said.passage} <span className="slot ml-1 text-xs">{said.source}</span>
                </span>
              )}
            </p>
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
