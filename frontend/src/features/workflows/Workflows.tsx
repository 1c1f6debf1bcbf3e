import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { useKeys } from "../../components/keys";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { Sentence } from "../../components/Sentence";
import { State } from "../../components/State";
import { say, sayError } from "../../components/Toast";
import { ago, count } from "../../components/words";
import { NewWorkflow, type Way } from "./NewWorkflow";

type Summary = Schemas["WorkflowSummary"];

/** All workflows, by client, the live ones first. */
export function Workflows() {
  const session = useSession();
  const list = useQuery(reads.workflows());
  const [asked, setAsked] = useSearchParams();
  const way = asked.get("new") as Way | null;
  const [making, setMaking] = useState(way !== null);
  const [words, setWords] = useState("");
  const search = useRef<HTMLInputElement>(null);
  const rows = useRef<HTMLDivElement>(null);
  const maker = may(session.data, "maker");
  const move = (by: number) => {
    const links = [...(rows.current?.querySelectorAll<HTMLElement>("a[data-workflow]") ?? [])];
    const at = links.indexOf(document.activeElement as HTMLElement);
    links[Math.min(Math.max(at + by, 0), links.length - 1)]?.focus();
  };
  useKeys({
    n: () => maker && setMaking(true),
    "/": () => search.current?.focus(),
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
  });
  if (list.isPending) return <Loading what="Fetching the workflows …" />;
  if (list.isError) return <Failed error={list.error} again={() => list.refetch()} />;
  const shown = list.data.filter((w) => w.state !== "away" && named(w, words));
  const away = list.data.filter((w) => w.state === "away" && named(w, words));
  const brands = [...new Set(shown.map((w) => w.brand))].sort();
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h1 className="font-serif text-3xl font-semibold tracking-tight">Workflows</h1>
        <div className="flex items-baseline gap-3">
          {list.data.length > FEW && (
            <input
              ref={search}
              type="search"
              aria-label="Find a workflow by its name or brand"
              placeholder="Find …"
              value={words}
              onChange={(event) => setWords(event.target.value)}
              onKeyDown={(event) => {
                if (event.key === "ArrowDown" || event.key === "Enter") {
                  event.preventDefault();
                  rows.current?.querySelector<HTMLElement>("a[data-workflow]")?.focus();
                }
                if (event.key === "Escape") setWords("");
              }}
              className="w-44 rounded border border-rule bg-sheet px-2 py-1 text-sm"
            />
          )}
          {maker && (
            <Button look="main" onClick={() => setMaking(true)}>
              New workflow
            </Button>
          )}
        </div>
      </div>
      {list.data.length === 0 && (
        <Empty title="No workflow yet.">
          Make the first with “New workflow”: a page of plain sentences, tried on real items before anything goes out.
        </Empty>
      )}
      {words && shown.length + away.length === 0 && (
        <Empty title={`No workflow is called “${words}”.`}>Look for a part of its name, or of its brand’s.</Empty>
      )}
      <div ref={rows}>
        {brands.map((brand) => (
          <section key={brand} className="mt-8">
            <h2 className="smallcaps border-b border-rule pb-1 text-lg">{brand || "No brand"}</h2>
            <ul>
              {shown
                .filter((w) => w.brand === brand)
                .map((w) => (
                  <Row key={w.id} workflow={w} maker={maker} />
                ))}
            </ul>
          </section>
        ))}
        {away.length > 0 && <Away list={away} maker={maker} open={!!words} />}
      </div>
      {list.data.length > 0 && (
        <p className="mt-8 text-xs text-soft">
          <a className="underline underline-offset-2" href="/api/feeds.opml">
            All feeds looked at, as a list (OPML)
          </a>
        </p>
      )}
      <NewWorkflow
        open={making}
        first={way ?? undefined}
        onClose={() => {
          setMaking(false);
          setAsked({}, { replace: true });
        }}
        list={list.data}
      />
    </main>
  );
}

/** So many workflows are seen at a glance. */
const FEW = 5;

const named = (w: Summary, words: string) =>
  words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => `${w.name} ${w.brand}`.toLowerCase().includes(word));

