/** Who is told when something is wrong: of one workflow, or of the house; by mail, in a room or as a push; at once or in the morning. */
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, type Schemas } from "../api/client";
import { mutate } from "../api/mutate";
import * as reads from "../api/reads";
import { Button } from "./Button";
import { Choice, Field, Input } from "./Field";
import { Failed, Loading } from "./Quiet";
import { sayError } from "./Toast";

type Way = Schemas["RuleBody"]["way"];
type What = Schemas["RuleBody"]["what"][number];
const WAYS: Record<Way, string> = { mail: "by mail", room: "in a room", push: "as a push to their browser" };

export function NoticeRules({ workflow = null, own }: { workflow?: number | null; own: string }) {
  const rules = useQuery(reads.noticeRules(workflow));
  const notices = useQuery(reads.notices());
  const connections = useQuery(reads.connections());
  const [adding, setAdding] = useState(false);
  if (rules.isPending || connections.isPending || notices.isPending) return <Loading what="Looking who is told …" />;
  if (rules.isError) return <Failed error={rules.error} again={() => rules.refetch()} />;
  const names = Object.fromEntries((connections.data?.connections ?? []).map((one) => [one.key, one.name]));
  const troubles = notices.data?.troubles ?? {};

  async function drop(id: number) {
    try {
      await mutate(api.DELETE("/api/notices/rules/{id}", { params: { path: { id } } }), "notice rules");
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <div>
      {rules.data.length === 0 && !adding && (
        <p className="text-sm text-soft">Nobody is told; what is wrong stands on Today only.</p>
      )}
      <ul className="divide-y divide-line">
        {rules.data.map((rule) => (
          <li key={rule.id} className="flex items-baseline gap-3 py-2 text-sm">
            <span className="flex-1">
              {rule.to || names[rule.connection] || rule.connection}{" "}
              {rule.way === "room" ? "is told" : `is told ${WAYS[rule.way]}`}
              {rule.at ? `, in one letter at ${rule.at}` : ", at once"}
              <span className="block text-xs text-soft">
                {rule.what.length ? rule.what.map((one) => troubles[one] ?? one).join("; ") : "whatever is wrong"}
              </span>
            </span>
            <Button look="quiet" onClick={() => drop(rule.id)}>
              Stop
            </Button>
          </li>
        ))}
      </ul>
      {adding ? (
        <Adding
          workflow={workflow}
          own={own}
          troubles={troubles}
          connections={connections.data?.connections ?? []}
          onDone={() => setAdding(false)}
        />
      ) : (
        <Button className="mt-3" onClick={() => setAdding(true)}>
          Have somebody told …
        </Button>
      )}
    </div>
  );
}

function Adding({
  workflow,
  own,
  troubles,
  connections,
  onDone,
}: {
  workflow: number | null;
  own: string;
  troubles: Record<string, string>;
  connections: { key: string; name: string; kind: string }[];
  onDone: () => void;
}) {
  const [way, setWay] = useState<Way>("mail");
  const through = connections.filter((one) =>
    way === "mail" ? one.kind === "mail" : ["room", "chatroom"].includes(one.kind),
  );
  const [connection, setConnection] = useState("");
  const [to, setTo] = useState(own);
  const [at, setAt] = useState("");
  const [what, setWhat] = useState<What[]>([]);
  const [wrong, setWrong] = useState("");

  async function add(event: FormEvent) {
    event.preventDefault();
    setWrong("");
    try {
      await mutate(
        api.POST("/api/notices/rules", {
          body: {
            workflow,
            what,
            way,
            connection: way === "push" ? "" : connection || through[0]?.key || "",
            to: way === "room" ? "" : to,
            at,
            zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
          },
        }),
        "notice rules",
      );
      onDone();
    } catch (error) {
      setWrong((error as Error).message);
    }
  }

  return (
    <form className="mt-3 space-y-3 border-t border-line pt-3" onSubmit={add}>
      <Field label="How">
        <Choice value={way} onChange={(e) => setWay(e.target.value as Way)}>
          {Object.entries(WAYS).map(([name, words]) => (
            <option key={name} value={name}>
              {words}
            </option>
          ))}
        </Choice>
      </Field>
      {way !== "room" && (
        <Field
          label="Who"
          help={
            way === "push" ? "Somebody with an account, who takes pushes on a device of theirs." : "A mail address."
          }
        >
          <Input type="email" required value={to} onChange={(e) => setTo(e.target.value)} />
        </Field>
      )}
      {way !== "push" && (
        <Field
          label={way === "mail" ? "Through" : "Room"}
          wrong={through.length ? undefined : `Add one under Connections first.`}
        >
          <Choice value={connection || through[0]?.key} onChange={(e) => setConnection(e.target.value)}>
            {through.map((one) => (
              <option key={one.key} value={one.key}>
                {one.name}
              </option>
            ))}
          </Choice>
        </Field>
      )}
      <Field label="When" help={at ? "Of what is still wrong then." : ""}>
        <Choice value={at ? "morning" : ""} onChange={(e) => setAt(e.target.value ? "08:00" : "")}>
          <option value="">at once</option>
          <option value="morning">as one letter a day</option>
        </Choice>
      </Field>
      {at && (
        <Field label="At">
          <Input type="time" required className="!w-28" value={at} onChange={(e) => setAt(e.target.value)} />
        </Field>
      )}
      <Field group label="Of what (all, if none is chosen)">
        <div className="grid gap-1 text-sm sm:grid-cols-2">
          {Object.entries(troubles).map(([name, words]) => (
            <label key={name} className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={what.includes(name as What)}
                onChange={(e) =>
                  setWhat(e.target.checked ? [...what, name as What] : what.filter((one) => one !== name))
                }
              />
              {words}
            </label>
          ))}
        </div>
      </Field>
      {wrong && (
        <p role="alert" className="text-sm text-brick">
          {wrong}
        </p>
      )}
      <p className="flex gap-2">
        <Button look="main" type="submit">
          Have them told
        </Button>
        <Button look="quiet" onClick={onDone}>
          Not now
        </Button>
      </p>
    </form>
  );
}
