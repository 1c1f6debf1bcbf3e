/** Alike questions as a table: one row each, what differs marked, rules and doubts as columns, decided by the same keys. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../../api/client";
import { mutate, staleNow } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { may, useSession } from "../../../app/session";
import { Button } from "../../../components/Button";
import { useKeys } from "../../../components/keys";
import { Empty, Failed, Loading } from "../../../components/Quiet";
import { say, sayError } from "../../../components/Toast";
import { ago, count, when } from "../../../components/words";
import { isClean } from "./clean";

type Row = Schemas["StackRow"];
const AT_ONCE = 50;

export function Stack({ workflow, step }: { workflow: number; step: string }) {
  const session = useSession();
  const stack = useQuery(reads.stack(workflow, step));
  const [at, setAt] = useState(0);
  // Decided here and on its way: whoever presses on need not wait for the answer.
  const [gone, setGone] = useState<ReadonlySet<number>>(new Set());
  const [wrong, setWrong] = useState<Record<number, string>>({});
  const rows = (stack.data?.rows ?? []).filter((row) => !gone.has(row.id));
  const clean = rows.filter(isClean);
  const here = rows[Math.min(at, rows.length - 1)];
  const decides = may(session.data, "reviewer");
  const current = useRef<HTMLTableRowElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the row that is chosen stays in sight
  useEffect(() => {
    current.current?.scrollIntoView({ block: "nearest" });
  }, [here?.id]);

  async function decide(some: Row[], verdict: "approve" | "decline") {
    if (!some.length || !decides) return;
    const ids = some.map((row) => row.id);
    setGone((before) => new Set([...before, ...ids]));
    const answers: Schemas["AnsweredView"][] = [];
    try {
      // Some at a time: hundreds would keep one request open for minutes.
      for (let n = 0; n < ids.length; n += AT_ONCE) {
        const body = { ids: ids.slice(n, n + AT_ONCE), verdict };
        answers.push(...(await mutate(api.POST("/api/approvals/answers", { body }), "nothing")));
      }
    } catch (error) {
      sayError(error);
    }
    const refused = answers.filter((one) => one.wrong);
    const done = answers.length - refused.length;
    setWrong((before) => ({ ...before, ...Object.fromEntries(refused.map((one) => [one.id, one.wrong])) }));
    if (done) say(`${done} ${verdict === "approve" ? "approved" : "declined"}.`);
    if (refused.length === 1) sayError(new Error(refused[0]!.wrong));
    else if (refused.length) sayError(new Error(`${refused.length} could not be; why stands in their rows.`));
    await staleNow("approvals", "stack");
    // What was not answered comes back.
    const decided = new Set(answers.filter((one) => !one.wrong).map((one) => one.id));
    setGone((before) => new Set([...before].filter((id) => !ids.includes(id) || decided.has(id))));
  }

  const move = (by: number) => setAt((n) => Math.min(rows.length - 1, Math.max(0, n + by)));
  useKeys({
    j: () => move(1),
    k: () => move(-1),
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    a: () => here && decide([here], "approve"),
    d: () => here && decide([here], "decline"),
    A: () => decide(clean, "approve"),
  });

  if (stack.isPending) return <Loading what="Fetching the stack …" />;
  if (stack.isError) return <Failed error={stack.error} again={() => stack.refetch()} />;
  const s = stack.data;
  if (!rows.length)
    return (
      <div className="px-8">
        <Empty title="All of these are decided.">What comes next waits in the list.</Empty>
      </div>
    );
  return (
    <section aria-label="The stack" className="flex min-h-0 flex-col overflow-hidden">
      <header className="px-8 pt-6 pb-3 max-lg:px-4">
        <p className="text-xs text-soft">
          {s.workflow_name}
          {s.brand_name && ` · ${s.brand_name}`} · {s.line}
        </p>
        <h1 className="mt-1 font-serif text-2xl leading-snug font-semibold tracking-tight">
          {count(s.count, "draft")} alike
        </h1>
        {decides && (
          <p className="mt-3 flex flex-wrap items-center gap-3">
            <Button look="main" disabled={!clean.length} hint="⇧A" onClick={() => decide(clean, "approve")}>
              {clean.length === 1 ? "Approve the one" : `Approve the ${clean.length}`} that keep every rule and have
              nothing doubtful
            </Button>
            <span className="text-sm text-soft">
              {rows.length - clean.length > 0
                ? `${rows.length - clean.length} want a look of their own.`
                : "Nothing is doubtful in any of them."}
            </span>
          </p>
        )}
      </header>
      <div className="min-h-0 flex-1 overflow-auto border-t border-line">
        <table className="w-full text-sm">
          <thead className="sticky top-0 bg-paper text-left text-xs text-soft">
            <tr>
              <th className="px-4 py-2 font-normal">For</th>
              <th className="px-2 py-2 font-normal">The draft, with what is other than in the row above</th>
              <th className="px-2 py-2 font-normal">Rules</th>
              <th className="px-2 py-2 font-normal">Doubtful</th>
              <th className="px-2 py-2 font-normal max-lg:hidden">Waits</th>
              <th className="px-4 py-2">
                <span className="sr-only">Open</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row, n) => (
              <tr
                key={row.id}
                ref={row.id === here?.id ? current : undefined}
                aria-selected={row.id === here?.id}
                onClick={() => setAt(n)}
                className={`border-t border-line align-top ${row.id === here?.id ? "bg-shade" : ""}`}
              >
                <td className="w-60 max-w-60 min-w-32 px-4 py-2 [overflow-wrap:anywhere]">
                  {row.brief?.to || row.title}
                  {row.round > 1 && <span className="block text-xs text-soft">round {row.round}</span>}
                </td>
                <td className="px-2 py-2">
                  {row.brief?.head && <span className="block font-semibold">{row.brief.head}</span>}
                  <span className={`piece leading-snug ${row.id === here?.id ? "" : "line-clamp-2"}`}>
                    {row.marks.map((mark, m) => (
                      <span key={m} className={mark.what === "added" ? "bg-ochrewash" : ""}>
                        {mark.text}
                      </span>
                    ))}
                  </span>
                  {decides && row.id === here?.id && (
                    <span className="mt-2 flex gap-2">
                      <Button hint="A" onClick={() => decide([row], "approve")}>
                        Approve
                      </Button>
                      <Button hint="D" onClick={() => decide([row], "decline")}>
                        Decline
                      </Button>
                    </span>
                  )}
                  {wrong[row.id] && <span className="block text-xs text-brick">✕ {wrong[row.id]}</span>}
                </td>
                <td className="px-2 py-2 whitespace-nowrap">
                  {!row.brief ? (
                    <span className="text-soft">…</span>
                  ) : row.brief.broken.length + row.brief.wrong.length ? (
                    <span className="text-brick" title={[...row.brief.broken, ...row.brief.wrong].join("; ")}>
                      ✕ {row.brief.broken.length + row.brief.wrong.length} broken
                    </span>
                  ) : (
                    <span className="text-soft">all kept</span>
                  )}
                </td>
                <td className="px-2 py-2 whitespace-nowrap">
                  {row.brief?.doubtful ? (
                    <span className="text-ochre">◇ {row.brief.doubtful}</span>
                  ) : (
                    <span className="text-soft">{row.brief ? "none" : "…"}</span>
                  )}
                </td>
                <td className="px-2 py-2 whitespace-nowrap text-soft max-lg:hidden">
                  {row.due_at ? when(row.due_at) : ago(row.created_at)}
                </td>
                <td className="px-4 py-2 text-right whitespace-nowrap">
                  <Link className="underline underline-offset-2" to={`/approvals/${row.id}`}>
                    Open
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
