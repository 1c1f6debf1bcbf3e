import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Bench } from "../../../api/client";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Input } from "../../../components/Field";
import { count, money } from "../../../components/words";

type Props = {
  bench: Bench;
  onClose: () => void;
  onTry: () => void;
  onChoose: (line: string) => void;
  onTurn: (to: "live" | "pause", aDay?: number) => void;
};

/** Before it goes live: what is missing, what is risky, and what a month of it will use. */
export function GoLive({ bench, onClose, onTry, onChoose, onTurn }: Props) {
  const before = useQuery(reads.beforeLive(bench.id, bench.version));
  const [what, setWhat] = useState<"" | "pass" | "run">("");
  const [aDay, setADay] = useState("10");
  const problems = before.data?.problems ?? bench.problems;
  const errors = problems.filter((p) => p.severity === "error");
  const waiting = before.data?.waiting ?? 0;
  const unasked = waiting > 0 && !what;
  const numbers = new Map(
    bench.lines.filter((l) => l.kind !== "lane" && l.kind !== "take").map((l, i) => [l.id, i + 1]),
  );
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title="Before it goes live"
      about="What is missing keeps it from going live; what is risky is for you to weigh."
    >
      <div className="grid items-start gap-8 sm:min-h-56 sm:grid-cols-[3fr_2fr]">
        <section>
          {problems.length === 0 ? (
            <p className="text-sm">Nothing is missing, and nothing looks risky.</p>
          ) : (
            <ul>
              {problems.map((p, i) => (
                <li key={i}>
                  <button
                    type="button"
                    className="w-full border-b border-line py-1.5 text-left text-sm hover:bg-shade"
                    onClick={() => {
                      onClose();
                      onChoose(p.step);
                    }}
                  >
                    <span className={p.severity === "error" ? "text-brick" : "text-ochre"}>
                      {p.severity === "error" ? "✕ missing" : "! risky"}
                    </span>{" "}
                    {p.message} <span className="text-soft">line {numbers.get(p.step)}</span>
                  </button>
                </li>
              ))}
            </ul>
          )}
          {bench.revision && bench.changed && (
            <p className="mt-3 text-sm">
              <button type="button" className="text-leaf underline underline-offset-2" onClick={onTry}>
                Try the change on real items first
              </button>{" "}
              <span className="text-soft">to see what it mends and what it breaks.</span>
            </p>
          )}
        </section>
        <Forecast bench={bench} onChoose={onChoose} onClose={onClose} />
      </div>
      {waiting > 0 && before.data && (
        <fieldset className="mt-5 border-t border-rule pt-3 text-sm">
          <legend className="float-left mb-1 w-full font-serif text-lg">
            {count(waiting, before.data.of.includes("row") ? "row" : "item")} {waiting === 1 ? "is" : "are"} there
            already. What is to become of {waiting === 1 ? "it" : "them"}?
          </legend>
          <p className="mb-2 w-full text-xs text-soft">
            {before.data.titles.join(" · ")}
            {waiting > before.data.titles.length && " · …"}
          </p>
          <label className="mr-6 inline-flex items-baseline gap-2">
            <input type="radio" name="waiting" checked={what === "pass"} onChange={() => setWhat("pass")} />
            Pass {waiting === 1 ? "it" : "them"} over; only what comes from now on starts runs
          </label>
          <label className="mt-1 inline-flex items-baseline gap-2">
            <input type="radio" name="waiting" checked={what === "run"} onChange={() => setWhat("run")} />
            Run for {waiting === 1 ? "it" : "them"},
            <Input
              type="number"
              min={1}
              aria-label="So many a day"
              className="!w-20"
              value={aDay}
              onFocus={() => setWhat("run")}
              onChange={(e) => setADay(e.target.value)}
            />
            a day
          </label>
        </fieldset>
      )}
      <div className="mt-5 flex items-baseline gap-2">
        <Button
          look="main"
          disabled={errors.length > 0 || before.isPending || unasked || (what === "run" && !(Number(aDay) > 0))}
          onClick={() => onTurn("live", what === "run" ? Number(aDay) : 0)}
        >
          Go live
        </Button>
        {before.isPending && <span className="text-sm text-soft">Looking what is there for its start …</span>}
        {unasked && errors.length === 0 && (
          <span className="text-sm text-ochre">Say first what becomes of what is there.</span>
        )}
        {bench.state === "live" && <Button onClick={() => onTurn("pause")}>Pause instead</Button>}
        <Button look="quiet" onClick={onClose}>
          Not yet
        </Button>
      </div>
    </Dialog>
  );
}

