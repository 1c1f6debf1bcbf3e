import { Tabs } from "radix-ui";
import type { Result } from "../api/client";
import { Away } from "../components/Away";
import { Doing, type Turn } from "../components/Doing";
import { EvidenceOf, sourcesOf } from "../components/Evidence";
import { Post } from "../components/Piece";
import { PieceFull } from "../components/pieces/PieceFull";
import { Cells } from "../components/RowChanges";
import { Findings, Versions } from "../components/Rules";
import { State } from "../components/State";
import { Mail, Markup, Tree } from "../components/Values";
import { VoiceOf } from "../components/Voice";
import { money, when } from "../components/words";
import { Assigned, Beyond, Listed, Picture } from "./Results";

type Props = {
  result: Result;
  stage: string;
  state: string;
  partial: string;
  limit: number | null;
  given: boolean;
  onGiven: (given: boolean) => void;
  /** The brand whose voice a draft is held against. */
  brand?: string;
  /** Whether it is a proof, that can be run; a run’s result stands as it is. */
  proof?: boolean;
};

const TAB =
  "border-b-2 border-transparent px-2 pb-1 text-sm text-soft data-[state=active]:border-leaf data-[state=active]:text-ink";

/** A result in full, as it will appear in its channel; what the step was given, and what was sent, a key away. */
export function Reader({ result, stage, state, partial, limit, given, onGiven, brand = "", proof = true }: Props) {
  return (
    <Tabs.Root value={given ? "given" : "gave"} onValueChange={(tab) => onGiven(tab === "given")}>
      <Tabs.List aria-label="Reader" className="mb-3 flex items-baseline gap-3 border-b border-line">
        <Tabs.Trigger value="gave" className={TAB}>
          {stage === "start" ? "The item" : "Gave"}
        </Tabs.Trigger>
        {stage !== "start" && (
          <Tabs.Trigger value="given" className={TAB}>
            Was given <kbd className="font-sans text-xs opacity-70">G</kbd>
          </Tabs.Trigger>
        )}
        <span className="ml-auto">{state !== "running" && <Spent result={result} />}</span>
      </Tabs.List>
      <Tabs.Content value="gave">
        {state === "stale" && (
          <p className="mb-3">
            <State tone="ochre" mark="◌">
              out of date: made before the last change
            </State>
          </p>
        )}
        {state === "running" ? (
          <div aria-busy="true">
            <State tone="leaf" mark="▸">
              {partial && stage === "draft" ? "writing …" : "working …"}
            </State>
            <div className="piece mt-2 text-lead leading-relaxed">{partial}</div>
            {Array.isArray(result.detail.talk) && (
              <section className="mt-5">
                <h3 className="smallcaps mb-2 text-soft">What it did so far</h3>
                <Doing talk={result.detail.talk as Turn[]} />
              </section>
            )}
          </div>
        ) : (
          <Gave result={result} stage={stage} limit={limit} stale={state === "stale"} brand={brand} proof={proof} />
        )}
      </Tabs.Content>
      <Tabs.Content value="given">
        <Given result={result} />
      </Tabs.Content>
    </Tabs.Root>
  );
}

/** What is said of a piece by how it stands in the outbox. */
const WENT: Record<string, string> = {
  queued: "Waits in the outbox like this:",
  held: "Is held in the outbox like this:",
  going: "Goes out, one letter after another:",
  intent: "Is on its way like this:",
  accepted: "Was taken like this, and is looked for until it is there:",
  unsure: "May have gone out like this; nobody can tell:",
  failed: "Did not go out:",
};

/** What a line that records would do. */
const WRITES: Record<string, string> = {
  add: "Would be written as a new row.",
  write: "Would be written into the row; the rest of it stays.",
  move: "The row would go to another sheet.",
  remove: "The row would be removed.",
};

