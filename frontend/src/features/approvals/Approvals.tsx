import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { ApiError, api, ok, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Area } from "../../components/Field";
import { useKeys } from "../../components/keys";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { State } from "../../components/State";
import { say, sayError } from "../../components/Toast";
import { VoiceOf } from "../../components/Voice";
import { ago, count, when } from "../../components/words";
import { Soon } from "../calendar/Soon";
import { isDraftItself } from "./composed";
import { brokenMusts, DECIDED, Draft, EvidencePane, GoesOut, LetOut, useMeasured } from "./desk";

type Summary = Schemas["ApprovalSummary"];
const AT_ONCE = 50;

/** The desk: the queue on one side, the piece in the middle, the evidence on the other side. */
export function Approvals() {
  const [limit, setLimit] = useState(AT_ONCE);
  const queue = useQuery(reads.approvals(limit));
  const chosen = Number(useParams().id) || queue.data?.open[0]?.id || queue.data?.decided[0]?.id;
  const go = useNavigate();
  const all = [...(queue.data?.open ?? []), ...(queue.data?.decided ?? [])];
  const move = (by: number) => {
    const at = all.findIndex((a) => a.id === chosen);
    const next = all[Math.min(all.length - 1, Math.max(0, at + by))];
    if (next) go(`/approvals/${next.id}`);
  };
  useKeys({ j: () => move(1), k: () => move(-1) });
  if (queue.isPending) return <Loading what="Fetching the drafts …" />;
  if (queue.isError) return <Failed error={queue.error} again={() => queue.refetch()} />;
  return (
    <main className="grid min-h-0 flex-1 lg:h-[calc(100vh-45px)] lg:grid-cols-[15rem_1fr]">
      <nav aria-label="Drafts" className="overflow-y-auto border-r border-line py-4">
        <Group title="Waiting" list={queue.data.open} chosen={chosen} />
        {queue.data.open.length === 0 && <p className="px-4 text-sm text-soft">No draft waits.</p>}
        {queue.data.waiting > queue.data.open.length && (
          <p className="mb-5 px-4 text-sm text-soft">
            {count(queue.data.waiting - queue.data.open.length, "more draft")}{" "}
            <Button look="quiet" onClick={() => setLimit(limit + AT_ONCE)}>
              Show more
            </Button>
          </p>
        )}
        <Group title="Decided" list={queue.data.decided} chosen={chosen} />
      </nav>
      {chosen ? (
        <Desk key={chosen} id={chosen} next={queue.data.open.find((a) => a.id !== chosen)?.id} />
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

function Group({ title, list, chosen }: { title: string; list: Summary[]; chosen?: number }) {
  if (!list.length) return null;
  return (
    <section className="mb-5">
      <h2 className="smallcaps px-4 pb-1 text-soft">{title}</h2>
      <ul>
        {list.map((a) => (
          <li key={a.id}>
            <Link
              to={`/approvals/${a.id}`}
              aria-current={a.id === chosen ? "page" : undefined}
              className={`block border-l-[3px] px-4 py-2 ${a.id === chosen ? "border-leaf bg-shade" : "border-transparent hover:bg-shade/60"}`}
            >
              <span className="line-clamp-2 font-serif text-reading leading-snug">{a.title}</span>
              <span className="text-xs text-soft">
                {a.state === "open" ? (
                  <>
                    {ago(a.created_at)}
                    {a.round > 1 && `, round ${a.round}`}
                    {a.broken.length > 0 && <span className="block text-brick">✕ breaks a rule</span>}
                  </>
                ) : (
                  `${DECIDED[a.state]?.toLowerCase()}, ${a.decided_at ? when(a.decided_at) : ""}`
                )}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Desk({ id, next }: { id: number; next?: number }) {
  const session = useSession();
  const go = useNavigate();
  const present = useRef(true);
  useEffect(() => {
    present.current = true;
    return () => {
      present.current = false;
    };
  }, []);
  const path = { params: { path: { id } } };
  const asked = useQuery(reads.approval(id));
  const [text, setText] = useState<string | null>(null);
  const [parts, setParts] = useState<Record<string, unknown>>({});
  const [warned, setWarned] = useState<string[]>([]);
  const [note, setNote] = useState("");
  const [answer, setAnswer] = useState("");
  const [noting, setNoting] = useState(false);
  const [busy, setBusy] = useState(false);
  const piece = useRef<HTMLTextAreaElement>(null);
  const noteBox = useRef<HTMLTextAreaElement>(null);
  const original = asked.data?.text ?? "";
  const now = text ?? original;
  const measured = useMeasured(
    { text, parts },
    { text: original, findings: asked.data?.findings ?? [], pieces: asked.data?.pieces ?? [] },
    (edit) => ok(api.POST("/api/approvals/{id}/measure", { ...path, body: edit })),
  );
  const { findings } = measured;
  const changed = (text !== null && text.trim() !== original.trim()) || Object.keys(parts).length > 0;
  const open = asked.data?.state === "open" && may(session.data, "reviewer");

  useEffect(() => {
    if (noting) noteBox.current?.focus();
  }, [noting]);

  async function decide(verdict: "approve" | "back" | "decline", despite = false) {
    if (!open || busy) return;
    const question = asked.data?.question;
    if (question && verdict === "approve" && !answer.trim()) {
      noteBox.current?.focus();
      return;
    }
    if (verdict === "back" && !note.trim()) {
      setNoting(true);
      return;
    }
    const broken = brokenMusts(findings);
    if (verdict === "approve" && !despite && broken.length && !question && !asked.data?.act) {
      setWarned(broken);
      return;
    }
    setBusy(true);
    try {
      const given = question ? answer : asked.data?.parts.length ? null : now;
      await mutate(
        api.POST("/api/approvals/{id}", { ...path, body: { verdict, text: given, note, parts, despite } }),
        "approvals",
        "approval",
      );
      say(
        {
          approve: question
            ? "Answered. It goes on now."
            : asked.data?.act
              ? "It may. It goes on now."
              : "Approved. It goes out at its time.",
          back: asked.data?.act ? "It was told so." : "Sent back. The rewrite comes here for another look.",
          decline: "Declined. Nothing goes out.",
        }[verdict],
      );
      // Whoever chose another meanwhile stays with it.
      if (present.current) go(next ? `/approvals/${next}` : "/approvals");
    } catch (error) {
      if (error instanceof ApiError && error.code === "broken_rule") setWarned(error.problems.map((p) => p.message));
      else sayError(error);
    } finally {
      setBusy(false);
    }
  }

  useKeys({
    a: () => decide("approve"),
    b: () => !asked.data?.question && setNoting(true),
    d: () => decide("decline"),
    e: () => piece.current?.focus(),
  });

  if (asked.isPending) return <Loading what="Fetching the draft …" />;
  if (asked.isError) return <Failed error={asked.error} again={() => asked.refetch()} />;
  const a = asked.data;
  const broken = brokenMusts(findings);
  return (
    <div className="grid min-h-0 lg:grid-cols-[1fr_24rem]">
      <section aria-label="The piece" className="overflow-y-auto px-10 py-6">
        <Soon just />
        <p className="text-xs text-soft">
          {a.workflow_name} · for {a.who}
          {a.round > 1 && ` · round ${a.round}`}
          {a.last && !a.question && " · the last round"} ·{" "}
          <Link className="underline underline-offset-2" to={`/runs/${a.run}`}>
            the run
          </Link>
        </p>
        <h1 className="mt-1 mb-6 font-serif text-2xl leading-snug font-semibold tracking-tight">{a.title}</h1>
        {a.act && (
          <p className="mb-4 font-serif text-lg">
            The assignment asks whether it may: <strong>{a.act}</strong>
          </p>
        )}
        <p className="smallcaps mb-1 text-soft">
          {a.question
            ? "The question"
            : a.act
              ? "What it would do"
              : open && a.pieces.length > 0 && !isDraftItself(measured.pieces, now)
                ? "The draft"
                : a.channel
                  ? `As it will appear on ${a.channel}`
                  : "The piece"}
        </p>
        <div className="border-y border-rule py-5">
          <Draft
            asked={a}
            open={open}
            edit={{ text, parts }}
            shown={open || a.question ? now : a.final_text || a.text}
            wrong={measured.wrong}
            onEdit={(edit) => {
              setWarned([]);
              setText(edit.text);
              setParts(edit.parts);
            }}
            inputRef={piece}
          />
          <GoesOut pieces={open ? measured.pieces : a.pieces} text={now} />
        </div>
        {a.question && !open && a.final_text && (
          <p className="mt-4 border-l-2 border-leaf pl-3 font-serif text-lg whitespace-pre-wrap">{a.final_text}</p>
        )}
        {open ? (
          <div className="mt-5">
            {a.question && (
              <Area
                ref={noteBox}
                rows={4}
                className="mb-3"
                aria-label="Your answer"
                placeholder="Your answer"
                value={answer}
                onChange={(e) => setAnswer(e.target.value)}
                onKeyDown={(e) => {
                  if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) decide("approve");
                }}
              />
            )}
            <div className="flex flex-wrap items-center gap-2">
              <Button look="main" disabled={busy} onClick={() => decide("approve")} hint="A">
                {changed ? "Approve with my changes" : a.question ? "Answer" : a.act ? "Let it" : "Approve"}
              </Button>
              {!a.question && (
                <Button disabled={busy || a.last} onClick={() => setNoting(true)} hint="B">
                  Send back with a note
                </Button>
              )}
              <Button disabled={busy} onClick={() => decide("decline")} hint="D">
                Decline
              </Button>
              {changed && (
                <Button
                  look="quiet"
                  onClick={() => {
                    setText(null);
                    setParts({});
                    setWarned([]);
                  }}
                >
                  Undo my changes
                </Button>
              )}
            </div>
            {warned.length > 0 ? (
              <LetOut broken={warned} busy={busy} onLetOut={() => decide("approve", true)} />
            ) : (
              broken.length > 0 && (
                <p className="mt-2 text-sm text-brick">
                  ✕ It breaks {broken.length === 1 ? "a rule" : `${broken.length} rules`}: {broken.join("; ")}.
                </p>
              )
            )}
            {a.last && !a.question && (
              <p className="mt-2 text-sm text-soft">This is the last round: approve, change it yourself, or decline.</p>
            )}
            {noting && !a.last && (
              <form
                className="mt-4 max-w-xl"
                onSubmit={(e) => {
                  e.preventDefault();
                  decide("back");
                }}
              >
                <Area
                  ref={noteBox}
                  rows={3}
                  aria-label="Note for the rewrite"
                  placeholder="What should be different? For example: say what it costs, and make it shorter."
                  value={note}
                  onChange={(e) => setNote(e.target.value)}
                  onKeyDown={(e) => {
                    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) decide("back");
                    if (e.key === "Escape") setNoting(false);
                  }}
                />
                <div className="mt-2 flex gap-2">
                  <Button look="main" type="submit" disabled={busy || !note.trim()} hint="Ctrl Enter">
                    Send back
                  </Button>
                  <Button look="quiet" onClick={() => setNoting(false)}>
                    Not now
                  </Button>
                </div>
              </form>
            )}
            {a.mail && (
              <p className="mt-4 text-xs text-soft">
                Mail to {a.who}: {a.mail}
              </p>
            )}
          </div>
        ) : (
          <p className="mt-4 text-sm">
            <State tone={a.state === "approve" ? "leaf" : "soft"} mark={a.state === "approve" ? "●" : "–"}>
              {a.state === "open"
                ? "Waits for someone who may decide."
                : `${DECIDED[a.state]}${a.decided_by ? ` by ${a.decided_by}` : ""}${a.decided_at ? `, ${when(a.decided_at)}` : ""}.`}
            </State>
            {a.despite.length > 0 && (
              <span className="mt-1 block text-brick">Let out although it breaks: {a.despite.join("; ")}.</span>
            )}
          </p>
        )}
      </section>
      <aside aria-label="Evidence" className="overflow-y-auto border-l border-line bg-sheet px-6 py-6">
        {!a.act && !a.question && a.brand && (
          <div className="mb-6 empty:hidden">
            <VoiceOf brand={a.brand} text={open ? now : a.final_text || a.text} />
          </div>
        )}
        <EvidencePane asked={a} findings={findings} text={open ? measured.text || a.text : a.final_text || a.text} />
      </aside>
    </div>
  );
}