/** Runs, calls, tokens and money in thirty days, from the proofs and the start. */
function Forecast({ bench, onChoose, onClose }: Pick<Props, "bench" | "onChoose" | "onClose">) {
  const told = useQuery(reads.forecast(bench.id, bench.version));
  const [typed, setTyped] = useState<string | null>(null);
  if (told.isPending) return <p className="text-sm text-soft">Working the forecast out …</p>;
  if (told.isError) return <p className="text-sm text-brick">{told.error.message}</p>;
  const f = told.data;
  const runs = typed === null ? f.runs : Number(typed) || 0;
  const over = runs !== null && f.month_money !== null && runs * f.cost > f.month_money;
  const rows: [string, string, string][] = [
    ["Calls", String(f.calls), runs === null ? "?" : Math.round(runs * f.calls).toLocaleString()],
    ["Tokens", f.tokens.toLocaleString(), runs === null ? "?" : Math.round(runs * f.tokens).toLocaleString()],
    ["Money", money(f.cost), runs === null ? "?" : money(runs * f.cost)],
  ];
  return (
    <section aria-label="Forecast" className="text-sm">
      <h3 className="smallcaps border-b border-rule pb-1 text-soft">A month of it</h3>
      <table className="mt-1 w-full tabular-nums">
        <thead>
          <tr className="text-xs text-soft">
            <th className="text-left font-normal">
              <span className="sr-only">What</span>
            </th>
            <th className="py-1 text-right font-normal">a run</th>
            <th className="py-1 text-right font-normal">30 days</th>
          </tr>
        </thead>
        <tbody>
          <tr className="border-b border-line">
            <th className="py-1 text-left font-normal">Runs</th>
            <td />
            <td className="py-1 text-right">
              <Input
                aria-label="Runs in thirty days"
                className="!w-24 text-right"
                type="number"
                min={0}
                value={typed ?? (f.runs === null ? "" : String(Math.round(f.runs)))}
                placeholder="how many?"
                onChange={(e) => setTyped(e.target.value)}
              />
            </td>
          </tr>
          {rows.map(([what, run, month]) => (
            <tr key={what} className="border-b border-line">
              <th className="py-1 text-left font-normal">{what}</th>
              <td className="py-1 text-right">{run}</td>
              <td className={`py-1 text-right ${over && what === "Money" ? "text-brick" : ""}`}>{month}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-xs text-soft">
        {typed === null ? f.how && `Runs ${f.how}.`.replace("Runs It", "It").replace("..", ".") : "Runs as you typed."}
      </p>
      {f.sent_back > 0 && (
        <p className="mt-1 text-xs text-soft">
          Drafts were sent back {f.sent_back.toFixed(1)} times each in live runs; that is counted in.
        </p>
      )}
      {f.places.map((one) => {
        const pieces = runs === null ? null : Math.round(runs * one.pieces);
        return (
          <p
            key={one.channel}
            className={`mt-1 text-xs ${pieces !== null && pieces > one.places ? "text-ochre" : "text-soft"}`}
          >
            {pieces === null ? `${one.pieces} a run` : `${count(pieces, "piece")} a month`} for{" "}
            {count(one.places, "place")} on {one.channel}
            {pieces !== null && pieces > one.places ? ": they will wait ever longer." : "."}
          </p>
        );
      })}
      {f.quotas.map((one) => {
        const needs = runs === null ? null : Math.round(runs * one.a_run);
        const tight = needs !== null && needs > one.most;
        return (
          <p key={`${one.connection}${one.what}`} className={`mt-1 text-xs ${tight ? "text-ochre" : "text-soft"}`}>
            {needs === null
              ? `${one.a_run.toFixed(1)} ${one.what} a run`
              : `${needs.toLocaleString()} ${one.what} a month`}{" "}
            of the {one.most.toLocaleString()} that {one.connection} may have
            {tight ? ": runs will pause and ask when they are used up." : "."}
          </p>
        );
      })}
      {over && (
        <p className="mt-1 text-xs text-brick">
          ✕ Over the limit of {money(f.month_money!)} a month: runs will pause and ask when it is reached.
        </p>
      )}
      {f.unproofed.length > 0 && (
        <p className="mt-1 text-xs text-ochre">
          ! No proof yet, so left out:{" "}
          {f.unproofed.map((line) => (
            <button
              key={line}
              type="button"
              className="slot mr-1"
              onClick={() => {
                onClose();
                onChoose(line);
              }}
            >
              {line}
            </button>
          ))}
        </p>
      )}
    </section>
  );
}
