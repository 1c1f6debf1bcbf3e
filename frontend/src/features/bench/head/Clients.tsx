/** One page for several clients: who has it as well, and what is each one's own. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Bench, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Area, Choice, Field, Input } from "../../../components/Field";
import { Failed, Loading } from "../../../components/Quiet";
import { say, sayError } from "../../../components/Toast";
import { count } from "../../../components/words";

type View = Schemas["ClientsView"];
type Client = Schemas["ClientView"];
type Differs = Schemas["DiffersView"];

const STATE: Record<string, string> = { live: "● live", paused: "○ paused", draft: "○ not live", away: "put away" };
const FACTS: Record<string, string> = {
  about: "What they do",
  audience: "Who reads them",
  promise: "What they promise",
  voice: "How they sound",
  never: "What they never say",
  always: "What they always say one of",
  editor: "Who passes their drafts",
};

/** Above a page that follows another. */
export function Following({
  workflow,
  leading,
  brand,
  maker,
}: {
  workflow: number;
  brand: string;
  leading: NonNullable<Bench["follows"]>;
  maker: boolean;
}) {
  async function part() {
    try {
      await mutate(
        api.POST("/api/workflows/{id}/apart", { params: { path: { id: workflow } } }),
        ["bench", workflow],
        "clients",
      );
      say("This page goes its own way now. Nothing of the other reaches it any more.");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <div role="status" className="flex flex-wrap items-baseline gap-x-4 gap-y-1 bg-shade px-5 py-1.5 text-sm">
      {leading.id === 0 ? (
        <span>This page follows one you do not see. Who sees all of the house changes it.</span>
      ) : (
        <span>
          This page follows{" "}
          <Link className="text-leaf underline underline-offset-2" to={`/workflows/${leading.id}`}>
            {leading.name}
          </Link>{" "}
          of {leading.brand || "no brand"}. Change it there; it comes here when that goes live.
        </span>
      )}
      {maker && (
        <span className="ml-auto flex gap-2">
          {leading.id > 0 && (
            <Link className="underline underline-offset-2" to={`/workflows/${leading.id}?clients=${brand}`}>
              What differs here …
            </Link>
          )}
          <button type="button" className="text-soft underline underline-offset-2" onClick={part}>
            Make it a page of its own
          </button>
        </span>
      )}
    </div>
  );
}

export function Clients({
  workflow,
  maker,
  first,
  onClose,
}: {
  workflow: number;
  maker: boolean;
  /** The brand that is shown at first. */
  first: string | null;
  onClose: () => void;
}) {
  const told = useQuery(reads.clients(workflow));
  const [chosen, setChosen] = useState(first);
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title="Clients"
      about="Each has this page with what is its own, its own approvals and history. What is not filled in for one is left empty there, never shared."
    >
      {told.isPending ? (
        <Loading what="Looking whose it is …" />
      ) : told.isError ? (
        <Failed error={told.error} again={() => told.refetch()} />
      ) : !told.data.brand ? (
        <p className="text-sm">Choose at the head of the page which brand it is for. Then it can be others’ as well.</p>
      ) : told.data.clients.length === 0 ? (
        <p className="text-sm">
          There is one brand only.{" "}
          <Link className="text-leaf underline underline-offset-2" to="/brands">
            Add a brand
          </Link>{" "}
          first.
        </p>
      ) : (
        <Chosen view={told.data} maker={maker} chosen={chosen} setChosen={setChosen} />
      )}
    </Dialog>
  );
}

