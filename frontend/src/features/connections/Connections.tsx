import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { State } from "../../components/State";
import { Sure } from "../../components/Sure";
import { say, sayError } from "../../components/Toast";
import { Trouble } from "../../components/Trouble";
import { ago } from "../../components/words";
import { Assistants } from "./Assistants";
import { ConnectionForm } from "./ConnectionForm";
import { TimetableDialog } from "./TimetableDialog";

type Connection = Schemas["ConnectionView"];
type Kind = Schemas["ConnectionKindView"];
/** The kinds of connection that pieces go out through. */
const CHANNELS = new Set(["posting", "blog", "listing", "mail", "room", "chatroom", "files"]);

/** Models, channels and mail, each tested with one press; what uses it stands beside it. */
export function Connections() {
  const session = useSession();
  const owner = may(session.data, "owner");
  const all = useQuery(reads.connections());
  const house = useQuery(reads.house());
  const [times, setTimes] = useState<Connection | null>(null);
  const [editing, setEditing] = useState<{ kind: Kind; connection: Connection | null } | null>(null);
  if (all.isPending) return <Loading what="Fetching the connections …" />;
  if (all.isError) return <Failed error={all.error} again={() => all.refetch()} />;
  const { connections, kinds } = all.data;
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">Connections</h1>
      {all.data.hosts.map((t) => (
        <div key={t.key} className="mt-4 border-l-2 border-brick bg-brickwash px-4 py-2">
          <Trouble trouble={t} maker={true} />
        </div>
      ))}
      {house.data?.left_out.map((one) => (
        <p key={one.name} className="mt-4 border-l-2 border-ochre bg-ochrewash px-4 py-2 text-sm">
          “{one.name}” of the package {one.distribution || "without a name"} is left out: {one.why}. Everything else
          goes on; mend or remove the package, then start Ulmus again.
        </p>
      ))}
      {kinds.map((kind) => {
        const mine = connections.filter((c) => c.kind === kind.name);
        return (
          <section key={kind.name} className="mt-8">
            <div className="flex items-baseline justify-between border-b border-rule pb-1">
              <h2 className="smallcaps text-lg">
                {kind.title}{" "}
                <span className="ml-2 font-sans text-sm tracking-normal text-soft normal-case [font-variant-caps:normal]">
                  {kind.about}
                </span>
              </h2>
              {owner && (
                <Button look="quiet" onClick={() => setEditing({ kind, connection: null })}>
                  Add
                </Button>
              )}
            </div>
            {mine.length === 0 && <Empty title="None yet.">Add one to use it in a workflow.</Empty>}
            <ul>
              {mine.map((c) => (
                <Row
                  key={c.key}
                  connection={c}
                  owner={owner}
                  onEdit={() => setEditing({ kind, connection: c })}
                  onTimes={CHANNELS.has(kind.name) ? () => setTimes(c) : undefined}
                />
              ))}
            </ul>
          </section>
        );
      })}
      {owner && <Assistants />}
      {times && <TimetableDialog connection={times} onClose={() => setTimes(null)} />}
      {editing && (
        <ConnectionForm
          kind={editing.kind}
          connection={editing.connection}
          redirect={all.data.redirect ?? ""}
          onClose={() => setEditing(null)}
        />
      )}
    </main>
  );
}

function Row({
  connection: c,
  owner,
  onEdit,
  onTimes,
}: {
  connection: Connection;
  owner: boolean;
  onEdit: () => void;
  onTimes?: () => void;
}) {
  const timetables = useQuery({ ...reads.timetables(), enabled: !!onTimes });
  const timetable = timetables.data?.find((one) => one.connection === c.key);
  const whose = useQuery(reads.brands()).data?.find((one) => one.key === c.brand)?.name;
  const [busy, setBusy] = useState(false);
  const path = { params: { path: { key: c.key } } };

  async function test() {
    setBusy(true);
    try {
      await mutate(api.POST("/api/connections/{key}/test", path), "connections");
    } catch (error) {
      sayError(error);
    } finally {
      setBusy(false);
    }
  }

  async function connect() {
    setBusy(true);
    try {
      const { address } = await mutate(api.POST("/api/connections/{key}/grant", path), "nothing");
      window.location.assign(address);
    } catch (error) {
      sayError(error);
      setBusy(false);
    }
  }

  async function remove() {
    try {
      await mutate(api.DELETE("/api/connections/{key}", path), "connections");
      say(`${c.name} is gone.`);
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <li className="grid grid-cols-[1fr_auto] gap-6 border-b border-line py-4">
      <div>
        <p className="font-serif text-xl first-letter:uppercase">{c.name}</p>
        <p className="text-sm [overflow-wrap:anywhere] text-soft">{c.summary}</p>
        <p className="mt-1">
          {busy ? (
            <State tone="leaf" mark="▸">
              asking it …
            </State>
          ) : c.tested_at ? (
            <State tone={c.test_ok ? "leaf" : "brick"} mark={c.test_ok ? "●" : "✕"}>
              {c.test_says} ({ago(c.tested_at)})
            </State>
          ) : (
            <State tone="soft" mark="○">
              not tested yet
            </State>
          )}
        </p>
        {c.trouble && (
          <div className="mt-1">
            <Trouble trouble={c.trouble} maker={true} />
          </div>
        )}
        {timetable && <p className="mt-1 text-xs text-soft">Its places: {timetable.says}</p>}
        <p className="mt-1 text-xs text-soft">
          {whose && `${whose}’s own. `}
          {c.used_by.length ? "Used by " : "Used by nothing."}
          {c.used_by.map((w, i) => (
            <span key={String(w.id)}>
              {i > 0 && ", "}
              <Link className="underline underline-offset-2" to={`/workflows/${w.id}`}>
                {String(w.name)}
              </Link>
            </span>
          ))}
        </p>
      </div>
      <div className="flex items-start gap-2">
        {owner && c.settings.oauth === "authorization_code" && (
          <Button look={c.granted ? undefined : "main"} disabled={busy} onClick={connect}>
            {c.granted ? "Connect again" : "Connect"}
          </Button>
        )}
        {onTimes && (
          <Button look="quiet" onClick={onTimes}>
            Timetable
          </Button>
        )}
        <Button disabled={busy} onClick={test}>
          Test
        </Button>
        {owner && <Button onClick={onEdit}>Change</Button>}
        {owner && c.used_by.length === 0 && (
          <Sure
            question={`Delete “${c.name}”?`}
            lost="Its settings and its key are gone for good. Nothing uses it now; what went out through it stays on record."
            yes="Delete it"
            onYes={remove}
          >
            Delete …
          </Sure>
        )}
      </div>
    </li>
  );
}
