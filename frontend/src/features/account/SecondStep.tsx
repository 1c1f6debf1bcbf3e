import { type FormEvent, useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { say, sayError } from "../../components/Toast";

/** The second step at sign-in: set up with a device, or taken away. */
export function SecondStep() {
  const has = useSession().data?.second;
  const [setting, setSetting] = useState<Schemas["NewSecondView"] | null>(null);
  const [away, setAway] = useState(false);
  async function begin() {
    try {
      setSetting(await mutate(api.POST("/api/session/second"), "nothing"));
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <section className="mt-8 border-t border-line pt-4" aria-labelledby="second">
      <h3 id="second" className="font-serif text-lg">
        A second step at sign-in
      </h3>
      <p className="mt-1 text-sm text-soft">
        {has
          ? "Beside the password, six figures of your device are asked for."
          : "Whoever learns your password still cannot come in: six figures of your phone are asked for as well."}
      </p>
      {has ? (
        <Button className="mt-2" onClick={() => setAway(true)}>
          Take it away …
        </Button>
      ) : (
        <Button className="mt-2" onClick={begin}>
          Set it up …
        </Button>
      )}
      {setting && <SetUp setting={setting} onClose={() => setSetting(null)} />}
      {away && <TakeAway onClose={() => setAway(false)} />}
    </section>
  );
}

function SetUp({ setting, onClose }: { setting: Schemas["NewSecondView"]; onClose: () => void }) {
  const [figures, setFigures] = useState("");
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  const [codes, setCodes] = useState<string[] | null>(null);

  async function keep(event: FormEvent) {
    event.preventDefault();
    setWrong("");
    try {
      const body = { token: setting.token, figures, password };
      setCodes((await mutate(api.PUT("/api/session/second", { body }), "session", "places")).codes);
    } catch (error) {
      setWrong((error as Error).message);
    }
  }
  if (codes)
    return (
      <Dialog
        open
        onClose={onClose}
        title="It is set up. Keep these codes"
        about="Each signs you in once where your device is gone. They are shown now and never again: write them down, away from the device."
      >
        <ul className="grid grid-cols-2 gap-x-6 gap-y-1 font-mono text-sm">
          {codes.map((code) => (
            <li key={code}>{code}</li>
          ))}
        </ul>
        <div className="mt-5 flex gap-2">
          <Button onClick={() => navigator.clipboard.writeText(codes.join("\n")).then(() => say("Copied."), sayError)}>
            Copy
          </Button>
          <Button look="main" onClick={onClose}>
            I have them
          </Button>
        </div>
      </Dialog>
    );
  return (
    <Dialog
      open
      onClose={onClose}
      title="A second step at sign-in"
      about="Point an app for one-time codes at the picture, or type the secret into it; then type the six figures it shows."
    >
      <form onSubmit={keep} className="space-y-3">
        <div className="flex flex-wrap items-center gap-4">
          <img
            src={setting.picture}
            alt="The secret, for a device's camera"
            className="h-40 w-40 border border-line bg-white"
          />
          <div className="min-w-0 flex-1 basis-48 text-sm">
            <p className="text-soft">The secret</p>
            <p className="font-mono break-all">{(setting.secret.match(/.{1,4}/g) ?? []).join(" ")}</p>
          </div>
        </div>
        <Field label="Six figures">
          <Input
            required
            autoFocus
            inputMode="numeric"
            autoComplete="one-time-code"
            maxLength={7}
            value={figures}
            onChange={(e) => setFigures(e.target.value)}
          />
        </Field>
        <Field label="Your password">
          <Input
            type="password"
            required
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
        {wrong && (
          <p role="alert" className="text-sm text-brick">
            {wrong}
          </p>
        )}
        <div className="flex gap-2 pt-1">
          <Button look="main" type="submit" disabled={!figures || !password}>
            Set it up
          </Button>
          <Button look="quiet" onClick={onClose}>
            Leave it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function TakeAway({ onClose }: { onClose: () => void }) {
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  async function take(event: FormEvent) {
    event.preventDefault();
    try {
      await mutate(api.POST("/api/session/second/away", { body: { password } }), "session");
      say("Your password alone signs you in again.");
      onClose();
    } catch (error) {
      setWrong((error as Error).message);
    }
  }
  return (
    <Dialog open onClose={onClose} title="Take the second step away?" about="Your password alone signs you in then.">
      <form onSubmit={take} className="space-y-3">
        <Field label="Your password" wrong={wrong}>
          <Input
            type="password"
            required
            autoFocus
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
        <Button look="wrong" type="submit" disabled={!password}>
          Take it away
        </Button>
      </form>
    </Dialog>
  );
}