function Spent({ result }: { result: Result }) {
  if (!result.usage.calls) return result.at ? <span className="text-xs text-soft">made {when(result.at)}</span> : null;
  const { calls, tokens_in, tokens_out, cost, seconds } = result.usage;
  return (
    <span className="text-xs text-soft">
      {calls} call{calls > 1 ? "s" : ""} ·{" "}
      {tokens_in + tokens_out > 0 && `${tokens_in} tokens in, ${tokens_out} out · `}
      {money(cost)} · {seconds.toFixed(1)} s
    </span>
  );
}

function Gave({
  result,
  stage,
  limit,
  stale,
  brand,
  proof,
}: {
  result: Result;
  stage: string;
  limit: number | null;
  stale: boolean;
  brand: string;
  proof: boolean;
}) {
  const output = result.output as Record<string, unknown>;
  const text = String(output.text ?? "");
  if (result.state === "muted")
    return <p className="text-sm text-soft">This line is muted, so it is passed over in proofs and live.</p>;
  if (result.state === "passed")
    return (
      <p className="text-sm text-soft">
        This line did not run for this item: its lane was not taken, or the page ended further up.
      </p>
    );
  return (
    <div className="space-y-5">
      {result.message && (
        <p role="alert" className="border-l-2 border-brick pl-3 text-sm text-brick">
          {result.message}
        </p>
      )}
      {!!result.detail.take && (
        <p className="text-sm text-soft">Written by “{String(result.detail.take)}”, drawn by lot.</p>
      )}
      {!!result.detail.ended && <p className="text-sm text-soft">The page ended here: {String(result.detail.ended)}</p>}
      {!Object.keys(output).length && !result.message && !result.versions.length && !result.detail.ended && (
        <p className="text-sm text-soft">
          {proof ? "Nothing yet. Run this cell to see what it gives." : "It gave nothing here."}
        </p>
      )}
      {String(output.type ?? "").startsWith("image/") && output.link ? (
        <Picture output={output} />
      ) : Array.isArray(result.detail.talk) ? (
        <Assigned result={result} text={text} stale={stale} />
      ) : stage === "draft" ? (
        <Draft result={result} text={text} limit={limit} parts={partsOf(output)} stale={stale} brand={brand} />
      ) : stage === "ask" && text ? (
        <>
          <p className="text-sm text-soft">
            {result.detail.would && output.note
              ? `Played: sent back with the note “${output.note}”, and rewritten. A run asks the person.`
              : result.detail.would
                ? "In a live run this is put before a person, who may pass it or send it back:"
                : `Passed by ${output.by}${output.edited ? ", with changes" : ""}:`}
          </p>
          <Post text={text} limit={limit} />
        </>
      ) : result.piece ? (
        <>
          <p className="text-sm text-soft">
            {result.detail.would
              ? result.piece.piece.form === "act"
                ? `Would be done at ${result.piece.channel}. A proof does nothing there.`
                : `Would go out${result.piece.channel ? ` through ${result.piece.channel}` : ""} like this. A proof lets nothing out.`
              : result.piece.state === "queued" && result.piece.at && result.piece.at > Date.now() / 1000
                ? `Goes out ${when(result.piece.at)} like this:`
                : (WENT[result.piece.state] ?? "Went out like this:")}
            {result.piece.link ? (
              <Away to={result.piece.link} className="ml-2 text-leaf underline">
                Look at it there
              </Away>
            ) : null}
          </p>
          <PieceFull view={result.piece} />
          {result.piece.piece.form === "act" && Object.values(output).some(Boolean) && <Tree values={output} />}
        </>
      ) : stage === "record" && (result.detail.cells || output.row) ? (
        <>
          <p className="text-sm text-soft">
            {result.detail.would
              ? `${WRITES[String(result.detail.what)] ?? WRITES.add} A proof writes nothing.`
              : output.row
                ? `Row ${output.row} of ${output.sheet}.`
                : `Nothing was written into ${output.sheet}.`}
            {!!result.detail.changed_by && ` Written before by ${result.detail.changed_by}.`}
          </p>
          {Array.isArray(result.detail.rows) && result.detail.rows.length !== 1 ? (
            <Listed output={{ items: result.detail.rows }} />
          ) : (
            <Cells
              before={(result.detail.before as Record<string, unknown>) ?? {}}
              after={(result.detail.cells as Record<string, unknown>) ?? {}}
            />
          )}
        </>
      ) : output.subject && (output.text || output.html) ? (
        <Mail mail={output} />
      ) : stage === "gather" && Array.isArray(output.items ?? output.chapters) ? (
        <Listed output={output} />
      ) : stage === "gather" && text ? (
        <article>
          <h3 className="font-serif text-xl leading-snug">{String(output.title ?? "")}</h3>
          <p className="mt-1 mb-3 text-xs text-soft">
            {[output.author, output.date, output.words ? `${output.words} words` : ""].filter(Boolean).join(" · ")}{" "}
            {output.link ? (
              <Away to={String(output.link)} className="text-leaf underline">
                the page itself
              </Away>
            ) : null}
          </p>
          <div className="piece leading-relaxed [&]:whitespace-pre-line">
            {text.includes("\n\n") ? text : text.replaceAll("\n", "\n\n")}
          </div>
          <Beyond output={output} />
        </article>
      ) : (
        <Tree values={output} />
      )}
    </div>
  );
}

