import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, keepCsrf, queries } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Choice, Field, Input } from "../../components/Field";
import { NoticeRules } from "../../components/NoticeRules";
import { say } from "../../components/Toast";
import { WantsForm } from "../../components/Wants";
import { Keys } from "./Keys";
import { Passkeys } from "./Passkeys";
import { People } from "./People";
import { Places } from "./Places";
import { SecondStep } from "./SecondStep";
import { ThisDevice } from "./ThisDevice";

/** One's own account, and for owners everybody's. */
export function Account() {
  const session = useSession().data;
  if (!session) return null;
  const owner = may(session, "owner");
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">{owner ? "Account and people" : "Account"}</h1>
      <div className="mt-8 grid gap-12 lg:grid-cols-[4fr_8fr]">
        <section aria-labelledby="own" className="min-w-0">
          <h2 id="own" className="smallcaps border-b border-rule pb-1 text-lg">
            {session.name}
          </h2>
          <p className="mt-3 text-sm text-soft">
            {session.email}, {session.role}
          </p>
          <HowToldOf who={session.email} />
          <ThisDevice />
          <NewPassword />
          <SecondStep />
          <Passkeys />
          <Places />
          <Keys />
        </section>
        {owner && (
          <div>
            <section aria-labelledby="wrong" className="mb-12">
              <h2 id="wrong" className="smallcaps mb-3 border-b border-rule pb-1 text-lg">
                When something is wrong
              </h2>
              <NoticeRules own={session.email} />
            </section>
            <OfOthers own={session.email} />
            <People own={session.email} />
          </div>
        )}
      </div>
    </main>
  );
}

function HowToldOf({ who }: { who: string }) {
  return (
    <section className="mt-6 mb-8 border-b border-line pb-6" aria-labelledby="told">
      <h3 id="told" className="mb-3 font-serif text-lg">
        How I am told of what waits
      </h3>
      <WantsOf who={who} />
    </section>
  );
}

/** How anybody who is asked is told, and who decides while they are away: set by an owner, since not all have an account. */
function OfOthers({ own }: { own: string }) {
  const known = useQuery(reads.people());
  const [who, setWho] = useState("");
  const others = (known.data ?? []).filter((one) => one.who !== own);
  if (!others.length) return null;
  return (
    <section aria-labelledby="others" className="mb-12">
      <h2 id="others" className="smallcaps mb-3 border-b border-rule pb-1 text-lg">
        Others who are asked
      </h2>
      <div className="max-w-md space-y-4">
        <Field label="Who" help="When they are told, and who decides while they are away.">
          <Choice value={who} onChange={(e) => setWho(e.target.value)}>
            <option value="">choose …</option>
            {others.map((one) => (
              <option key={one.who} value={one.who}>
                {one.name ? `${one.name}, ${one.who}` : one.who}
              </option>
            ))}
          </Choice>
        </Field>
        {who && <WantsOf key={who} who={who} />}
      </div>
    </section>
  );
}

function WantsOf({ who }: { who: string }) {
  const wants = useQuery(reads.wants(who));
  if (!wants.data) return null;
  return (
    <WantsForm
      wants={wants.data}
      save={async (body) => {
        await mutate(api.PUT("/api/people/{who}/wants", { params: { path: { who } }, body }), "wants");
      }}
    />
  );
}

function NewPassword() {
  const [now, setNow] = useState("");
  const [next, setNext] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);

  async function change(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    setWrong("");
    try {
      const session = await mutate(api.PUT("/api/session/password", { body: { now, new: next } }), "nothing");
      keepCsrf(session.csrf);
      queries.setQueryData(["session"], session);
      setNow("");
      setNext("");
      say("Your password is changed. Everywhere else you are signed out.");
    } catch (error) {
      setWrong((error as Error).message);
    }
    setBusy(false);
  }

  return (
    <form className="mt-5 space-y-3" onSubmit={change}>
      <Field label="Password now">
        <Input
          type="password"
          autoComplete="current-password"
          required
          value={now}
          onChange={(e) => setNow(e.target.value)}
        />
      </Field>
      <Field
        label="New password"
        help="At least 10 characters; a few words in a row are easy to remember."
        wrong={wrong}
      >
        <Input
          type="password"
          autoComplete="new-password"
          required
          value={next}
          onChange={(e) => setNext(e.target.value)}
        />
      </Field>
      <Button type="submit" look="main" disabled={busy || !now || !next}>
        Change password
      </Button>
    </form>
  );
}
