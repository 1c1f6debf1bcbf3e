import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Choice, Field, Input } from "../../components/Field";
import { ShownOnce } from "../../components/ShownOnce";
import { Sure } from "../../components/Sure";
import { sayError } from "../../components/Toast";
import { ago } from "../../components/words";

type Scope = Schemas["ProgramKeyView"]["scope"];

const SCOPES: [Scope, string][] = [
  ["reader", "read"],
  ["reviewer", "read and decide on drafts"],
  ["maker", "read, decide, and make and start workflows"],
];

/** Keys with which other programs ask in one's name; for owners everybody's. */
export function Keys() {
  const session = useSession().data;
  const keys = useQuery(reads.keys());
  const [making, setMaking] = useState(false);
  if (!session) return null;
  async function drop(mark: string) {
    try {
      await mutate(api.DELETE("/api/keys/{mark}", { params: { path: { mark } } }), "keys");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <section className="mt-8 border-t border-line pt-4" aria-labelledby="keys">
      <h3 id="keys" className="font-serif text-lg">
        Keys for other programs
      </h3>
      <p className="mt-1 text-sm text-soft">
        A program with a key does here what you may, and no more than the key says.{" "}
        <a className="underline underline-offset-2" href="/api/" target="_blank" rel="noreferrer">
          What it can ask
        </a>
      </p>
      <ul>
        {keys.data?.map((key) => (
          <li key={key.mark} className="flex items-baseline gap-3 border-b border-line py-2 text-sm">
            <div className="min-w-0 flex-1">
              <p className="truncate">{key.name}</p>
              <p className="text-xs text-soft">
                may {SCOPES.find(([scope]) => scope === key.scope)?.[1]}
                {key.whose !== session.email && `, in the name of ${key.whose}`} ·{" "}
                {key.used_at ? `used ${ago(key.used_at)} from ${key.place}` : "never used"}
              </p>
            </div>
            <Sure
              question={`Take the key “${key.name}” away?`}
              lost="Whatever uses it is refused from now on. It cannot be brought back."
              yes="Take it away"
              onYes={() => drop(key.mark)}
            >
              Take away …
            </Sure>
          </li>
        ))}
      </ul>
      <Button className="mt-3" onClick={() => setMaking(true)}>
        Make a key …
      </Button>
      {making && (
        <NewKey
          scopes={SCOPES.filter(([scope]) => scope === "reader" || may(session, scope))}
          onClose={() => setMaking(false)}
        />
      )}
    </section>
  );
}

function NewKey({ scopes, onClose }: { scopes: [Scope, string][]; onClose: () => void }) {
  const [name, setName] = useState("");
  const [scope, setScope] = useState<Scope>("reader");
  const [made, setMade] = useState("");
  async function make(event: FormEvent) {
    event.preventDefault();
    try {
      setMade((await mutate(api.POST("/api/keys", { body: { name, scope } }), "keys")).key);
    } catch (error) {
      sayError(error);
    }
  }
  if (made)
    return (
      <ShownOnce
        text={made}
        about="Give it to the program by a safe way; it sends it as “Authorization: Bearer …”."
        onClose={onClose}
      />
    );
  return (
    <Dialog open onClose={onClose} title="A key for another program">
      <form className="space-y-3" onSubmit={make}>
        <Field label="What it is for" help="Such as “the shop’s nightly export”.">
          <Input required autoFocus maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Field label="It may">
          <Choice value={scope} onChange={(e) => setScope(e.target.value as Scope)}>
            {scopes.map(([one, words]) => (
              <option key={one} value={one}>
                {words}
              </option>
            ))}
          </Choice>
        </Field>
        <Button look="main" type="submit" disabled={!name.trim()}>
          Make it
        </Button>
      </form>
    </Dialog>
  );
}
