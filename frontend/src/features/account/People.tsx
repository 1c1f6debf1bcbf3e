import { useMutation, useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Choice, Field, Input } from "../../components/Field";
import { Item, Menu } from "../../components/Menu";
import { Failed, Loading } from "../../components/Quiet";
import { Sure } from "../../components/Sure";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";
import { Sees } from "./Sees";

type Person = Schemas["AccountView"];
type Role = Person["role"];

const ROLES: [Role, string][] = [
  ["reader", "reads everything"],
  ["reviewer", "also approves drafts"],
  ["maker", "also makes workflows"],
  ["owner", "also keeps connections and people"],
];

/** Who may sign in, and as what. */
export function People({ own }: { own: string }) {
  const people = useQuery(reads.accounts());
  const names = new Map(useQuery(reads.brands()).data?.map((brand) => [brand.key, brand.name]));
  const [adding, setAdding] = useState(false);
  return (
    <section aria-labelledby="people">
      <div className="flex items-baseline justify-between border-b border-rule pb-1">
        <h2 id="people" className="smallcaps text-lg">
          People
        </h2>
        <Button look="quiet" onClick={() => setAdding(true)}>
          Add somebody
        </Button>
      </div>
      {people.isPending && <Loading what="Fetching the accounts …" />}
      {people.isError && <Failed error={people.error} again={() => people.refetch()} />}
      <ul>
        {people.data?.map((person) => (
          <Line
            key={person.id}
            person={person}
            own={person.email === own}
            sees={person.brands?.map((key) => names.get(key) ?? key).join(", ") ?? "all of the house"}
          />
        ))}
      </ul>
      <p className="mt-4 text-xs text-soft">
        {ROLES.map(([role, words]) => `A ${role} ${words}.`)
          .join(" ")
          .replace("A owner", "An owner")}
      </p>
      {adding && <Person onClose={() => setAdding(false)} />}
    </section>
  );
}

function Line({ person, own, sees }: { person: Person; own: boolean; sees: string }) {
  const [back, setBack] = useState(false);
  const [keeping, setKeeping] = useState(false);
  const path = { params: { path: { id: person.id } } };
  const turn = useMutation({
    mutationFn: (role: Role) =>
      mutate(
        api.PUT("/api/accounts/{id}", {
          ...path,
          body: { name: person.name, role, password: "", brands: person.brands },
        }),
        "accounts",
      ),
    onError: sayError,
  });
  const link = useMutation({
    mutationFn: () => mutate(api.POST("/api/accounts/{id}/invitation", { ...path, body: { server: "" } }), "accounts"),
    onSuccess: () => say(`A link is on its way to ${person.email}.`),
    onError: sayError,
  });
  const out = useMutation({
    mutationFn: () => mutate(api.DELETE("/api/accounts/{id}/places", path), "accounts", "session", "places"),
    onSuccess: () => say(`${person.name} is signed out everywhere.`),
    onError: sayError,
  });
  const second = useMutation({
    mutationFn: () => mutate(api.DELETE("/api/accounts/{id}/second", path), "accounts", "session", "places"),
    onSuccess: () => say(`${person.name} signs in by the password alone.`),
    onError: sayError,
  });
  const end = useMutation({
    mutationFn: () => mutate(api.DELETE("/api/accounts/{id}", path), "accounts"),
    onSuccess: () => say(`${person.name} can no longer sign in.`),
    onError: sayError,
  });
  return (
    <li className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-line py-2.5">
      <div className={`min-w-0 flex-1 ${person.ended ? "text-soft" : ""}`}>
        <p className="truncate font-serif text-lead leading-snug">
          {person.name} {own && <span className="font-sans text-xs text-soft">(you)</span>}
        </p>
        <p className="truncate text-xs text-soft">{person.email}</p>
        {!person.ended && (
          <p className="text-xs text-soft">
            {person.invited && "invited, no password yet · "}
            {person.second && "second step · "}
            {person.places ? `signed in at ${count(person.places, "place")} · ` : ""}
            {person.role === "owner" ? (
              "sees all of the house"
            ) : (
              <button
                type="button"
                className="text-left underline underline-offset-2"
                aria-label={`What ${person.name} sees`}
                onClick={() => setKeeping(true)}
              >
                sees {sees}
              </button>
            )}
          </p>
        )}
      </div>
      {person.ended ? (
        <>
          <span className="text-sm text-soft">ended</span>
          <Button look="quiet" onClick={() => setBack(true)}>
            Take up again
          </Button>
        </>
      ) : (
        <>
          <div className="w-32">
            <Choice
              aria-label={`Role of ${person.name}`}
              value={person.role}
              disabled={turn.isPending}
              onChange={(event) => turn.mutate(event.target.value as Role)}
            >
              {ROLES.map(([role]) => (
                <option key={role}>{role}</option>
              ))}
            </Choice>
          </div>
          <Menu
            opens={
              <Button look="quiet" aria-label={`More for ${person.name}`}>
                …
              </Button>
            }
          >
            <Item onSelect={() => setBack(true)}>New password …</Item>
            <Item onSelect={() => link.mutate()}>
              {person.invited ? "Send the invitation again" : "Mail a link for a new password"}
            </Item>
            {person.places > 0 && <Item onSelect={() => out.mutate()}>Sign out everywhere</Item>}
            {person.second && <Item onSelect={() => second.mutate()}>Take the second step away</Item>}
          </Menu>
          <Sure
            question={`End the account of ${person.name}?`}
            lost="They are signed out everywhere and cannot sign in. What they did stays under their name; the account can be taken up again with a new password."
            yes="End it"
            disabled={own || end.isPending}
            onYes={() => end.mutate()}
          >
            End account …
          </Sure>
        </>
      )}
      {back && <Person person={person} onClose={() => setBack(false)} />}
      {keeping && <Keeping person={person} onClose={() => setKeeping(false)} />}
    </li>
  );
}