function Chosen({
  view,
  maker,
  chosen,
  setChosen,
}: {
  view: View;
  maker: boolean;
  chosen: string | null;
  setChosen: (brand: string) => void;
}) {
  const sorted = [...view.clients].sort((a, b) => Number(!a.workflow) - Number(!b.workflow));
  const client = sorted.find((one) => one.brand === chosen) ?? sorted[0]!;
  return (
    <div className="grid gap-6 sm:grid-cols-[13rem_1fr]">
      <ul aria-label="Clients" className="max-h-[28rem] overflow-auto sm:border-r sm:border-rule sm:pr-3">
        <li className="border-b border-line py-1.5 text-sm">
          {view.brand}
          <span className="block text-xs text-soft">leads</span>
        </li>
        {sorted.map((one) => (
          <li key={one.brand} className="border-b border-line">
            <button
              type="button"
              aria-current={one.brand === client.brand}
              onClick={() => setChosen(one.brand)}
              className="w-full py-1.5 text-left text-sm hover:bg-shade aria-[current=true]:font-semibold"
            >
              {one.name}
              <span className="block text-xs font-normal text-soft">
                {one.workflow ? STATE[one.state] : "not theirs yet"}
                {one.missing.length > 0 && <span className="text-brick"> · {one.missing.length} missing</span>}
                {one.behind && <span className="text-ochre"> · changed since</span>}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <ClientForm key={client.brand} view={view} client={client} maker={maker} />
    </div>
  );
}

function ClientForm({ view, client, maker }: { view: View; client: Client; maker: boolean }) {
  const [own, setOwn] = useState<Record<string, string>>(() =>
    Object.fromEntries(view.differs.map((one) => [one.what + one.key, client.own[one.what]?.[one.key] ?? ""])),
  );
  const [facts, setFacts] = useState(client.facts);
  const [busy, setBusy] = useState(false);
  const theirs = view.differs.filter((one) => !one.same);
  const shared = view.differs.filter((one) => one.same);

  async function save() {
    setBusy(true);
    const told: Record<string, Record<string, string>> = {};
    for (const one of view.differs) told[one.what] = { ...told[one.what], [one.key]: own[one.what + one.key] ?? "" };
    // Only what was changed here: the brand may have been changed elsewhere meanwhile.
    const said = Object.fromEntries(Object.entries(facts).filter(([name, value]) => value !== client.facts[name]));
    try {
      const path = { id: view.leading, brand: client.brand };
      const made = await mutate(
        api.PUT("/api/workflows/{id}/clients/{brand}", { params: { path }, body: { own: told, facts: said } }),
        "clients",
        "workflows",
        ["bench", view.leading],
      );
      say(
        made.missing.length
          ? `${client.name} has the page. ${count(made.missing.length, "thing")} still missing before it goes live.`
          : `${client.name} has the page. It goes live when you say so, on their page.`,
      );
    } catch (error) {
      sayError(error);
    }
    setBusy(false);
  }
  const put = (one: Differs, value: string) => setOwn({ ...own, [one.what + one.key]: value });
  const rows = (list: Differs[]) =>
    list.map((one) => (
      <tr key={one.what + one.key} className="border-b border-line align-top">
        <th scope="row" className="max-w-56 py-1.5 pr-3 text-left font-normal break-words">
          {one.name}
          <span className="block text-xs text-soft">{whereIt(one)}</span>
        </th>
        <td className="py-1.5">
          <Own one={one} value={own[one.what + one.key] ?? ""} of={view.brand} put={(value) => put(one, value)} />
        </td>
      </tr>
    ));
  return (
    <section aria-label={client.name} className="min-w-0 text-sm">
      <div className="flex flex-wrap items-baseline gap-3">
        <h3 className="font-serif text-xl font-semibold">{client.name}</h3>
        {client.workflow && (
          <Link className="text-leaf underline underline-offset-2" to={`/workflows/${client.workflow}`}>
            Open their page
          </Link>
        )}
      </div>
      {client.missing.length > 0 && (
        <ul className="mt-1 text-xs text-brick">
          {[...new Set(client.missing)].slice(0, 5).map((words) => (
            <li key={words}>✕ {words}</li>
          ))}
        </ul>
      )}
      <fieldset disabled={!maker || busy} className="contents">
        <table className="mt-2 w-full">
          <thead>
            <tr className="border-b border-rule text-xs text-soft">
              <th className="py-1 text-left font-normal">{view.brand} has</th>
              <th className="py-1 text-left font-normal">{client.name} has in its place</th>
            </tr>
          </thead>
          <tbody>{rows(theirs)}</tbody>
        </table>
        {Object.keys(facts).length > 0 && (
          <div className="mt-3 grid gap-2">
            <h4 className="smallcaps text-soft">Facts the page uses</h4>
            {Object.entries(facts).map(([name, value]) => (
              <Field key={name} label={FACTS[name] ?? name}>
                <Area rows={2} value={value} onChange={(e) => setFacts({ ...facts, [name]: e.target.value })} />
              </Field>
            ))}
          </div>
        )}
        {shared.length > 0 && (
          <details className="mt-3">
            <summary className="cursor-pointer text-soft">Everybody’s, unless said otherwise ({shared.length})</summary>
            <table className="mt-1 w-full">
              <tbody>{rows(shared)}</tbody>
            </table>
          </details>
        )}
        {maker && (
          <div className="mt-4">
            <Button look="main" onClick={save} disabled={busy}>
              {client.workflow ? "Save" : `Let ${client.name} have the page`}
            </Button>
          </div>
        )}
      </fieldset>
    </section>
  );
}

/** The control for what stands in the place of something. */
function Own({ one, value, of, put }: { one: Differs; value: string; of: string; put: (value: string) => void }) {
  const label = `In the place of ${one.name}`;
  if (one.what === "connection" || one.what === "sheet")
    return (
      <Choice aria-label={label} value={value} onChange={(e) => put(e.target.value)}>
        <option value="">{one.same ? `the same as ${of}` : "nothing yet"}</option>
        {one.choices.map((choice) => (
          <option key={choice.key} value={choice.key}>
            {choice.name}
            {choice.key === one.key ? " (the same)" : ""}
          </option>
        ))}
      </Choice>
    );
  return (
    <Input
      aria-label={label}
      value={value}
      placeholder={one.same ? `the same as ${of}` : one.what === "people" ? "a mail address" : "https://…"}
      onChange={(e) => put(e.target.value)}
    />
  );
}

const WHAT: Record<Differs["what"], string> = {
  connection: "connection",
  sheet: "sheet",
  address: "address",
  people: "who is asked or written to",
};
const whereIt = (one: Differs) => `${WHAT[one.what]}, ${count(one.lines.length, "line")}`;
