import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { ShownOnce } from "../../components/ShownOnce";
import { Sure } from "../../components/Sure";
import { sayError } from "../../components/Toast";
import { count } from "../../components/words";
import { lately } from "./lately";

type Key = Schemas["WorkerKeyView"];
type Made = Schemas["MadeWorkerKey"];

/** Workers on other machines: who is there and at what, what waits for them, and their keys. */
export function Workers() {
  const workers = useQuery(reads.workers());
  const [making, setMaking] = useState(false);
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">Workers</h1>
      {workers.isPending ? (
        <Loading what="Looking who is there …" />
      ) : workers.isError ? (
        <Failed error={workers.error} again={() => workers.refetch()} />
      ) : !workers.data.wanted ? (
        <Empty title="This house carries everything out itself.">
          <p>
            When one machine is not enough, start it with <code>--executor celery --broker URL</code>. Then what gathers
            and drafts is carried out by workers on other machines, and they are shown here.
          </p>
        </Empty>
      ) : (
        <div className="mt-6 grid gap-12 lg:grid-cols-[8fr_4fr]">
          <section aria-labelledby="there" className="min-w-0">
            <h2 id="there" className="smallcaps border-b border-rule pb-1 text-lg">
              Who is there
            </h2>
            {workers.data.keys.length === 0 && (
              <Empty title="No worker yet.">
                <p>Make a key, and start a worker with it on another machine.</p>
              </Empty>
            )}
            <ul>
              {workers.data.keys.map((key) => (
                <KeyLine key={key.name} of={key} />
              ))}
            </ul>
            <Button
              className="mt-4"
              look={workers.data.keys.length ? undefined : "main"}
              onClick={() => setMaking(true)}
            >
              Make a key …
            </Button>
          </section>
          <section aria-labelledby="steps" className="min-w-0">
            <h2 id="steps" className="smallcaps border-b border-rule pb-1 text-lg">
              Steps
            </h2>
            <dl className="text-sm">
              <Count what="With a worker" of={workers.data.begun} />
              <Count what="Offered, and not begun" of={workers.data.offered} />
              <Count what="Wait here until there is room" of={workers.data.waiting} />
            </dl>
            <p className="mt-3 text-sm text-soft">
              Only what gathers and drafts goes out. What publishes, asks and records stays in this house.
            </p>
          </section>
        </div>
      )}
      {making && <NewKey onClose={() => setMaking(false)} />}
    </main>
  );
}

function Count({ what, of }: { what: string; of: number }) {
  return (
    <div className="flex items-baseline justify-between border-b border-line py-1.5">
      <dt>{what}</dt>
      <dd className="text-soft tabular-nums">{of || "none"}</dd>
    </div>
  );
}

function KeyLine({ of: key }: { of: Key }) {
  async function drop() {
    try {
      await mutate(api.DELETE("/api/house/workers/keys/{name}", { params: { path: { name: key.name } } }), "workers");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <li className="flex items-baseline gap-3 border-b border-line py-2.5 text-sm">
      <div className="min-w-0 flex-1">
        <p className="truncate font-medium">{key.name}</p>
        {key.workers.length === 0 && <p className="text-soft">Not heard of since this house began.</p>}
        <ul>
          {key.workers.map((one) => (
            <li key={one.process} className="flex flex-wrap gap-x-3 text-soft">
              <span className="min-w-0 truncate font-mono text-xs leading-5">{one.process}</span>
              <span className="tabular-nums">
                {one.at_work} of {count(one.room, "step")}
              </span>
              <span className={lately(one).gone ? "text-brick" : undefined}>{lately(one).says}</span>
            </li>
          ))}
        </ul>
      </div>
      <Sure
        question={`Take the key “${key.name}” away?`}
        lost="Its workers are refused from now on. What they are at is offered to others."
        yes="Take it away"
        onYes={drop}
      >
        Take away …
      </Sure>
    </li>
  );
}

function NewKey({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [made, setMade] = useState<Made>();
  async function make(event: FormEvent) {
    event.preventDefault();
    try {
      setMade(await mutate(api.POST("/api/house/workers/keys", { body: { name } }), "workers"));
    } catch (error) {
      sayError(error);
    }
  }
  if (made)
    return (
      <ShownOnce
        text={`ULMUS_WORKER_KEY=${made.key} ulmus worker --broker URL --house ${made.house}`}
        about="Start the worker with it on its machine; the broker’s URL is the one this house was started with."
        onClose={onClose}
      />
    );
  return (
    <Dialog open onClose={onClose} title="A key for a worker">
      <form className="space-y-3" onSubmit={make}>
        <Field label="What the worker is called" help="One for each machine, such as “attic”.">
          <Input required autoFocus maxLength={60} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Button look="main" type="submit" disabled={!name.trim()}>
          Make it
        </Button>
      </form>
    </Dialog>
  );
}
