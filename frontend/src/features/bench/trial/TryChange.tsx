import { useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { api, type Bench } from "../../../api/client";
import { type News, useNews } from "../../../api/live";
import { mutate, staleNow } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Choice, Field, Input } from "../../../components/Field";
import { Failed, Loading } from "../../../components/Quiet";
import { Changes } from "../../../components/Rules";
import { Sentence } from "../../../components/Sentence";
import { sayError } from "../../../components/Toast";
import { count, money, when } from "../../../components/words";
import { between, CAME, type Comparison, chosen, type Pair, verdict } from "./trial";

/** Two versions of a page carried out on the same real items, with nothing going out: what the change mends and what it breaks. */
export function TryChange({
  bench,
  flush,
  onClose,
}: {
  bench: Bench;
  flush: () => Promise<unknown>;
  onClose: () => void;
}) {
  const list = useQuery(reads.revisions(bench.id, bench.revision));
  const last = useQuery(reads.comparison(bench.id));
  const [before, setBefore] = useState(bench.revision ?? 0);
  const [after, setAfter] = useState(0);
  const [samples, setSamples] = useState(true);
  const [days, setDays] = useState("7");
  const [most, setMost] = useState("20");
  const items = useQuery(reads.comparisonItems(bench.id, samples, Number(days) || 0));
  useNews(
    useCallback(
      (news: News) => {
        if (news.topic === "comparison" && news.workflow === bench.id) void staleNow(["comparison", bench.id]);
      },
      [bench.id],
    ),
  );
  const made = last.data?.comparison ?? null;
  const path = { params: { path: { id: bench.id } } };
  const asked = Math.min(items.data?.count ?? 0, Number(most) || 1);

  async function compare() {
    try {
      await flush();
      const body = {
        before,
        after,
        samples,
        days: Number(days) || 0,
        most: Math.max(1, Math.min(60, Number(most) || 20)),
      };
      await mutate(api.POST("/api/workflows/{id}/comparison", { ...path, body }), ["comparison", bench.id]);
    } catch (error) {
      sayError(error);
    }
  }
  const stop = () =>
    mutate(api.DELETE("/api/workflows/{id}/comparison", path), ["comparison", bench.id]).catch(sayError);

  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title="Try the change on real items"
      about="Both versions write for the same items. Nothing goes out, and what was made before is not paid for again."
    >
      {list.isPending || last.isPending ? (
        <Loading what="Fetching the revisions …" />
      ) : list.isError ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : list.data.length === 0 ? (
        <p className="text-sm">
          This page has never been live, so there is nothing to set it against. Its proofs show what it does.
        </p>
      ) : (
        <>
          <div className="flex flex-wrap items-end gap-x-4 gap-y-2 text-sm">
            {(
              [
                ["From", before, setBefore],
                ["to", after, setAfter],
              ] as const
            ).map(([label, value, set]) => (
              <div key={label} className="w-56">
                <Field label={label}>
                  <Choice value={value} onChange={(e) => set(Number(e.target.value))}>
                    <option value={0}>the page as it is now</option>
                    {list.data.map((r) => (
                      <option key={r.number} value={r.number}>
                        revision {r.number}
                        {r.live ? " (live)" : ""}, {when(r.created_at)}
                      </option>
                    ))}
                  </Choice>
                </Field>
              </div>
            ))}
          </div>
          <div className="mt-3 flex flex-wrap items-center gap-x-2 gap-y-2 text-sm">
            <span>On</span>
            <label className="inline-flex items-center gap-1.5">
              <input type="checkbox" checked={samples} onChange={(e) => setSamples(e.target.checked)} /> the samples
            </label>
            <span>and what came in the last</span>
            <Input
              aria-label="Days"
              inputMode="numeric"
              className="!w-14"
              value={days}
              onChange={(e) => setDays(e.target.value.replace(/\D/g, ""))}
            />
            <span>days, at most</span>
            <Input
              aria-label="At most so many items"
              inputMode="numeric"
              className="!w-14"
              value={most}
              onChange={(e) => setMost(e.target.value.replace(/\D/g, ""))}
            />
            <span className="text-soft">
              {items.isPending ? "…" : asked ? `: ${count(asked, "item")}` : ": none is there"}
            </span>
            {made?.going ? (
              <Button className="ml-auto" onClick={stop}>
                Stop
              </Button>
            ) : (
              <Button className="ml-auto" look="main" disabled={before === after || !asked} onClick={compare}>
                Carry both out
              </Button>
            )}
          </div>
          {before === after && <p className="mt-2 text-sm text-ochre">Choose two different versions.</p>}
          {made && <Outcome bench={bench} made={made} />}
        </>
      )}
    </Dialog>
  );
}

const ROWS = [
  ["passes", "Pass in everything"],
  ["rules", "keep their must-rules"],
  ["tests", "meet their tests"],
  ["sources", "say nothing without a source"],
] as const;

