import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Choice } from "../../components/Field";
import { size } from "../../components/pieces/parts";
import { Failed, Loading } from "../../components/Quiet";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";

type Terms = Schemas["TermsView"];
type Part = keyof Terms;

const DAYS: [number, string][] = [
  [0, "for ever"],
  [92, "three months"],
  [183, "half a year"],
  [365, "a year"],
  [730, "two years"],
  [1826, "five years"],
  [3652, "ten years"],
];

const SIZES: Record<string, [string, string]> = {
  database: ["The database", ""],
  journals: ["Packed journals", "run"],
  files: ["Files", "file"],
  backups: ["Backups", "file"],
  runs: ["Runs", "run"],
  pieces: ["Pieces that went out or wait", "piece"],
  rows: ["Rows of sheets", "row"],
  proofs: ["Proofs", "proof"],
};

/** How much room the house takes, and for how long it keeps what its workflows did. */
export function Kept() {
  const kept = useQuery(reads.houseKept());
  return (
    <main className="mx-auto w-full max-w-6xl px-6 pt-6 pb-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">What is kept</h1>
      {kept.isPending ? (
        <Loading what="Measuring …" />
      ) : kept.isError ? (
        <Failed error={kept.error} again={() => kept.refetch()} />
      ) : (
        <div className="mt-6 grid gap-12 lg:grid-cols-[8fr_4fr]">
          <TermsOf kept={kept.data} />
          <section aria-labelledby="room" className="min-w-0">
            <h2 id="room" className="smallcaps border-b border-rule pb-1 text-lg">
              Room it takes
            </h2>
            <dl className="text-sm">
              {kept.data.sizes.map((one) => (
                <div key={one.what} className="flex items-baseline justify-between border-b border-line py-1.5">
                  <dt>{SIZES[one.what]?.[0] ?? one.what}</dt>
                  <dd className="text-soft tabular-nums">
                    {[size(one.bytes), one.count > 0 && count(one.count, SIZES[one.what]?.[1] ?? "one")]
                      .filter(Boolean)
                      .join(" · ") || "none"}
                  </dd>
                </div>
              ))}
            </dl>
          </section>
        </div>
      )}
    </main>
  );
}

function TermsOf({ kept }: { kept: Schemas["KeptView"] }) {
  async function set(brand: string, terms: Terms | null) {
    try {
      await mutate(api.PUT("/api/house/kept", { body: { brand, terms } }), "kept");
      say("Kept. It holds from tonight on.");
    } catch (error) {
      sayError(error);
    }
  }
  const { to_remove, to_empty } = kept;
  return (
    <section aria-labelledby="terms" className="min-w-0">
      <h2 id="terms" className="smallcaps border-b border-rule pb-1 text-lg">
        For how long
      </h2>
      <p className="mt-3 max-w-prose text-sm text-soft">
        A run that let nothing out and wrote no row is removed when its time is over. Of any other only what it did
        goes: when it ran, who said yes, what went out and where is always kept, and nothing goes out twice.
      </p>
      <table className="mt-4 w-full text-sm">
        <thead>
          <tr className="border-b border-rule text-left text-xs text-soft max-md:sr-only">
            <th className="py-1.5 font-normal">Workflows of</th>
            <th className="font-normal">Runs that left nothing</th>
            <th className="font-normal">What other runs did</th>
          </tr>
        </thead>
        <tbody>
          <Row
            name={kept.brands.length ? "The house, and brands without their own" : "The house"}
            terms={kept.house}
            onSet={(terms) => set("", terms)}
          />
          {kept.brands.map((one) => (
            <Row
              key={one.key}
              name={one.name}
              terms={one.terms}
              house={kept.house}
              onSet={(terms) => set(one.key, terms)}
            />
          ))}
        </tbody>
      </table>
      <p role="status" className="mt-4 text-sm">
        {to_remove || to_empty
          ? `In the coming nights ${[
              to_remove && `${count(to_remove, "run")} ${to_remove === 1 ? "is" : "are"} removed`,
              to_empty && `what ${count(to_empty, "run")} did goes`,
            ]
              .filter(Boolean)
              .join(", and ")}. It cannot be brought back; a backup has it.`
          : "Nothing is due to go."}
      </p>
      <p className="mt-2 text-sm text-soft">
        Rows that were removed can be put back for thirty days. Proofs that stand on no page go after half a year. Who
        did what is in the{" "}
        <Link to="/trail" className="underline underline-offset-2">
          audit trail
        </Link>
        .
      </p>
    </section>
  );
}

function Row({
  name,
  terms,
  house,
  onSet,
}: {
  name: string;
  terms: Terms | null;
  house?: Terms;
  onSet: (terms: Terms | null) => void;
}) {
  const now = terms ?? house!;
  const pick = (part: Part, label: string) => (
    <td className="pr-3 py-1.5">
      <span aria-hidden className="block text-xs text-soft md:hidden">
        {label}
      </span>
      <Choice
        aria-label={`${name}: ${label}`}
        className="!w-auto"
        value={terms ? String(terms[part]) : "house"}
        onChange={(e) => onSet(e.target.value === "house" ? null : { ...now, [part]: Number(e.target.value) })}
      >
        {house && <option value="house">as the house: {told(house[part])}</option>}
        {DAYS.some(([days]) => days === now[part]) || <option value={now[part]}>{now[part]} days</option>}
        {DAYS.map(([days, words]) => (
          <option key={days} value={days}>
            {words}
          </option>
        ))}
      </Choice>
    </td>
  );
  return (
    <tr className="border-b border-line align-baseline max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2">
      <th scope="row" className="py-1.5 pr-3 text-left font-normal max-md:w-full">
        {name}
      </th>
      {pick("nothing", "Runs that left nothing")}
      {pick("something", "What other runs did")}
    </tr>
  );
}

const told = (days: number) => DAYS.find(([one]) => one === days)?.[1] ?? `${days} days`;
