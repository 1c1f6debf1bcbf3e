import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import * as reads from "../../api/reads";
import { useSession } from "../../app/session";
import { Away } from "../Away";
import { count, when } from "../words";

/** What came back of a piece that went out: answers, presses of its links, who left. Nothing where nothing did. */
export function CameBack({ id }: { id: number }) {
  const signedIn = !!useSession().data?.signed_in;
  const found = useQuery({ ...reads.cameBack(id), enabled: signedIn });
  const [open, setOpen] = useState("");
  if (!found.data || !Object.keys(found.data.counts).length) return null;
  const { counts, pressed, answers } = found.data;
  const told: [string, string][] = [];
  if (counts.answer) told.push(["answer", count(counts.answer, "answer")]);
  if (counts.press) told.push(["press", `${count(counts.press, "reader")} pressed a link`]);
  if (counts.left) told.push(["left", `${counts.left} left by it`]);
  if (counts.bounce) told.push(["bounce", `${counts.bounce} came back`]);
  const opens = (what: string) => what === "answer" || what === "press";
  return (
    <section aria-label="What came back" className="border-b border-line px-4 py-2 text-sm">
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