/** What somebody is to see from now on. */
function Keeping({ person, onClose }: { person: Person; onClose: () => void }) {
  const [brands, setBrands] = useState<string[] | null>(person.brands);
  const keep = useMutation({
    mutationFn: () =>
      mutate(
        api.PUT("/api/accounts/{id}", {
          params: { path: { id: person.id } },
          body: { name: person.name, role: person.role, password: "", brands },
        }),
        "accounts",
      ),
    onSuccess: () => {
      say("Kept. It counts from their next look.");
      onClose();
    },
    onError: sayError,
  });
  return (
    <Dialog open onClose={onClose} title={`What ${person.name} sees`}>
      <Sees brands={brands} onChange={setBrands} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button look="main" disabled={keep.isPending || brands?.length === 0} onClick={() => keep.mutate()}>
          Keep
        </Button>
      </div>
    </Dialog>
  );
}

/** Somebody new, or a new password for somebody. */
function Person({ person, onClose }: { person?: Person; onClose: () => void }) {
  const [email, setEmail] = useState("");
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>(person?.role ?? "maker");
  const [password, setPassword] = useState("");
  const servers = useQuery(reads.connections()).data?.connections.filter((one) => one.kind === "mail") ?? [];
  const [invite, setInvite] = useState(false);
  const [server, setServer] = useState("");
  const [brands, setBrands] = useState<string[] | null>(person?.brands ?? null);
  const keep = useMutation({
    mutationFn: () =>
      person
        ? mutate(
            api.PUT("/api/accounts/{id}", {
              params: { path: { id: person.id } },
              body: { name: person.name, role, password, brands },
            }),
            "accounts",
          )
        : mutate(
            api.POST("/api/accounts", { body: { email, name, role, password, brands, invite, server } }),
            "accounts",
          ),
    onSuccess: (kept) => {
      say(
        invite
          ? `${kept.name} is invited. The link in the mail works for a week.`
          : `${kept.name} can sign in as ${kept.role}. Tell them the password by a safe way.`,
      );
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={person ? `New password for ${person.name}` : "Add somebody"}>
      <form
        className="space-y-3"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          keep.mutate();
        }}
      >
        {!person && (
          <>
            <Field label="Mail address">
              <Input type="email" required autoFocus value={email} onChange={(e) => setEmail(e.target.value)} />
            </Field>
            <Field label="Name">
              <Input required value={name} maxLength={120} onChange={(e) => setName(e.target.value)} />
            </Field>
          </>
        )}
        <Field label="Role">
          <Choice value={role} onChange={(e) => setRole(e.target.value as Role)}>
            {ROLES.map(([one, words]) => (
              <option key={one} value={one}>
                {one}: {words}
              </option>
            ))}
          </Choice>
        </Field>
        {!person && servers.length > 0 && (
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" checked={invite} onChange={(e) => setInvite(e.target.checked)} /> Invite them by
            mail: they choose their own password
          </label>
        )}
        {invite ? (
          servers.length > 1 && (
            <Field label="Through">
              <Choice required value={server} onChange={(e) => setServer(e.target.value)}>
                <option value="">choose …</option>
                {servers.map((one) => (
                  <option key={one.key} value={one.key}>
                    {one.name}
                  </option>
                ))}
              </Choice>
            </Field>
          )
        ) : (
          <Field label="Password to begin with" help="At least 10 characters. They can change it under their name.">
            <Input
              type="text"
              autoComplete="off"
              required
              autoFocus={!!person}
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Field>
        )}
        {!person && role !== "owner" && <Sees brands={brands} onChange={setBrands} />}
        {keep.isError && (
          <p role="alert" className="text-sm text-brick">
            {(keep.error as Error).message}
          </p>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="main" disabled={keep.isPending || (role !== "owner" && brands?.length === 0)}>
            {person ? "Set password" : invite ? "Invite" : "Add"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
