import { browserSupportsWebAuthn, startAuthentication } from "@simplewebauthn/browser";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { ApiError, api, keepCsrf, queries } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import type { Session } from "../../app/session";
import { Button } from "../../components/Button";
import { Field, Input } from "../../components/Field";

/** Signing in. A demonstration offers its accounts, so that nobody has to look for a password. */
export function SignIn({ session }: { session: Session }) {
  const [asked, setAsked] = useSearchParams();
  const [name, setName] = useState("");
  const key = session.empty ? asked.get("first") : null;
  const token = asked.get("invited");
  const invited = useQuery(reads.invited(token));
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  // Asked for once the password was right, where there is a second step.
  const [figures, setFigures] = useState<string | null>(null);

  async function enter(as: { email: string; password: string }) {
    setBusy(true);
    setWrong("");
    try {
      const begin = key
        ? api.POST("/api/session/first", { body: { ...as, key, name } })
        : token && invited.data
          ? api.POST("/api/session/invited/{token}", { params: { path: { token } }, body: { password: as.password } })
          : api.POST("/api/session", { body: { ...as, figures: figures ?? "" } });
      const now = await mutate(begin, "nothing");
      keepCsrf(now.csrf);
      if (key || token) setAsked({}, { replace: true });
      queries.setQueryData(["session"], now);
    } catch (error) {
      const asks = error instanceof ApiError && error.code === "second";
      if (asks && figures === null) setFigures("");
      else setWrong((error as Error).message);
      setBusy(false);
    }
  }

  async function byPasskey() {
    setBusy(true);
    setWrong("");
    try {
      const begun = await mutate(api.POST("/api/session/passkey/begin"), "nothing");
      const proof = await startAuthentication({ optionsJSON: begun.options as never });
      const credential = proof as unknown as Record<string, unknown>;
      const now = await mutate(api.POST("/api/session/passkey", { body: { credential } }), "nothing");
      keepCsrf(now.csrf);
      queries.setQueryData(["session"], now);
    } catch (error) {
      const no = (error as Error).name === "NotAllowedError";
      setWrong(no ? "The device was not asked, or has no passkey for this house." : (error as Error).message);
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto grid min-h-screen max-w-4xl content-center gap-12 px-8 py-10 md:grid-cols-[1fr_20rem]">
      <section>
        <h1 className="font-serif text-5xl font-semibold tracking-tight">Ulmus</h1>
        <p className="mt-4 max-w-md font-serif text-lg leading-relaxed">
          A workflow is a page you read from top to bottom. Beside it stand proofs: the same page carried out on real
          items, with nothing leaving the house.
        </p>
      </section>
      <section>
        <form
          className="space-y-3"
          onSubmit={(event: FormEvent) => {
            event.preventDefault();
            enter({ email: invited.data?.email ?? email, password });
          }}
        >
          {key && (
            <>
              <p className="font-serif text-lg">This house is new. You are its first.</p>
              <Field label="Your name">
                <Input
                  autoComplete="name"
                  required
                  autoFocus
                  maxLength={120}
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                />
              </Field>
            </>
          )}
          {invited.data && <p className="font-serif text-lg">Welcome, {invited.data.name}. Choose your password.</p>}
          {invited.isError && (
            <p role="alert" className="border-l-2 border-brick pl-3 text-sm text-brick">
              {(invited.error as Error).message}
            </p>
          )}
          {session.empty && !key && (
            <p className="border-l-2 border-ochre pl-3 text-sm">
              Nobody has an account here yet. Where Ulmus was started stands an address at which the first one is made:
              open that.
            </p>
          )}
          <Field label="Mail address">
            <Input
              type="email"
              autoComplete="username"
              required
              autoFocus={!key}
              readOnly={!!invited.data}
              value={invited.data?.email ?? email}
              onChange={(e) => setEmail(e.target.value)}
            />
          </Field>
          <Field label="Password" help={key || invited.data ? "Ten characters or more." : undefined}>
            <Input
              type="password"
              autoComplete={key || invited.data ? "new-password" : "current-password"}
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Field>
          {figures !== null && (
            <Field label="Six figures" help="Those your device shows now, or one of your codes.">
              <Input
                required
                autoFocus
                autoComplete="one-time-code"
                maxLength={20}
                value={figures}
                onChange={(e) => setFigures(e.target.value)}
              />
            </Field>
          )}
          {wrong && (
            <p role="alert" className="text-sm text-brick">
              {wrong}
            </p>
          )}
          <div className="flex flex-wrap gap-2">
            <Button look="main" type="submit" disabled={busy}>
              {key || invited.data ? "Begin" : "Sign in"}
            </Button>
            {session.passkeys && !key && !token && browserSupportsWebAuthn() && (
              <Button disabled={busy} onClick={byPasskey}>
                Use a passkey
              </Button>
            )}
          </div>
        </form>
        {session.demo.length > 0 && (
          <div className="mt-8 border-t border-line pt-4">
            <p className="text-sm text-soft">This is a demonstration. Come in as</p>
            <ul className="mt-2 space-y-1">
              {session.demo.map((who) => (
                <li key={who.email}>
                  <Button
                    look="quiet"
                    className="-ml-3"
                    disabled={busy}
                    onClick={() => enter({ email: who.email!, password: who.password! })}
                  >
                    <span className="font-serif underline decoration-leaf decoration-2">{who.name}</span>
                    <span className="text-soft">{who.role}</span>
                  </Button>
                </li>
              ))}
            </ul>
          </div>
        )}
      </section>
    </main>
  );
}
