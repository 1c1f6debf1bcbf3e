import { type FormEvent, useState } from "react";
import { api, keepCsrf, queries } from "../../api/client";
import { mutate } from "../../api/mutate";
import type { Session } from "../../app/session";
import { Button } from "../../components/Button";
import { Field, Input } from "../../components/Field";

/** Signing in. A demonstration offers its accounts, so that nobody has to look for a password. */
export function SignIn({ session }: { session: Session }) {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);

  async function enter(as: { email: string; password: string }) {
    setBusy(true);
    setWrong("");
    try {
      const now = await mutate(api.POST("/api/session", { body: as }), "nothing");
      keepCsrf(now.csrf);
      queries.setQueryData(["session"], now);
    } catch (error) {
      setWrong((error as Error).message);
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
            enter({ email, password });
          }}
        >
          <Field label="Mail address">
            <Input
              type="email"
              autoComplete="username"
              required
              autoFocus
              value={email}
              onChange={(e) => setEmail(e.target.value)}
            />
          </Field>
          <Field label="Password">
            <Input
              type="password"
              autoComplete="current-password"
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Field>
          {wrong && (
            <p role="alert" className="text-sm text-brick">
              {wrong}
            </p>
          )}
          <Button look="main" type="submit" disabled={busy}>
            Sign in
          </Button>
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
