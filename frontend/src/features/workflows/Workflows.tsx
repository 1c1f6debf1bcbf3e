import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, queries, type Schemas } from "../../api/client";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { Sentence } from "../../components/Sentence";
import { State } from "../../components/State";
import { sayError } from "../../components/Toast";
import { ago, count } from "../../components/words";
import { NewWorkflow } from "./NewWorkflow";

type Summary = Schemas["WorkflowSummary"];

/** All workflows, by client, the live ones first. */
export function Workflows() {
  const session = useSession();
  const list = useQuery({ queryKey: ["workflows"], queryFn: () => ok(api.GET("/api/workflows")) });
  const [making, setMaking] = useState(false);
  const maker = may(session.data, "maker");
  if (list.isPending) return <Loading what="Fetching the workflows …" />;
  if (list.isError) return <Failed error={list.error} again={() => list.refetch()} />;
  const brands = [...new Set(list.data.map((w) => w.brand))].sort();
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <div className="flex items-baseline justify-between">
        <h1 className="font-serif text-3xl font-semibold tracking-tight">Workflows</h1>
        {maker && (
          <Button look="main" onClick={() => setMaking(true)}>
            New workflow
          </Button>
        )}
      </div>
      {list.data.length === 0 && (
        <Empty title="No workflow yet.">
          Make the first with “New workflow”: a page of plain sentences, tried on real items before anything goes out.
        </Empty>
      )}
      {brands.map((brand) => (
        <section key={brand} className="mt-8">
          <h2 className="smallcaps border-b border-rule pb-1 text-lg">{brand || "No brand"}</h2>
          <ul>
            {list.data
              .filter((w) => w.brand === brand)
              .map((w) => (
                <Row key={w.id} workflow={w} maker={maker} />
              ))}
          </ul>
        </section>
      ))}
      {list.data.length > 0 && (
        <p className="mt-8 text-xs text-soft">
          <a className="underline underline-offset-2" href="/api/feeds.opml">
            All feeds looked at, as a list (OPML)
          </a>
        </p>
      )}
      <NewWorkflow open={making} onClose={() => setMaking(false)} list={list.data} />
    </main>
  );
}

function Row({ workflow, maker }: { workflow: Summary; maker: boolean }) {
  async function turn(to: "live" | "pause") {
    const path = { params: { path: { id: workflow.id } } };
    try {
      if (to === "live") await ok(api.POST("/api/workflows/{id}/live", path));
      else await ok(api.POST("/api/workflows/{id}/pause", path));
      queries.invalidateQueries({ queryKey: ["workflows"] });
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <li className="grid grid-cols-[1fr_auto] items-start gap-x-6 border-b border-line py-4">
      <div>
        <div className="flex flex-wrap items-baseline gap-x-4">
          <Link to={`/workflows/${workflow.id}`} className="font-serif text-xl hover:underline hover:decoration-leaf">
            {workflow.name}
          </Link>
          <LiveState state={workflow.state} />
        </div>
        <p className="mt-1 font-serif text-[0.97rem] text-soft">
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
            <Button onClick={() => turn("pause")}>Pause</Button>
          ) : workflow.state === "paused" ? (
            <Button onClick={() => turn("live")}>Go live again</Button>
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
  return (
    <State tone="soft" mark="○">
      not live yet
    </State>
  );
}
