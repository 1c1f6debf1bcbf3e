import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Result } from "../api/client";
import * as reads from "../api/reads";
import { Failed, Loading } from "./Quiet";
import { Changes, Findings } from "./Rules";
import { characters, money } from "./words";

/** A result as plain text, for setting it beside another. */
export function plainText(result: Result): string {
  const output = result.output as Record<string, unknown>;
  if (result.message) return result.message;
  if (typeof output.text === "string" && output.text) return output.text;
  const cells = result.detail.cells as Record<string, unknown> | undefined;
  return Object.entries(cells ?? output)
    .map(([name, value]) => `${name}: ${typeof value === "string" ? value : JSON.stringify(value, null, 1)}`)
    .join("\n");
}

type Side = { name: string; result: Result };

/** Two results beside each other; in the second, what is different from the first is marked. */
export function Beside({ before, after }: { before: Side; after: Side }) {
  const [marked, setMarked] = useState(true);
  const texts = { before: plainText(before.result), after: plainText(after.result) };
  const found = useQuery(reads.compared(texts));
  if (found.isPending) return <Loading what="Comparing …" />;
  if (found.isError) return <Failed error={found.error} again={() => found.refetch()} />;
  const same = texts.before === texts.after;
  return (
    <div>
      <div className="mb-2 flex items-center gap-3 text-xs text-soft">
        <span>{same ? "Both are the same." : `${share(found.data)} of the words are the same.`}</span>
        {!same && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={marked} onChange={(event) => setMarked(event.target.checked)} /> Mark what
            is different
          </label>
        )}
      </div>
      <div className="grid grid-cols-2 gap-5">
        {[before, after].map((side, i) => (
          <section key={side.name + String(i)} aria-label={side.name} className="min-w-0">
            <h3 className="mb-1 truncate text-xs text-soft" title={side.name}>
              {side.name}
            </h3>
            {marked && !same ? (
              <Changes beside changes={found.data.filter((c) => c.what !== (i ? "removed" : "added"))} />
            ) : (
              <div className="piece text-reading leading-relaxed">{i ? texts.after : texts.before}</div>
            )}
            <p className="mt-2 text-xs text-soft">
              {characters(i ? texts.after : texts.before)} characters
              {side.result.usage.calls ? ` · ${money(side.result.usage.cost)}` : ""}
            </p>
            {!!side.result.versions.at(-1)?.findings.length && (
              <div className="mt-2">
                <Findings findings={side.result.versions.at(-1)!.findings} />
              </div>
            )}
          </section>
        ))}
      </div>
    </div>
  );
}

/** How much of the two is the same, in per cent of the words of the longer. */
function share(changes: { what: string; text: string }[]): string {
  const words = (what: string) =>
    changes.filter((c) => c.what === what).reduce((sum, c) => sum + (c.text.match(/\w+/g)?.length ?? 0), 0);
  const same = words("same");
  const most = same + Math.max(words("added"), words("removed"));
  return `${most ? Math.round((100 * same) / most) : 100} %`;
}
