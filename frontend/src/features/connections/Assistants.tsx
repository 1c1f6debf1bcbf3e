import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Copied } from "../../components/Copied";
import { Field, Input } from "../../components/Field";
import { Sure } from "../../components/Sure";
import { say, sayError } from "../../components/Toast";
import { Whose } from "../../components/Whose";
import { when } from "../../components/words";

/** Workflows as tools for assistants outside: which are offered, and who has a key. */
export function Assistants() {
  const found = useQuery(reads.assistants());
  const [adding, setAdding] = useState(false);
  if (!found.data) return null;
  const { address, ready, offers, keys } = found.data;

  async function takeAway(id: string, name: string) {
    try {
      await mutate(api.DELETE("/api/assistants/keys/{id}", { params: { path: { id } } }), "assistants");
      say(`${name} reaches nothing here any more.`);
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <section className="mt-8" aria-labelledby="assistants">
      <div className="flex items-baseline justify-between border-b border-rule pb-1">
        <h2 id="assistants" className="smallcaps text-lg">
          Assistants outside{" "}
          <span className="ml-2 font-sans text-sm tracking-normal text-soft normal-case [font-variant-caps:normal]">
            Run workflows of yours as tools, over the Model Context Protocol.
          </span>
        </h2>
        {ready && (
          <Button look="quiet" onClick={() => setAdding(!adding)}>
            Make a key
          </Button>
        )}
      </div>
      {!ready && (
        <p className="mt-3 text-sm text-soft">
          A part of Ulmus is not installed here that this needs: <code>pip install 'ulmus[assistants]'</code>, then
          start again.
        </p>
      )}
      {adding && <NewKey address={address} onClose={() => setAdding(false)} />}
      <p className="mt-3 text-sm">
        {offers.length === 0 ? (
          <span className="text-soft">
            No workflow is offered. On a page that begins by hand or by a form: Page …, What it is for …
          </span>
        ) : (
          <>
            Offered:{" "}
            {offers.map((one, i) => (
              <span key={one.workflow}>
                {i > 0 && ", "}
                <Link className="underline underline-offset-2" to={`/workflows/${one.workflow}`}>
                  {one.title}
                </Link>
              </span>
            ))}
            .
          </>
        )}
      </p>
      <ul className="mt-2 divide-y divide-line text-sm">
        {keys.map((key) => (
          <li key={key.id} className="flex flex-wrap items-baseline gap-x-3 py-1.5">
            <span className="min-w-0 flex-1 truncate">
              {key.name}
              {key.brand && <span className="text-soft"> · only {key.brand}</span>}
            </span>
            <span className="text-xs text-soft">
              {key.made_by}, {when(key.made_at)} · {key.used_at ? `last used ${when(key.used_at)}` : "not used yet"}
            </span>
            <Sure
              question={`Take the key of ${key.name} away?`}
              lost="It reaches nothing here from then on, and the same key cannot be given again."
              yes="Take it away"
              onYes={() => takeAway(key.id, key.name)}
            >
              Take it away …
            </Sure>
          </li>
        ))}
      </ul>
    </section>
  );
}

function NewKey({ address, onClose }: { address: string; onClose: () => void }) {
  const [name, setName] = useState("");
  const [brand, setBrand] = useState("");
  const [made, setMade] = useState<Schemas["AssistantKeyView"] | null>(null);

  async function make(event: FormEvent) {
    event.preventDefault();
    try {
      setMade(await mutate(api.POST("/api/assistants/keys", { body: { name, brand } }), "assistants"));
    } catch (error) {
      sayError(error);
    }
  }

  if (made)
    return (
      <div className="mt-3 max-w-2xl space-y-2 rounded border border-leaf bg-leafwash p-3 text-sm">
        <p>Copy the key now; it is not shown again.</p>
        <Copied label="Where the assistant speaks to" text={address} />
        <Copied label="The key, as “Authorization: Bearer …”" text={made.token ?? ""} />
        <Button onClick={onClose}>Done</Button>
      </div>
    );
  return (
    <form className="mt-3 flex flex-wrap items-end gap-3" onSubmit={make}>
      <div className="w-64">
        <Field label="Which assistant">
          <Input autoFocus required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
      </div>
      <div className="w-64">
        <Whose value={brand} all="all of the house’s" help="" onChange={setBrand} />
      </div>
      <Button look="main" type="submit" disabled={!name.trim()}>
        Make it
      </Button>
      <Button look="quiet" onClick={onClose}>
        Leave it
      </Button>
    </form>
  );
}
