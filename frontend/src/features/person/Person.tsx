import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Area, Field } from "../../components/Field";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";

type Place = Schemas["MentionView"];

/** What the house holds of a person: looked for, read, given out as one file, or removed everywhere. */
export function Person() {
  const [told, setTold] = useState("");
  const [removing, setRemoving] = useState(false);
  const terms = told
    .split(/[\n;]+/)
    .map((one) => one.trim())
    .filter(Boolean);
  const asked = useMutation({
    mutationFn: (terms: string[]) => mutate(api.POST("/api/house/person/find", { body: { terms } }), "nothing"),
  });
  const found = asked.data;
  const looked = asked.variables ?? [];
  const total = found?.places.reduce((sum, one) => sum + one.count, 0) ?? 0;

  async function giveOut() {
    try {
      const body = { terms: looked };
      const file = await mutate(api.POST("/api/house/person/archive", { body, parseAs: "blob" }), "nothing");
      const link = document.createElement("a");
      link.href = URL.createObjectURL(file as unknown as Blob);
      link.download = "person.zip";
      link.click();
      URL.revokeObjectURL(link.href);
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">A person’s data</h1>
      <div className="mt-6 grid gap-12 lg:grid-cols-[8fr_4fr]">
        <div className="min-w-0">
          <form
            className="max-w-xl space-y-3"
            onSubmit={(event) => {
              event.preventDefault();
              asked.mutate(terms);
            }}
          >
            <Field
              label="Mail addresses and names, one on each line"
              help="Give every way they are written. A phone number or a company only if it is theirs alone."
            >
              <Area autoFocus required rows={3} value={told} onChange={(e) => setTold(e.target.value)} />
            </Field>
            <Button look={found ? undefined : "main"} type="submit" disabled={!terms.length || asked.isPending}>
              {asked.isPending ? "Looking everywhere …" : "Look everywhere"}
            </Button>
          </form>
          <div role="status" className="mt-6">
            {asked.isError && <p className="text-sm text-brick">{(asked.error as Error).message}</p>}
            {found && total === 0 && (
              <p className="font-serif text-lg">
                {found.by_hand.length
                  ? "Nothing but what is set up by hand speaks of them."
                  : "Nothing here speaks of them."}
              </p>
            )}
            {found?.places.map((one) => (
              <section key={one.group} className="mb-6">
                <h2 className="smallcaps flex items-baseline justify-between border-b border-rule pb-1 text-lg">
                  {one.group} <span className="text-sm text-soft tabular-nums">{one.count.toLocaleString()}</span>
                </h2>
                <Places list={one.first} />
                {one.count > one.first.length && (
                  <p className="py-1.5 text-xs text-soft">and {count(one.count - one.first.length, "more place")}</p>
                )}
              </section>
            ))}
          </div>
        </div>
        {found && (
          <aside aria-label="What to do" className="min-w-0 space-y-8 text-sm">
            {total > 0 && (
              <section className="space-y-3">
                <h2 className="smallcaps border-b border-rule pb-1 text-lg">What to do</h2>
                <p className="text-soft">Read the places first: are they all about this person?</p>
                <div className="flex flex-wrap gap-2">
                  <Button onClick={giveOut}>Give out as one file</Button>
                  <Button look="wrong" disabled={found.open.length > 0} onClick={() => setRemoving(true)}>
                    Remove everywhere …
                  </Button>
                </div>
              </section>
            )}
            {found.open.length > 0 && (
              <section>
                <h2 className="smallcaps border-b border-rule pb-1 text-lg">Has to end first</h2>
                <p className="py-1.5 text-soft">Cancel these, or wait until they have ended; then look again.</p>
                <Places list={found.open} />
              </section>
            )}
            {found.by_hand.length > 0 && (
              <section>
                <h2 className="smallcaps border-b border-rule pb-1 text-lg">Yours to change</h2>
                <p className="py-1.5 text-soft">What is set up by hand stays as it is until you change it there.</p>
                <Places list={found.by_hand} />
              </section>
            )}
          </aside>
        )}
      </div>
      {removing && (
        <Removing
          terms={looked}
          total={total}
          onClose={() => setRemoving(false)}
          onDone={() => {
            setRemoving(false);
            asked.mutate(looked);
          }}
        />
      )}
    </main>
  );
}

function Places({ list }: { list: Place[] }) {
  return (
    <ul className="divide-y divide-line text-sm">
      {list.map((place, i) => (
        <li key={i} className="py-1.5">
          {place.link.startsWith("/api/") ? (
            <a href={place.link} className="text-leaf underline underline-offset-2">
              {place.title}
            </a>
          ) : place.link ? (
            <Link to={place.link} className="text-leaf underline underline-offset-2">
              {place.title}
            </Link>
          ) : (
            place.title
          )}
          <span className="block truncate text-soft">{place.words}</span>
        </li>
      ))}
    </ul>
  );
}

function Removing({
  terms,
  total,
  onClose,
  onDone,
}: {
  terms: string[];
  total: number;
  onClose: () => void;
  onDone: () => void;
}) {
  const [rows, setRows] = useState(true);
  const removal = useMutation({
    mutationFn: () =>
      mutate(api.POST("/api/house/person/remove", { body: { terms, rows, mark: "[removed]" } }), "everything"),
    onSuccess: () => {
      say("Removed. The trail says that it was done, and not for whom.");
      onDone();
    },
    onError: sayError,
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Remove ${terms[0]}?`}
      about={`${count(total, "place")}. It cannot be taken back; give the data out first if it was asked for.`}
    >
      <fieldset className="space-y-1 text-sm">
        <legend className="mb-1 text-xs text-soft">Rows of sheets that speak of them</legend>
        <label className="flex gap-2">
          <input type="radio" name="rows" checked={rows} onChange={() => setRows(true)} /> go whole
        </label>
        <label className="flex gap-2">
          <input type="radio" name="rows" checked={!rows} onChange={() => setRows(false)} /> stay, with “[removed]”
          where they stood
        </label>
      </fieldset>
      <ul className="my-3 list-disc space-y-0.5 pl-5 text-sm text-soft">
        <li>In runs, questions and what went out “[removed]” stands in their place; files with them go.</li>
        <li>That they left mailings, and which items were here, stays as a sign nobody can read.</li>
        <li>What was posted or mailed is outside, and backups made before today still have them.</li>
      </ul>
      <div className="flex gap-2">
        <Button look="wrong" disabled={removal.isPending} onClick={() => removal.mutate()}>
          {removal.isPending ? "Removing …" : "Remove everywhere"}
        </Button>
        <Button look="quiet" autoFocus onClick={onClose}>
          Keep it
        </Button>
      </div>
    </Dialog>
  );
}