function Outcome({ bench, made }: { bench: Bench; made: Comparison }) {
  const [came, setCame] = useState("");
  const [open, setOpen] = useState<string | null>(null);
  const name = (step: string) => bench.lines.find((line) => line.id === step);
  const pairs = chosen(made.pairs, came, "");
  const kinds = Object.keys(CAME).filter((one) => made.pairs.some((pair) => pair.came === one));
  return (
    <div className="mt-4 border-t border-rule pt-3">
      <p className="text-sm text-soft" role="status">
        {made.going
          ? `${made.done} of ${count(made.of, "item")} done …`
          : `${made.before[0]!.toUpperCase()}${made.before.slice(1)} against ${made.after}, on ${count(made.done, "item")}.`}
        {made.failed.length > 0 && ` Could not be carried out: ${made.failed.join(", ")}.`}
      </p>
      {made.lines.map((line) => {
        const told = verdict(line.passes);
        const shown = ROWS.filter(([row]) => row !== "tests" || line.has_tests);
        return (
          <section key={line.step} className="mt-3">
            <h3 className="font-serif">
              {name(line.step) ? <Sentence parts={name(line.step)!.sentence} /> : line.step}{" "}
              <span className={`font-sans text-sm ${told.tone}`}>{told.words}</span>
            </h3>
            <table className="mt-1 w-full max-w-2xl text-sm tabular-nums">
              <thead>
                <tr className="text-right text-xs text-soft">
                  <th className="text-left font-normal">of {count(line.passes.of, "draft")}</th>
                  <th className="font-normal">before</th>
                  <th className="font-normal">after</th>
                  <th className="font-normal">mended</th>
                  <th className="font-normal">broken</th>
                  <th className="pl-4 font-normal">difference (95 %)</th>
                </tr>
              </thead>
              <tbody>
                {shown.map(([row, words]) => (
                  <tr key={row} className="border-t border-line text-right">
                    <th className={`py-0.5 text-left font-normal ${row === "passes" ? "" : "pl-3 text-soft"}`}>
                      {words}
                    </th>
                    <td>{line[row].before}</td>
                    <td>{line[row].after}</td>
                    <td className={line[row].mended ? "text-leaf" : "text-soft"}>{line[row].mended}</td>
                    <td className={line[row].broke ? "text-brick" : "text-soft"}>{line[row].broke}</td>
                    <td className="pl-4">{between(line[row])}</td>
                  </tr>
                ))}
                <tr className="border-t border-line text-right text-soft">
                  <th className="py-0.5 pl-3 text-left font-normal">money and calls a draft</th>
                  <td>{money(line.cost[0] ?? 0)}</td>
                  <td>{money(line.cost[1] ?? 0)}</td>
                  <td colSpan={3} className="pl-4">
                    {(line.calls[0] ?? 0).toFixed(1)} → {(line.calls[1] ?? 0).toFixed(1)} calls
                  </td>
                </tr>
              </tbody>
            </table>
          </section>
        );
      })}
      {made.pairs.length > 0 && (
        <>
          <fieldset className="mt-4 flex flex-wrap gap-3 text-sm">
            <legend className="sr-only">Which drafts</legend>
            {["", ...kinds].map((one) => (
              <button
                key={one}
                type="button"
                aria-pressed={came === one}
                className={`underline-offset-4 ${came === one ? "underline" : "text-soft"}`}
                onClick={() => setCame(one)}
              >
                {one ? `${CAME[one]!.sign} ${CAME[one]!.words}` : "all"} ({chosen(made.pairs, one, "").length})
              </button>
            ))}
          </fieldset>
          <ul className="mt-1">
            {pairs.map((pair) => {
              const key = `${pair.item} ${pair.step} ${pair.place}`;
              return (
                <li key={key} className="border-t border-line">
                  <button
                    type="button"
                    aria-expanded={open === key}
                    className="flex w-full items-baseline gap-3 py-1.5 text-left text-sm hover:bg-shade"
                    onClick={() => setOpen(open === key ? null : key)}
                  >
                    <span className={`w-20 shrink-0 ${CAME[pair.came]!.tone}`}>
                      {CAME[pair.came]!.sign} {CAME[pair.came]!.words}
                    </span>
                    <span className="min-w-0 flex-1 truncate font-serif">{pair.item}</span>
                    <span className="max-w-[45%] truncate text-xs text-soft">
                      {(pair.after.wrong[0] ?? pair.before.wrong[0]) || ""}
                    </span>
                  </button>
                  {open === key && <Both pair={pair} />}
                </li>
              );
            })}
          </ul>
        </>
      )}
    </div>
  );
}

/** Both drafts, the second with what changed marked, each with what is wrong with it. */
function Both({ pair }: { pair: Pair }) {
  return (
    <div className="grid gap-6 pb-3 sm:grid-cols-2">
      {(["before", "after"] as const).map((side) => (
        <div key={side}>
          <h4 className="smallcaps text-soft">{side}</h4>
          {side === "after" && pair.changes.length > 0 && pair.before.text ? (
            <Changes changes={pair.changes} />
          ) : (
            <p className="piece text-reading leading-relaxed whitespace-pre-wrap">{pair[side].text || "–"}</p>
          )}
          {pair[side].wrong.map((words) => (
            <p key={words} className="mt-1 text-sm text-brick">
              ✕ {words}
            </p>
          ))}
          {!pair[side].wrong.length && <p className="mt-1 text-sm text-leaf">✓ nothing is wrong with it</p>}
        </div>
      ))}
    </div>
  );
}