/** Those put away: out of sight, and nothing lost. Each can be deleted; what it let out stays on record. */
function Away({ list, maker, open }: { list: Summary[]; maker: boolean; open: boolean }) {
  const [doomed, setDoomed] = useState<Summary | null>(null);
  async function act(call: Promise<unknown>, words: string) {
    try {
      await call;
      say(words);
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <details className="mt-8" open={open}>
      <summary className="smallcaps cursor-pointer border-b border-rule pb-1 text-lg text-soft">
        Put away ({list.length})
      </summary>
      <ul>
        {list.map((w) => {
          const path = { params: { path: { id: w.id } } };
          return (
            <li key={w.id} className="flex flex-wrap items-baseline gap-x-4 border-b border-line py-2">
              <Link data-workflow to={`/workflows/${w.id}`} className="font-serif text-lg hover:underline">
                {w.name}
              </Link>
              <span className="text-xs text-soft">
                {[w.brand, w.runs ? count(w.runs, "run") : "never run"].filter(Boolean).join(" · ")}
              </span>
              {maker && (
                <span className="ml-auto flex gap-2">
                  <Button
                    onClick={() =>
                      act(
                        mutate(api.DELETE("/api/workflows/{id}/away", path), "workflows"),
                        `“${w.name}” is back, and not live.`,
                      )
                    }
                  >
                    Bring back
                  </Button>
                  <Button look="quiet" onClick={() => setDoomed(w)}>
                    Delete …
                  </Button>
                </span>
              )}
            </li>
          );
        })}
      </ul>
      {doomed && (
        <Dialog
          open
          onClose={() => setDoomed(null)}
          title={`Delete “${doomed.name}”?`}
          about={`Its page, samples and proofs are gone for good. Save it as a file first if you may want it again.${
            doomed.runs ? " Its runs stay under Runs, and what it let out stays on record." : ""
          }`}
        >
          <div className="flex gap-2">
            <Button
              look="wrong"
              onClick={() => {
                setDoomed(null);
                act(
                  mutate(api.DELETE("/api/workflows/{id}", { params: { path: { id: doomed.id } } }), "workflows"),
                  `“${doomed.name}” is deleted.`,
                );
              }}
            >
              Delete it
            </Button>
            <Button look="quiet" onClick={() => setDoomed(null)}>
              Keep it
            </Button>
          </div>
        </Dialog>
      )}
    </details>
  );
}

function Row({ workflow, maker }: { workflow: Summary; maker: boolean }) {
  const go = useNavigate();
  async function pause() {
    try {
      await mutate(api.POST("/api/workflows/{id}/pause", { params: { path: { id: workflow.id } } }), "workflows");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <li className="grid grid-cols-[1fr_auto] items-start gap-x-6 border-b border-line py-4">
      <div>
        <div className="flex flex-wrap items-baseline gap-x-4">
          <Link
            data-workflow
            to={`/workflows/${workflow.id}`}
            className="font-serif text-xl hover:underline hover:decoration-leaf"
          >
            {workflow.name}
          </Link>
          <LiveState state={workflow.state} />
        </div>
        <p className="mt-1 font-serif text-reading text-soft">
          <Sentence parts={workflow.start} />
          {workflow.arc.length > 0 && <>, then {workflow.arc.join(", ")}</>}.
        </p>
        <p className="mt-1 text-xs text-soft">
          {workflow.failed ? (
            <span className="text-brick">The start cannot be looked at: {workflow.found}</span>
          ) : workflow.pushed && workflow.state === "live" ? (
            workflow.found
          ) : workflow.looked_at ? (
            `Looked ${ago(workflow.looked_at)}. ${workflow.found}`
          ) : (
            ""
          )}
        </p>
      </div>
      <div className="flex flex-col items-end gap-1 text-right text-xs text-soft">
        <span>
          {workflow.runs ? count(workflow.runs, "run") : "never run"}
          {workflow.last_run ? `, last ${ago(workflow.last_run)}` : ""}
        </span>
        {workflow.waiting > 0 && (
          <Link to="/approvals">
            <State tone="ochre" mark="○">
              {workflow.waiting} to approve
            </State>
          </Link>
        )}
        {workflow.failing > 0 && (
          <Link to={`/runs?workflow=${workflow.id}&state=failed,unsure`}>
            <State tone="brick" mark="✕">
              {workflow.failing} to decide on
            </State>
          </Link>
        )}
        {maker &&
          (workflow.state === "live" ? (
            <Button onClick={() => pause()}>Pause</Button>
          ) : workflow.state === "paused" ? (
            <Button onClick={() => go(`/workflows/${workflow.id}?before`)}>Go live again …</Button>
          ) : null)}
      </div>
    </li>
  );
}

/** Whether the start is listening, in a word and a shape. */
export function LiveState({ state }: { state: string }) {
  if (state === "live")
    return (
      <State tone="leaf" mark="●">
        live
      </State>
    );
  if (state === "paused")
    return (
      <State tone="ochre" mark="‖">
        paused
      </State>
    );
  if (state === "away")
    return (
      <State tone="soft" mark="▱">
        put away
      </State>
    );
  return (
    <State tone="soft" mark="○">
      not live yet
    </State>
  );
}
