import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import * as reads from "../api/reads";
import { State } from "./State";

const PAUSE = 400;

export const toneOf = (verdict: string) =>
  verdict.startsWith("in this") || verdict.startsWith("near") ? "leaf" : "ochre";

/** How far a text is from its brand's voice, in words; nothing where the brand has no examples. */
export function VoiceOf({ brand, text }: { brand: string; text: string }) {
  // While one types, what is measured is the text as it stood a moment ago.
  const [calm, setCalm] = useState(text);
  useEffect(() => {
    const timer = window.setTimeout(() => setCalm(text), PAUSE);
    return () => window.clearTimeout(timer);
  }, [text]);
  const found = useQuery(reads.voice(brand, calm));
  if (!found.data?.verdict) return null;
  return (
    <section>
      <h3 className="smallcaps mb-1 text-soft">Voice</h3>
      <Verdict verdict={found.data.verdict} differences={found.data.differences} />
    </section>
  );
}

export function Verdict({ verdict, differences }: { verdict: string; differences: string[] }) {
  return (
    <div className="text-sm">
      <State tone={toneOf(verdict)} mark={toneOf(verdict) === "leaf" ? "✓" : "◌"}>
        {verdict}
      </State>
      {differences.length > 0 && (
        <ul className="mt-1 space-y-0.5 text-soft">
          {differences.map((words) => (
            <li key={words}>{words}</li>
          ))}
        </ul>
      )}
    </div>
  );
}