/** The values of an answer that is more than a text. */
const partsOf = (output: Record<string, unknown>) =>
  Object.fromEntries(
    Object.entries(output).filter(([name]) => !["text", "characters", "words", "html"].includes(name)),
  );

function Draft({
  result,
  text,
  limit,
  parts,
  stale,
  brand,
}: {
  result: Result;
  text: string;
  limit: number | null;
  parts: Record<string, unknown>;
  stale: boolean;
  brand: string;
}) {
  const last = result.versions.at(-1);
  const shown = text || last?.text || "";
  const page = String((result.output as Record<string, unknown>).html ?? "");
  if (!shown) return null;
  return (
    <>
      {Object.keys(parts).length ? (
        <Tree values={parts} />
      ) : page ? (
        <Markup html={page} />
      ) : (
        <Post text={shown} limit={limit} />
      )}
      <section>
        <h3 className="smallcaps mb-1 text-soft">Rules</h3>
        <Findings findings={last?.findings ?? []} />
      </section>
      {!Object.keys(parts).length && <VoiceOf brand={brand} text={shown} />}
      {!Object.keys(parts).length && result.given.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">Evidence</h3>
          {stale ? (
            <p className="text-sm text-soft">
              What it was made from has changed. Run the cell again to see its evidence.
            </p>
          ) : (
            <EvidenceOf
              text={shown}
              sources={sourcesOf(result.given as { path: string; value: unknown }[])}
              opinions={result.versions.findLast((version) => version.opinions?.length)?.opinions}
            />
          )}
        </section>
      )}
      {result.versions.length > 1 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">How it got there</h3>
          <Versions versions={result.versions} />
        </section>
      )}
    </>
  );
}

function Given({ result }: { result: Result }) {
  return (
    <div className="space-y-5">
      {result.given.length === 0 && <p className="text-sm text-soft">This line takes no values from earlier steps.</p>}
      <Tree values={Object.fromEntries(result.given.map((g) => [String(g.path), g.value]))} slots />
      {Array.isArray(result.detail.missing) && result.detail.missing.length > 0 && (
        <p className="text-sm text-ochre">Had no value here: {result.detail.missing.join(", ")}.</p>
      )}
      {Array.isArray(result.detail.told) && (
        <ul className="space-y-1 text-sm text-ochre">
          {(result.detail.told as string[]).map((words) => (
            <li key={words}>{words}</li>
          ))}
        </ul>
      )}
      {result.messages.length > 0 && (
        <section>
          <h3 className="smallcaps mb-1 text-soft">The prompt as sent</h3>
          {result.messages.map((m, i) => (
            <div key={i} className="mb-3 border-l-2 border-line pl-3">
              <div className="text-xs text-soft">{m.role}</div>
              <div className="text-sm whitespace-pre-wrap [overflow-wrap:anywhere]">{m.content}</div>
            </div>
          ))}
        </section>
      )}
    </div>
  );
}
