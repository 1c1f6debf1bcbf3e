import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useParams } from "react-router";
import { ApiError, api, ok } from "../../api/client";
import { FilesAt } from "../../api/files";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Area } from "../../components/Field";
import { Failed, Loading } from "../../components/Quiet";
import { brokenMusts, DECIDED, Draft, EvidencePane, GoesOut, LetOut, useMeasured } from "./desk";

/** The page behind a signed link: for a phone, without an account. Opening it decides nothing. */
export function Letter() {
  const token = useParams().token ?? "";
  const path = { params: { path: { token } } };
  const letter = useQuery(reads.letter(token));
  const [text, setText] = useState<string | null>(null);
  const [parts, setParts] = useState<Record<string, unknown>>({});
  const [warned, setWarned] = useState<string[]>([]);
  const [note, setNote] = useState("");
  const [said, setSaid] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  const piece = useRef<HTMLTextAreaElement>(null);
  const original = letter.data?.text ?? "";
  const now = text ?? original;
  const measured = useMeasured(
    { text, parts },
    { text: original, findings: letter.data?.findings ?? [], pieces: letter.data?.pieces ?? [] },
    (edit) => ok(api.POST("/api/letters/{token}/measure", { ...path, body: edit })),
  );
  const { findings } = measured;
  if (letter.isPending) return <Loading what="Opening the draft …" />;
  if (letter.isError) return <Failed error={letter.error} />;
  const a = letter.data;

  const changed = now.trim() !== original.trim() || Object.keys(parts).length > 0;

  async function decide(verdict: "approve" | "back" | "decline", despite = false) {
    const broken = brokenMusts(findings);
    if (verdict === "approve" && !despite && broken.length && !a.question && !a.act) {
      setWarned(broken);
      return;
    }
    setBusy(true);
    setWrong("");
    try {
      await mutate(
        api.POST("/api/letters/{token}", {
          ...path,
          body: {
            verdict,
            text: a.question ? note : a.parts.length ? null : now,
            note: a.question ? "" : note,
            parts,
            despite,
          },
        }),
        "nothing",
      );
      setSaid(
        {
          approve: a.question ? "Thank you. It goes on now." : "Approved. Thank you; it goes out now.",
          back: "Sent back. You will get the rewrite by mail.",
          decline: "Declined. Nothing goes out.",
        }[verdict],
      );
    } catch (error) {
      if (error instanceof ApiError && error.code === "broken_rule") setWarned(error.problems.map((p) => p.message));
      else setWrong((error as Error).message);
    } finally {
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto max-w-2xl px-5 py-6">
      <p className="text-xs text-soft">
        {a.question ? "You are asked a question" : "A draft waits for your word"}
        {a.round > 1 && `, round ${a.round}`}
        {a.last && !a.question && ", the last"}
      </p>
      <h1 className="mt-1 font-serif text-2xl leading-snug font-semibold">{a.title}</h1>
      {a.act && (
        <p className="mt-3 font-serif text-lg">
          The assignment asks whether it may: <strong>{a.act}</strong>
        </p>
      )}
      <div className="mt-5 border-y border-rule py-4">
        <Draft
          asked={a}
          open={a.state === "open" && !said}
          edit={{ text, parts }}
          shown={a.parts.length > 0 ? measured.text || now : now}
          wrong={measured.wrong}
          onEdit={(edit) => {
            setWarned([]);
            setText(edit.text);
            setParts(edit.parts);
          }}
          inputRef={piece}
        />
        <FilesAt.Provider value={`/api/letters/${token}/files/`}>
          <GoesOut pieces={measured.pieces} text={now} />
        </FilesAt.Provider>
      </div>
      {said ? (
        <p role="status" className="mt-5 font-serif text-lg text-leaf">
          {said}
        </p>
      ) : a.state !== "open" ? (
        <p className="mt-5">
          {DECIDED[a.state]}
          {a.decided_by && ` by ${a.decided_by}`}.
        </p>
      ) : (
        <div className="mt-5 space-y-4">
          {a.question && (
            <Area
              rows={4}
              aria-label="Your answer"
              placeholder="Your answer"
              value={note}
              onChange={(e) => setNote(e.target.value)}
            />
          )}
          <div className="flex flex-wrap gap-2">
            <Button look="main" className="!py-2 !text-base" disabled={busy} onClick={() => decide("approve")}>
              {!changed ? (a.question ? "Answer" : a.act ? "Let it" : "Approve") : "Approve with my changes"}
            </Button>
            <Button className="!py-2 !text-base" disabled={busy} onClick={() => decide("decline")}>
              Decline
            </Button>
          </div>
          <LetOut broken={warned} busy={busy} onLetOut={() => decide("approve", true)} />
          {!a.last && (
            <div>
              <Area
                rows={3}
                aria-label="Note for the rewrite"
                placeholder="Or: what should be different?"
                value={note}
                onChange={(e) => setNote(e.target.value)}
              />
              <Button className="mt-2" disabled={busy || !note.trim()} onClick={() => decide("back")}>
                Send back with this note
              </Button>
            </div>
          )}
          {wrong && (
            <p role="alert" className="text-sm text-brick">
              {wrong}
            </p>
          )}
        </div>
      )}
      <div className="mt-8 border-t border-line pt-5">
        <EvidencePane asked={a} findings={findings} />
      </div>
    </main>
  );
}
