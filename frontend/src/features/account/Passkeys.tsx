import { startRegistration } from "@simplewebauthn/browser";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { Sure } from "../../components/Sure";
import { say, sayError } from "../../components/Toast";
import { when } from "../../components/words";

/** Signing in by a device instead of a password: one's passkeys, made and taken away. */
export function Passkeys() {
  const found = useQuery(reads.passkeys());
  const [making, setMaking] = useState(false);
  if (!found.data || (!found.data.possible && found.data.passkeys.length === 0)) return null;

  async function takeAway(mark: string) {
    try {
      await mutate(api.DELETE("/api/session/passkeys/{mark}", { params: { path: { mark } } }), "passkeys");
      say("Taken away. Its device signs in no more.");
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <section className="mt-8 border-t border-line pt-4" aria-labelledby="passkeys">
      <h3 id="passkeys" className="font-serif text-lg">
        Passkeys
      </h3>
      <p className="mt-1 text-sm text-soft">
        Sign in with your finger, face or the figures of your device. A passkey is both steps, and cannot be told to a
        false page.
      </p>
      <ul className="mt-2 divide-y divide-line text-sm">
        {found.data.passkeys.map((one) => (
          <li key={one.mark} className="flex items-baseline gap-3 py-1.5">
            <span className="min-w-0 flex-1 truncate">{one.name}</span>
            <span className="text-xs text-soft">{one.used_at ? `used ${when(one.used_at)}` : "not used yet"}</span>
            <Sure
              question={`Take ${one.name} away?`}
              lost="Its device signs in no more. You can make another there."
              yes="Take it away"
              onYes={() => takeAway(one.mark)}
            >
              Take away …
            </Sure>
          </li>
        ))}
      </ul>
      {found.data.possible && (
        <Button className="mt-2" onClick={() => setMaking(true)}>
          Make a passkey …
        </Button>
      )}
      {making && <Making onClose={() => setMaking(false)} />}
    </section>
  );
}

function Making({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);

  async function make(event: FormEvent) {
    event.preventDefault();
    setWrong("");
    setBusy(true);
    try {
      const begun = await mutate(api.POST("/api/session/passkeys/begin", { body: { password } }), "nothing");
      const made = await startRegistration({ optionsJSON: begun.options as never });
      const credential = made as unknown as Record<string, unknown>;
      await mutate(api.POST("/api/session/passkeys", { body: { name, credential } }), "passkeys");
      say("Made. You can sign in with it from now on.");
      onClose();
    } catch (error) {
      setWrong(inWords(error as Error));
      setBusy(false);
    }
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title="Make a passkey"
      about="Your device asks you in a moment. What it keeps never leaves it."
    >
      <form className="space-y-3" onSubmit={make}>
        <Field label="What it is called" help="Such as the device: “the laptop”, “my phone”.">
          <Input autoFocus value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Field label="Your password" wrong={wrong}>
          <Input
            type="password"
            required
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
        <Button look="main" type="submit" disabled={busy}>
          {busy ? "Your device asks …" : "Make it"}
        </Button>
      </form>
    </Dialog>
  );
}

/** What a browser says of a device, in words. */
function inWords(error: Error): string {
  if (error.name === "NotAllowedError") return "The device was not asked, or said no. Try again.";
  if (error.name === "InvalidStateError") return "This device has a passkey of yours already.";
  return error.message;
}
