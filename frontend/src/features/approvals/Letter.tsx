import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useParams } from "react-router";
import { ApiError, api, ok } from "../../api/client";
import { FilesAt } from "../../api/files";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Area } from "../../components/Field";
import { useFilled } from "../../components/FormFields";
import { Failed, Loading } from "../../components/Quiet";
import { count } from "../../components/words";
import { AnswerBox, type Given, givenOf } from "./desk/Answer";
import { ByWhen, People, TakenAsYes } from "./desk/Around";
import { Behind } from "./desk/Behind";
import { Draft } from "./desk/Draft";
import { EvidencePane } from "./desk/EvidencePane";
import { brokenMusts, DECIDED, type Edit, GoesOut, isChanged, LetOut, UNCHANGED, useMeasured } from "./desk/parts";
import { HowToBeTold } from "./HowToBeTold";

/** The page behind a signed link: for a phone, without an account. Opening it decides nothing. */
export function Letter() {
  const token = useParams().token ?? "";
  const path = { params: { path: { token } } };
  const letter = useQuery(reads.letter(token));
  const [edit, setEdit] = useState<Edit>(UNCHANGED);
  const [warned, setWarned] = useState<string[]>([]);
  const [note, setNote] = useState("");
  const [given, setGiven] = useState<Given>({ words: "" });
  const [said, setSaid] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  const piece = useRef<HTMLTextAreaElement>(null);
  const original = letter.data?.text ?? "";
  const now = edit.text ?? original;
  const measured = useMeasured(
    edit,
    { text: original, findings: letter.data?.findings ?? [], pieces: letter.data?.pieces ?? [] },
    (body) => ok(api.POST("/api/letters/{token}/measure", { ...path, body })),
  );
  const { findings } = measured;
  const filled = useFilled(letter.data?.asks.fields ?? []);
  if (letter.isPending) return <Loading what="Opening the draft …" />;
  if (letter.isError) return <Failed error={letter.error} />;
  const a = letter.data;

  const changed = isChanged(edit, original);
  const onEdit = (now: Edit) => {
    setWarned([]);
    setEdit(now);
  };

  async function decide(verdict: "approve" | "back" | "decline", despite = false) {
    const answer = a.question && verdict === "approve" ? givenOf(a.asks, given, filled) : {};
    if (answer === null) {
      setWrong(a.asks.form === "choose" ? "Choose one first." : "Give your answer first.");
      return;
    }
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
            text: a.question ? (a.asks.form ? null : given.words) : a.parts.length ? null : edit.text,
            note: a.question ? (a.asks.form ? given.words : "") : note,
            parts: edit.parts,
            pieces: edit.pieces,
            despite,
            given: answer,
          },
        }),
        "nothing",
      );
      setSaid(
        {
          approve: a.question
            ? "Thank you. It goes on now."
            : a.needs !== "one" && a.people.filter((one) => one.said !== "approve").length > 1
              ? "Thank you. The others are asked as well."
              : "Approved. Thank you; it goes out at its time.",
          back: "Sent back. You will get the rewrite by mail.",
          decline: "Declined. Nothing goes out.",
        }[verdict],
      );
    } catch (error) {
      if (error instanceof ApiError && error.code === "broken_rule") setWarned(error.problems.map((p) => p.message));
      else if (!filled.refused(error)) setWrong((error as Error).message);
    } finally {
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto max-w-2xl px-5 py-6">
      <p className="text-xs text-soft">
        {a.question ? "You are asked a question" : "A draft waits for your word"}
        {a.round > 1 && `, round ${a.round}`}
        {a.last && !a.question && ", the last"} · {a.workflow_name}
        {a.brand_name && ` · ${a.brand_name}`}
      </p>
      <h1 className="mt-1 font-serif text-2xl leading-snug font-semibold">{a.title}</h1>
      <ByWhen asked={a} />
      <People asked={a} />
      <TakenAsYes
        asked={a}
        onTakeBack={() =>
          mutate(api.POST("/api/letters/{token}/taken-back", path), "letter").catch((error) =>
            setWrong((error as Error).message),
          )
        }
      />
      {a.act && (
        <p className="mt-3 font-serif text-lg">
          The assignment asks whether it may: <strong>{a.act}</strong>
        </p>
      )}
      <div className="mt-5 border-y border-rule py-4">
        <Draft
          asked={a}
          open={a.state === "open" && !said}
          edit={edit}
          shown={a.parts.length > 0 ? measured.text || now : now}
          wrong={measured.wrong}
          onEdit={onEdit}
          inputRef={piece}
        />
        <FilesAt.Provider value={`/api/letters/${token}/files/`}>
          <GoesOut
            pieces={measured.pieces}
            text={now}
            first={a.pieces}
            edit={a.state === "open" && !said ? edit : undefined}
            onEdit={onEdit}
          />
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
            <FilesAt.Provider value={`/api/letters/${token}/files/`}>
              <AnswerBox
                asks={a.asks}
                given={given}
                filled={filled}
                onGive={setGiven}
                onSend={() => decide("approve")}
              />
            </FilesAt.Provider>
          )}
          <div className="flex flex-wrap gap-2 max-sm:sticky max-sm:bottom-0 max-sm:z-10 max-sm:-mx-5 max-sm:border-t max-sm:border-rule max-sm:bg-paper max-sm:px-5 max-sm:py-3">
            <Button look="main" className="!py-2 !text-base" disabled={busy} onClick={() => decide("approve")}>
              {!changed ? (a.question ? "Answer" : a.act ? "Allow it" : "Approve") : "Approve with my changes"}
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
      {a.waiting > 0 && (
        <p className="mt-8 border-t border-line pt-4 text-sm text-soft">
          {count(a.waiting, "more draft")} {a.waiting === 1 ? "waits" : "wait"} for you. The links are in your mails.
        </p>
      )}
      <div className="mt-8 border-t border-line pt-4">
        <Behind>
          <EvidencePane asked={a} findings={findings} />
        </Behind>
      </div>
      <HowToBeTold token={token} />
    </main>
  );
}
