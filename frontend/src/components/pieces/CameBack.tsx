import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import * as reads from "../../api/reads";
import { useSession } from "../../app/session";
import { Away } from "../Away";
import { count, lasting, when } from "../words";

/** What came back of a piece that went out: answers, presses of its links, who left, its channel’s numbers. Nothing where nothing did. */
export function CameBack({ id, inset = false }: { id: number; inset?: boolean }) {
  const signedIn = !!useSession().data?.signed_in;
  const found = useQuery({ ...reads.cameBack(id), enabled: signedIn });
  const [open, setOpen] = useState("");
  if (!found.data) return null;
  const { counts, pressed, answers, numbers = [], wrong, next_at } = found.data;
  if (!Object.keys(counts).length && !numbers.length && !wrong && !next_at) return null;
  const told: [string, string][] = [];
  if (counts.answer) told.push(["answer", count(counts.answer, "answer")]);
  if (counts.press) told.push(["press", `${count(counts.press, "reader")} pressed a link`]);
  if (counts.left) told.push(["left", `${counts.left} left by it`]);
  if (counts.bounce) told.push(["bounce", `${counts.bounce} came back`]);
  const opens = (what: string) => what === "answer" || what === "press";
  return (
    <section
      aria-label="What came back"
      className={`text-sm ${inset ? "border-b border-line px-4 py-2" : "mt-4 border-t border-line pt-2"}`}
    >
      <p className="flex flex-wrap gap-x-3">
        {told.map(([what, words]) =>
          opens(what) ? (
            <button
              key={what}
              type="button"
              aria-expanded={open === what}
              onClick={() => setOpen(open === what ? "" : what)}
              className="font-semibold text-leaf underline underline-offset-2"
            >
              {words}
            </button>
          ) : (
            <span key={what} className="text-soft">
              {words}
            </span>
          ),
        )}
      </p>
      {(numbers.length > 0 || wrong || next_at) && <Numbers numbers={numbers} wrong={wrong} next={next_at} />}
      {open === "answer" && (
        <ul className="mt-1 max-h-72 divide-y divide-line overflow-y-auto">
          {answers.map((one) => (
            <li key={`${one.who}${one.at}`} className="py-1.5">
              <p className="text-xs text-soft">
                {one.who}, {when(one.at)}
              </p>
              <p className="font-serif whitespace-pre-wrap [overflow-wrap:anywhere]">{one.text}</p>
            </li>
          ))}
        </ul>
      )}
      {open === "press" && (
        <ul className="mt-1">
          {pressed.map((one) => (
            <li key={one.link} className="flex gap-3">
              <span className="w-10 shrink-0 text-right tabular-nums">{one.readers}</span>
              <Away to={one.link} className="text-soft underline [overflow-wrap:anywhere]">
                {one.link}
              </Away>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

type Told = { after: number; numbers: Record<string, number> };

/** What the channel said in numbers, one line for each time it was asked. */
function Numbers({ numbers, wrong, next }: { numbers: Told[]; wrong?: string; next?: number | null }) {
  const names = [...new Set(numbers.flatMap((one) => Object.keys(one.numbers)))];
  return (
    <>
      {numbers.length > 0 && (
        <table className="mt-1 tabular-nums">
          <thead>
            <tr className="text-left text-xs text-soft">
              <th className="pr-6 font-normal">After</th>
              {names.map((name) => (
                <th key={name} className="pr-6 text-right font-normal">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {numbers.map((one) => (
              <tr key={one.after}>
                <td className="pr-6 text-soft">{lasting(one.after)}</td>
                {names.map((name) => (
                  <td key={name} className="pr-6 text-right">
                    {one.numbers[name]?.toLocaleString() ?? ""}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {wrong ? (
        <p className="text-xs text-brick">The channel did not tell its numbers: {wrong}</p>
      ) : next ? (
        <p className="text-xs text-soft">Asked for its numbers {when(next)}.</p>
      ) : null}
    </>
  );
}
