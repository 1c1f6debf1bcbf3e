import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { useKeys } from "../../components/keys";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { count } from "../../components/words";
import { Desk } from "./desk/Desk";
import { Decided, ordered, stackAt, Waiting } from "./queue/Queue";
import { Stack } from "./queue/Stack";

const AT_ONCE = 50;

/** The desk: the queue on one side, the piece (or a stack of alike ones) in the middle, the evidence on the other side. */
export function Approvals() {
  const [limit, setLimit] = useState(AT_ONCE);
  const [listed, setListed] = useState(false);
  const queue = useQuery(reads.approvals(limit));
  const { id, workflow, step } = useParams();
  const go = useNavigate();
  const waiting = ordered(queue.data?.open ?? [], queue.data?.stacks ?? []);
  const places = [
    ...waiting.map((one) => ("count" in one ? stackAt(one) : `/approvals/${one.id}`)),
    ...(queue.data?.decided ?? []).map((one) => `/approvals/${one.id}`),
  ];
  const here = step ? `/approvals/stacks/${workflow}/${step}` : id ? `/approvals/${id}` : places[0];
  const move = (by: number) => {
    const at = places.indexOf(here ?? "");
    const next = places[Math.min(places.length - 1, Math.max(0, at + by))];
    if (next) go(next);
  };
  useKeys(step ? {} : { j: () => move(1), k: () => move(-1) });
  if (queue.isPending) return <Loading what="Fetching the drafts …" />;
  if (queue.isError) return <Failed error={queue.error} again={() => queue.refetch()} />;
  const { open, stacks, decided, waiting: all } = queue.data;
  const more = all - open.length - stacks.reduce((sum, stack) => sum + stack.count, 0);
  const chosen = here?.startsWith("/approvals/stacks/") ? undefined : Number(here?.split("/").at(-1)) || undefined;
  const stack = here?.startsWith("/approvals/stacks/") ? here.slice("/approvals/stacks/".length) : undefined;
  const next = places.slice(0, waiting.length).find((place) => place !== here);
  return (
    <main className="grid min-h-0 flex-1 lg:h-[calc(100vh-45px)] lg:grid-cols-[19rem_1fr]">
      <nav aria-label="Drafts" className="overflow-y-auto border-r border-line py-4 max-lg:border-r-0 max-lg:py-0">
        {/* On a phone the piece comes first: the list opens over it, and what was decided is found under Runs. */}
        <button
          type="button"
          aria-expanded={listed}
          className="w-full border-b border-line px-4 py-3 text-left text-sm lg:hidden"
          onClick={() => setListed(!listed)}
        >
          {all === 0 ? "No draft waits" : `${all} waiting`} {listed ? "▴" : "▾"}
        </button>
        <div className={listed ? "" : "max-lg:hidden"} onClickCapture={() => setListed(false)}>
          {waiting.length > 0 && (
            <section className="mb-5" aria-labelledby="waiting">
              <h2 id="waiting" className="smallcaps px-4 pb-1 text-soft max-lg:sr-only">
                Waiting
              </h2>
              <Waiting open={open} stacks={stacks} chosen={chosen} stack={stack} />
            </section>
          )}
          {all === 0 && <p className="px-4 pb-4 text-sm text-soft max-lg:hidden">No draft waits.</p>}
          {more > 0 && (
            <p className="mb-5 px-4 text-sm text-soft">
              {count(more, "more draft")}{" "}
              <Button look="quiet" onClick={() => setLimit(limit + AT_ONCE)}>
                Show more
              </Button>
            </p>
          )}
          {decided.length > 0 && (
            <section className="mb-5 max-lg:hidden" aria-labelledby="decided">
              <h2 id="decided" className="smallcaps px-4 pb-1 text-soft">
                Decided
              </h2>
              <Decided list={decided} chosen={chosen} />
            </section>
          )}
        </div>
      </nav>
      {stack ? (
        <Stack key={stack} workflow={Number(stack.split("/")[0])} step={stack.split("/")[1]!} />
      ) : chosen ? (
        <Desk key={chosen} id={chosen} next={next} />
      ) : (
        <div className="px-8">
          <Empty title="Nothing to read.">
            Drafts come here when a live workflow reaches a line that asks a person.
          </Empty>
        </div>
      )}
    </main>
  );
}
