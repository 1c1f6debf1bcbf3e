import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../Button";
import { Input } from "../Field";
import { reached } from "../keys";
import { useSettled } from "../settled";
import { count } from "../words";
import { CameBack } from "./CameBack";
import { HEADS, Head, LetterBody } from "./parts";

type View = Schemas["PieceView"];
type Mailing = Schemas["Mailing"];

/** A mailing as a whole: who gets it and who does not, and the letter as any one of its readers gets it. */
export function MailingFull({ view, mailing }: { view: View; mailing: Mailing }) {
  const { data: session } = useSession();
  const [reader, setReader] = useState("");
  const wanted = useSettled(reader);
  const other = useQuery({
    ...reads.mailingLetter(mailing, wanted),
    enabled: wanted !== "" && !!session?.email,
  });
  const letter = (wanted && other.data) || mailing.first;
  const left = mailing.left_out.reduce((sum, one) => sum + one.count, 0);
  return (
    <article className="border border-line bg-sheet">
      <dl className={HEADS}>
        <Head title="From">{mailing.sender}</Head>
        <Head title="To">
          <span className="font-semibold">{count(mailing.readers, "reader", "readers")}</span> of {mailing.name}
          {mailing.pace && `, at most ${mailing.pace.toLocaleString("en")} a minute`}
        </Head>
        {left > 0 && (
          <Head title="Left out">
            <ul>
              {mailing.left_out.map((one) => (
                <li key={one.why}>
                  {one.count.toLocaleString("en")} who {one.why}
                  {one.some.length > 0 && (
                    <span className="text-soft">
                      : {one.some.join(", ")}
                      {one.count > one.some.length && " …"}
                    </span>
                  )}
                </li>
              ))}
            </ul>
          </Head>
        )}
        {mailing.presses && <Head title="Counted">presses of its links; the letter says so</Head>}
        {mailing.reply_to && <Head title="Answers to">{mailing.reply_to}</Head>}
      </dl>
      {view.id != null && Object.keys(view.letters).length > 0 && <Letters id={view.id} counts={view.letters} />}
      {view.id != null && view.state !== "queued" && <CameBack id={view.id} inset />}
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-line px-4 py-2 text-sm">
        <span className="text-soft [overflow-wrap:anywhere]">
          As <span className="text-ink">{letter.to.join(", ")}</span> gets it
        </span>
        {session?.email && (
          <span className="ml-auto flex flex-wrap items-center gap-2">
            <Input
              aria-label="Show it for another reader"
              placeholder="Another reader …"
              value={reader}
              onChange={(e) => setReader(e.target.value)}
              className="!w-44"
            />
            {may(session, "reviewer") && view.connection && !view.state && (
              <ToMe mailing={mailing} reader={wanted} connection={view.connection} me={session.email} />
            )}
          </span>
        )}
        {wanted && other.isError && (
          <p role="status" className="w-full text-soft">
            {other.error.message}
          </p>
        )}
      </div>
      <LetterBody letter={letter} />
    </article>
  );
}

function ToMe({
  mailing,
  reader,
  connection,
  me,
}: {
  mailing: Mailing;
  reader: string;
  connection: string;
  me: string;
}) {
  const [says, setSays] = useState("");
  const [busy, setBusy] = useState(false);
  async function send() {
    setBusy(true);
    setSays("");
    try {
      await mutate(api.POST("/api/mailings/trial", { body: { mailing, reader, connection } }), "nothing");
      setSays(`Sent to ${me}, and to nobody else.`);
    } catch (error) {
      setSays((error as Error).message);
    } finally {
      setBusy(false);
    }
  }
  return (
    <>
      <Button disabled={busy} onClick={send}>
        {busy ? "Sending …" : "Send it to me first"}
      </Button>
      <span role="status" className="text-soft empty:hidden">
        {says}
      </span>
    </>
  );
}

const STATES: [string, string][] = [
  ["unsure", "in doubt"],
  ["refused", "refused"],
  ["bounced", "came back"],
  ["left", "left before it went"],
  ["dropped", "not sent"],
  ["waiting", "still to go"],
];

/** What became of the letters: how many are out, and which are not. */
function Letters({ id, counts }: { id: number; counts: Record<string, number> }) {
  const [open, setOpen] = useState("");
  const listed = useQuery({ ...reads.mailingLetters(id, open), enabled: open !== "" });
  const all = Object.values(counts).reduce((sum, n) => sum + n, 0);
  const out = (counts.sent ?? 0) + (counts.bounced ?? 0);
  return (
    <section aria-label="What became of the letters" className="border-b border-line px-4 py-2 text-sm">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <span aria-hidden className="h-[3px] w-32 overflow-hidden rounded bg-line">
          <span className="block h-full bg-leaf" style={{ width: `${(100 * out) / Math.max(1, all)}%` }} />
        </span>
        <span>
          {out.toLocaleString("en")} of {all.toLocaleString("en")} out
        </span>
        {STATES.filter(([state]) => counts[state]).map(([state, words]) => (
          <button
            key={state}
            type="button"
            aria-expanded={open === state}
            onClick={() => setOpen(open === state ? "" : state)}
            className={`underline underline-offset-2 ${state === "unsure" || state === "refused" ? "text-brick" : "text-soft"}`}
          >
            {(counts[state] ?? 0).toLocaleString("en")} {words}
          </button>
        ))}
      </div>
      {open && listed.data && (
        <div className="mt-1 max-h-60 overflow-y-auto" {...reached("Readers")}>
          <ul>
            {listed.data.letters.map((one) => (
              <li key={one.address} className="[overflow-wrap:anywhere]">
                {one.address} {one.message && <span className="text-soft">{one.message}</span>}
              </li>
            ))}
            {(counts[open] ?? 0) > listed.data.letters.length && (
              <li className="text-soft">
                and {((counts[open] ?? 0) - listed.data.letters.length).toLocaleString("en")} more
              </li>
            )}
          </ul>
        </div>
      )}
    </section>
  );
}
