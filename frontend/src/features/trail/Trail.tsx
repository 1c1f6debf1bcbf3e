import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Choice, Field, Input } from "../../components/Field";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { when } from "../../components/words";

/** Who did what, when and from where: found by words, person and day, and saved as a file. */
export function Trail() {
  const [search, setSearch] = useSearchParams();
  const asked = {
    words: search.get("words") ?? "",
    who: search.get("who") ?? "",
    since: search.get("since") ?? "",
    until: search.get("until") ?? "",
  };
  const [typed, setTyped] = useState(asked.words);
  const set = (name: string, value: string) => {
    const after = new URLSearchParams(window.location.search);
    if (value) after.set(name, value);
    else after.delete(name);
    setSearch(after, { replace: true });
  };
  const trail = useInfiniteQuery(reads.trail(asked));
  const lines = trail.data?.pages.flatMap((page) => page.lines) ?? [];
  const people = trail.data?.pages[0]?.people ?? [];
  const narrowed = Object.values(asked).some(Boolean);
  const query = new URLSearchParams(Object.entries(asked).filter(([, value]) => value));
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">Audit trail</h1>
      <div className="mt-4 flex flex-wrap items-end gap-3">
        <Field label="Find">
          <Input
            className="!w-56"
            placeholder="words of what was done"
            value={typed}
            onChange={(e) => {
              setTyped(e.target.value);
              set("words", e.target.value);
            }}
          />
        </Field>
        <Field label="Who">
          <Choice className="!w-auto" value={asked.who} onChange={(e) => set("who", e.target.value)}>
            <option value="">everybody</option>
            {people.map((who) => (
              <option key={who}>{who}</option>
            ))}
          </Choice>
        </Field>
        <Field label="From day">
          <Input type="date" className="!w-auto" value={asked.since} onChange={(e) => set("since", e.target.value)} />
        </Field>
        <Field label="To day">
          <Input type="date" className="!w-auto" value={asked.until} onChange={(e) => set("until", e.target.value)} />
        </Field>
        <a
          className="ml-auto text-sm text-leaf underline underline-offset-2"
          href={`/api/trail/trail.csv?${query}`}
          download
        >
          Save as CSV
        </a>
      </div>
      {trail.isPending ? (
        <Loading what="Fetching the trail …" />
      ) : trail.isError ? (
        <Failed error={trail.error} again={() => trail.refetch()} />
      ) : lines.length === 0 ? (
        <Empty title={narrowed ? "Nothing fits." : "Nothing was done yet."}>
          {narrowed ? "Try fewer words, or more days." : "What people change here is listed with their name."}
        </Empty>
      ) : (
        <table className="mt-4 w-full text-sm">
          <thead>
            <tr className="border-b border-rule text-left text-xs text-soft max-md:sr-only">
              <th className="w-36 py-1.5 font-normal">When</th>
              <th className="w-56 font-normal">Who</th>
              <th className="font-normal">What</th>
              <th className="w-32 font-normal">From</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((line) => (
              <tr
                key={line.id}
                className="border-b border-line align-baseline max-md:flex max-md:flex-wrap max-md:gap-x-3 max-md:py-2"
              >
                <td className="pr-3 whitespace-nowrap text-soft max-md:text-xs md:py-1.5">{when(line.at)}</td>
                <td className="truncate pr-3 max-md:text-xs max-md:text-soft md:max-w-0" title={line.who}>
                  {line.who}
                </td>
                <td className="pr-3 break-words max-md:order-first max-md:w-full">
                  {line.did}
                  {line.what && <span className="text-soft">: {line.what}</span>}
                </td>
                <td className="text-soft max-md:text-xs">{line.place || "the house"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {trail.hasNextPage && (
        <Button className="mt-4" disabled={trail.isFetchingNextPage} onClick={() => trail.fetchNextPage()}>
          {trail.isFetchingNextPage ? "Fetching …" : "Earlier"}
        </Button>
      )}
    </main>
  );
}
