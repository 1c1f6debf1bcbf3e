import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Choice, Input } from "../../components/Field";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { RunState } from "../../components/State";
import { money, RUN_WORDS, when } from "../../components/words";

/** Everything that happened, found by words, workflow and state. */
export function Runs() {
  const [search, setSearch] = useSearchParams();
  const words = search.get("words") ?? "";
  const workflow = search.get("workflow");
  const state = search.get("state") ?? "";
  const [typed, setTyped] = useState(words);
  const set = (name: string, value: string) => {
    // Read from the address itself: two changes in quick succession must both count.
    const after = new URLSearchParams(window.location.search);
    if (value) after.set(name, value);
    else after.delete(name);
    setSearch(after, { replace: true });
  };
  const workflows = useQuery(reads.workflows());
  const runs = useInfiniteQuery(reads.runs(words, workflow ? Number(workflow) : null, state));
  const list = runs.data?.pages.flatMap((p) => p.runs) ?? [];
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">Runs</h1>
      <div className="mt-4 flex flex-wrap gap-2">
        <Input
          aria-label="Find by words"
          placeholder="Find by words"
          className="!w-64"
          value={typed}
          onChange={(e) => {
            setTyped(e.target.value);
            set("words", e.target.value);
          }}
        />
        <Choice
          aria-label="Workflow"
          className="!w-auto"
          value={workflow ?? ""}
          onChange={(e) => set("workflow", e.target.value)}
        >
          <option value="">every workflow</option>
          {workflows.data?.map((w) => (
            <option key={w.id} value={w.id}>
              {w.name}
            </option>
          ))}
        </Choice>
        <Choice aria-label="State" className="!w-auto" value={state} onChange={(e) => set("state", e.target.value)}>
          <option value="">every state</option>
          <option value="failed,unsure,stuck,held">to decide on</option>
          {Object.entries(RUN_WORDS).map(([key, word]) => (
            <option key={key} value={key}>
              {word}
            </option>
          ))}
        </Choice>
      </div>
      {runs.isPending ? (
        <Loading what="Fetching the runs …" />
      ) : runs.isError ? (
        <Failed error={runs.error} again={() => runs.refetch()} />
      ) : list.length === 0 ? (
        <Empty title={words || workflow || state ? "No run fits." : "Nothing has run yet."}>
          {words || workflow || state
            ? "Try fewer words or another state."
            : "A live workflow begins a run for each new item its start finds."}
        </Empty>
      ) : (
        <table className="mt-4 w-full text-sm">
          <thead>
            <tr className="border-b border-rule text-left text-xs text-soft">
              <th className="w-32 py-1.5 font-normal">Began</th>
              <th className="font-normal">Item</th>
              <th className="w-56 font-normal">Workflow</th>
              <th className="w-44 font-normal">State</th>
              <th className="w-20 text-right font-normal">Cost</th>
            </tr>
          </thead>
          <tbody>
            {list.map((run) => (
              <tr key={run.id} className="border-b border-line align-baseline hover:bg-sheet">
                <td className="py-2 text-soft">{when(run.started_at)}</td>
                <td className="pr-4">
                  <Link to={`/runs/${run.id}`} className="font-serif text-base hover:underline hover:decoration-leaf">
                    {run.title}
                  </Link>
                  {run.message && run.state !== "done" && (
                    <span className={`block text-xs ${run.state === "declined" ? "text-soft" : "text-brick"}`}>
                      {run.message}
                    </span>
                  )}
                </td>
                <td className="text-soft">{run.workflow_name}</td>
                <td>
                  <RunState state={run.state} />
                </td>
                <td className="text-right text-soft">{run.cost ? money(run.cost) : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {runs.hasNextPage && (
        <Button className="mt-4" disabled={runs.isFetchingNextPage} onClick={() => runs.fetchNextPage()}>
          {runs.isFetchingNextPage ? "Fetching …" : "Earlier runs"}
        </Button>
      )}
    </main>
  );
}
