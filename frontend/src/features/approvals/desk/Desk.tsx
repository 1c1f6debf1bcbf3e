/** One question with all that is needed to decide: the piece in the middle, the evidence beside it, one key for each answer. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { ApiError, api, ok, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { may, useSession } from "../../../app/session";
import { Button } from "../../../components/Button";
import { Area } from "../../../components/Field";
import { useFilled } from "../../../components/FormFields";
import { useKeys } from "../../../components/keys";
import { Failed, Loading } from "../../../components/Quiet";
import { State } from "../../../components/State";
import { say, sayError } from "../../../components/Toast";
import { VoiceOf } from "../../../components/Voice";
import { when } from "../../../components/words";
import { Soon } from "../../calendar/Soon";
import { AnswerBox, type Given, givenOf } from "./Answer";
import { ByWhen, People, TakenAsYes } from "./Around";
import { Behind } from "./Behind";
import { isDraftItself } from "./composed";
import { Draft } from "./Draft";
import { EvidencePane } from "./EvidencePane";
import { brokenMusts, DECIDED, type Edit, GoesOut, isChanged, LetOut, UNCHANGED, useMeasured } from "./parts";
import { selected, withPassage } from "./passages";

type Verdict = "approve" | "back" | "decline";

export function Desk({ id, next }: { id: number; next?: string }) {
  const session = useSession();
  const asked = useQuery(reads.approval(id));
  if (asked.isPending) return <Loading what="Fetching the draft …" />;
  if (asked.isError) return <Failed error={asked.error} again={() => asked.refetch()} />;
  return <Open a={asked.data} open={asked.data.state === "open" && may(session.data, "reviewer")} next={next} />;
}

function Open({ a, open, next }: { a: Schemas["ApprovalView"]; open: boolean; next?: string }) {
  const go = useNavigate();
  const present = useRef(true);
  useEffect(() => {
    present.current = true;
    return () => {
      present.current = false;
    };
  }, []);
  const path = { params: { path: { id: a.id } } };
  const [edit, setEdit] = useState<Edit>(UNCHANGED);
  const [warned, setWarned] = useState<string[]>([]);
  const [note, setNote] = useState("");
  const [given, setGiven] = useState<Given>({ words: "" });
  const filled = useFilled(a.asks.fields);
  const [noting, setNoting] = useState(false);
  const [busy, setBusy] = useState(false);
  const piece = useRef<HTMLTextAreaElement>(null);
  const noteBox = useRef<HTMLTextAreaElement>(null);
  const around = useRef<HTMLElement>(null);
  const now = edit.text ?? a.text;
  const measured = useMeasured(edit, { text: a.text, findings: a.findings, pieces: a.pieces }, (edit) =>
    ok(api.POST("/api/approvals/{id}/measure", { ...path, body: edit })),
  );
  const { findings } = measured;
  const changed = isChanged(edit, a.text);
  const onEdit = (now: Edit) => {
    setWarned([]);
    setEdit(now);
  };
  const broken = brokenMusts(findings);

  useEffect(() => {
    if (noting) noteBox.current?.focus();
  }, [noting]);

  async function decide(verdict: Verdict, despite = false) {
    if (!open || busy) return;
    const answer = a.question && verdict === "approve" ? givenOf(a.asks, given, filled) : {};
    if (answer === null) {
      noteBox.current?.focus();
      return;
    }
    if (verdict === "back" && !note.trim()) {
      setNoting(true);
      return;
    }
    if (verdict === "approve" && !despite && broken.length && !a.question && !a.act) {
      setWarned(broken);
      return;
    }
    setBusy(true);
    try {
      const words = a.question ? given.words : a.parts.length ? null : edit.text;
      const body = {
        verdict,
        text: a.question && a.asks.form ? null : words,
        note: a.question && a.asks.form ? given.words : note,
        parts: edit.parts,
        pieces: edit.pieces,
        despite,
        given: answer,
      };
      await mutate(api.POST("/api/approvals/{id}", { ...path, body }), "approvals", "approval");
      say(SAID[verdict](a));
      // After sending back one stays, and sees the rewrite come. Whoever chose another meanwhile stays with it.
      if (verdict !== "back" && present.current) go(next ?? "/approvals");
    } catch (error) {
      if (error instanceof ApiError && error.code === "broken_rule") setWarned(error.problems.map((p) => p.message));
      else if (!filled.refused(error)) sayError(error);
    } finally {
      setBusy(false);
    }
  }

  function comment() {
    const passage = selected(around.current);
    if (passage.trim()) setNote((before) => withPassage(before, passage));
    setNoting(true);
    requestAnimationFrame(() => {
      const box = noteBox.current;
      box?.focus();
      box?.setSelectionRange(box.value.length, box.value.length);
    });
  }

  useKeys({
    a: () => decide("approve"),
    b: () => !a.question && !a.last && comment(),
    d: () => decide("decline"),
    e: () => piece.current?.focus(),
    n: () => next && go(next),
    ...(a.asks.form === "yes_no" ? { y: () => setGiven({ ...given, yes: true }) } : {}),
    ...(a.asks.form === "choose"
      ? Object.fromEntries(
          a.asks.options.slice(0, 9).map((_, n) => [`Alt+${n + 1}`, () => setGiven({ ...given, number: n + 1 })]),
        )
      : {}),
  });

  return (
    <div className="grid min-h-0 lg:grid-cols-[1fr_22rem]">
      <section ref={around} aria-label="The piece" className="overflow-y-auto px-8 py-6 max-sm:px-4 max-sm:py-4">
        <Soon just />
        <p className="text-xs text-soft">
          {a.workflow_name}
          {a.brand_name && ` · ${a.brand_name}`} · for {a.people.map((one) => one.name || one.who).join(", ") || a.who}
          {a.round > 1 && ` · round ${a.round}`}
          {a.last && !a.question && " · the last round"} ·{" "}
          <Link className="underline underline-offset-2" to={`/runs/${a.run}`}>
            the run
          </Link>
        </p>
        <h1 className="mt-1 font-serif text-2xl leading-snug font-semibold tracking-tight">{a.title}</h1>
        <ByWhen asked={a} />
        <People asked={a} />
        <TakenAsYes
          asked={a}
          onTakeBack={() =>
            mutate(api.POST("/api/approvals/{id}/taken-back", path), "approvals", "approval").catch(sayError)
          }
        />
        {a.act && (
          <p className="mt-4 font-serif text-lg">
            The assignment asks whether it may: <strong>{a.act}</strong>
          </p>
        )}
        <p className="smallcaps mt-6 mb-1 text-soft max-sm:mt-4">
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
        <div className="border-y border-rule py-5 max-sm:py-3">
          <Draft
            asked={a}
            open={open}
            edit={edit}
            shown={open || a.question ? now : a.final_text || a.text}
            wrong={measured.wrong}
            onEdit={onEdit}
            inputRef={piece}
          />
          <GoesOut
            pieces={open ? measured.pieces : a.pieces}
            text={now}
            first={a.pieces}
            edit={open ? edit : undefined}
            onEdit={onEdit}
          />
        </div>
        {changed && measured.changes.length > 0 && (
          <details className="mt-3 text-sm">
            <summary className="cursor-pointer text-soft">Your changes, marked</summary>
            <div className="piece mt-2 leading-relaxed">
              <Changed changes={measured.changes} />
            </div>
          </details>
        )}
        {a.question && !open && a.final_text && (
          <p className="mt-4 border-l-2 border-leaf pl-3 font-serif text-lg whitespace-pre-wrap">{a.final_text}</p>
        )}
        {open ? (
          <div className="mt-5">
            {a.question && (
              <AnswerBox
                asks={a.asks}
                given={given}
                filled={filled}
                onGive={setGiven}
                onSend={() => decide("approve")}
                boxRef={noteBox}
              />
            )}
            <div className="flex flex-wrap items-center gap-2 max-sm:sticky max-sm:bottom-0 max-sm:z-10 max-sm:-mx-4 max-sm:border-t max-sm:border-rule max-sm:bg-paper max-sm:px-4 max-sm:py-3">
              <Button look="main" disabled={busy} onClick={() => decide("approve")} hint="A">
                {changed ? "Approve with my changes" : a.question ? "Answer" : a.act ? "Allow it" : "Approve"}
              </Button>
              {!a.question && (
                // What is selected stays so, and stands in the note.
                <Button disabled={busy || a.last} onMouseDown={(e) => e.preventDefault()} onClick={comment} hint="B">
                  Send back with a note
                </Button>
              )}
              <Button disabled={busy} onClick={() => decide("decline")} hint="D">
                Decline
              </Button>
              {changed && (
                <Button look="quiet" onClick={() => onEdit(UNCHANGED)}>
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
                  placeholder="What should be different? Select a passage first, and it stands in the note."
                  value={note}
                  onChange={(e) => setNote(e.target.value)}
                  onKeyDown={(e) => {
                    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) decide("back");
                    if (e.key === "Escape") setNoting(false);
                  }}
                />
                <div className="mt-2 flex flex-wrap gap-2">
                  <Button look="main" type="submit" disabled={busy || !note.trim()} hint="Ctrl Enter">
                    Send back
                  </Button>
                  <Button onMouseDown={(e) => e.preventDefault()} onClick={comment}>
                    Comment on what is selected
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
        ) : a.state === "back" ? (
          <Rewriting a={a} next={next} />
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
      <aside
        aria-label="Evidence"
        className="overflow-y-auto border-l border-line bg-sheet px-6 py-6 max-lg:border-l-0 max-lg:px-4 max-lg:py-3"
      >
        <Behind>
          {!a.act && !a.question && a.brand && (
            <div className="mb-6 empty:hidden">
              <VoiceOf brand={a.brand} text={open ? now : a.final_text || a.text} />
            </div>
          )}
          <EvidencePane asked={a} findings={findings} text={open ? measured.text || a.text : a.final_text || a.text} />
        </Behind>
      </aside>
    </div>
  );
}

const SAID: Record<Verdict, (a: Schemas["ApprovalView"]) => string> = {
  approve: (a) =>
    a.question
      ? "Answered. It goes on now."
      : a.act
        ? "It may. It goes on now."
        : a.needs !== "one" && a.people.filter((one) => one.said !== "approve").length > 1
          ? "Your yes is noted. The others are asked."
          : "Approved. It goes out at its time.",
  back: (a) => (a.act ? "It was told so." : "Sent back. The rewrite comes here in a moment."),
  decline: () => "Declined. Nothing goes out.",
};

const Changed = ({ changes }: { changes: Schemas["ChangeView"][] }) =>
  changes.map((one, n) =>
    one.what === "added" ? (
      <ins key={n} className="bg-leafwash no-underline">
        {one.text}
      </ins>
    ) : one.what === "removed" ? (
      <del key={n} className="text-soft">
        {one.text}
      </del>
    ) : (
      <span key={n}>{one.text}</span>
    ),
  );

/** What was sent back: its rewrite is looked out for, and shown when it is there. */
function Rewriting({ a, next }: { a: Schemas["ApprovalView"]; next?: string }) {
  const go = useNavigate();
  const rewrite = a.rewritten;
  const just = !!a.decided_at && Date.now() / 1000 - a.decided_at < 600;
  const to = just ? rewrite : null;
  useEffect(() => {
    if (to) {
      say("The rewrite is here.");
      go(`/approvals/${to}`, { replace: true });
    }
  }, [to, go]);
  return (
    <div className="mt-4 text-sm" role="status">
      <p>
        Sent back by {a.decided_by}
        {a.notes.at(-1) && `: “${a.notes.at(-1)!.note}”`}
      </p>
      <p className="mt-1 text-soft">
        {rewrite ? (
          <Link className="underline underline-offset-2" to={`/approvals/${rewrite}`}>
            The rewrite is here: round {a.round + 1}
          </Link>
        ) : just ? (
          "It is being written again and comes here in a moment."
        ) : (
          <Link className="underline underline-offset-2" to={`/runs/${a.run}`}>
            See what came of it
          </Link>
        )}
      </p>
      {next && !rewrite && (
        <Button className="mt-3" hint="N" onClick={() => go(next)}>
          Go on with the next
        </Button>
      )}
    </div>
  );
}
