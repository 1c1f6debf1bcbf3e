import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Choice } from "../../components/Field";
import { LinkItem, Menu } from "../../components/Menu";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { count, money } from "../../components/words";

type Piece = Schemas["ReportPiece"];

const BACK: [keyof Pick<Piece, "answers" | "pressed" | "left" | "bounced">, string][] = [
  ["answers", "answered"],
  ["pressed", "pressed a link"],
  ["left", "left"],
  ["bounced", "not reached"],
];
const long = new Intl.DateTimeFormat(undefined, { month: "long", year: "numeric" });
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });

const monthOf = (at: Date) => `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}`;
const firstOf = (month: string) => new Date(Number(month.slice(0, 4)), Number(month.slice(5, 7)) - 1, 1);
const beside = (month: string, by: number) => {
  const first = firstOf(month);
  return monthOf(new Date(first.getFullYear(), first.getMonth() + by, 1));
};

/** What went out in a month, where to, what came of it, what it cost: to read, and to hand on to a client. */
export function Report() {
  const [search, setSearch] = useSearchParams();
  const brand = search.get("brand") ?? "";
  const month = search.get("month") ?? monthOf(new Date());
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const told = useQuery(reads.report(brand, month, zone));
  const brands = useQuery(reads.brands());
  const set = (part: Record<string, string>) => setSearch({ brand, month, ...part }, { replace: true });
  const query = new URLSearchParams({ brand, month, zone }).toString();
  return (
    <main className="mx-auto w-full max-w-5xl px-5 py-5">
      <div className="flex flex-wrap items-center gap-3 border-b border-rule pb-3">
        <h1 className="font-serif text-2xl font-semibold tracking-tight">{long.format(firstOf(month))}</h1>
        <Button look="quiet" onClick={() => set({ month: beside(month, -1) })}>
          ← {long.format(firstOf(beside(month, -1)))}
        </Button>
        {month < monthOf(new Date()) && (
          <Button look="quiet" onClick={() => set({ month: beside(month, 1) })}>
            {long.format(firstOf(beside(month, 1)))} →
          </Button>
        )}
        <span className="ml-auto" />
        <Choice aria-label="Brand" className="!w-56" value={brand} onChange={(e) => set({ brand: e.target.value })}>
          <option value="">all brands</option>
          {brands.data?.map((one) => (
            <option key={one.key} value={one.key}>
              {one.name}
            </option>
          ))}
        </Choice>
        <Menu opens={<Button>Take it out …</Button>}>
          {["HTML", "PDF", "JSON"].map((kind) => (
            <LinkItem key={kind}>
              <a href={`/api/report/${kind.toLowerCase()}?${query}`} download>
                As {kind}
              </a>
            </LinkItem>
          ))}
        </Menu>
      </div>
      {told.isPending ? (
        <Loading what="Putting it together …" />
      ) : told.isError ? (
        <Failed error={told.error} again={() => told.refetch()} />
      ) : (
        <Told report={told.data} />
      )}
    </main>
  );
}

function Told({ report }: { report: Schemas["ReportView"] }) {
  if (!report.count && !report.runs.begun)
    return <Empty title="Nothing went out in this month.">Choose another month or brand.</Empty>;
  const approvals = Object.entries(report.approvals).map(([what, n]) => `${n} ${what}`);
  return (
    <>
      <p className="max-w-3xl py-4 font-serif text-reading leading-relaxed">
        {count(report.count, "piece")} went out of {count(report.runs.begun ?? 0, "run")}
        {report.runs.failed ? `, of which ${report.runs.failed} failed` : ""}.{" "}
        {approvals.length ? `Drafts: ${approvals.join(", ")}. ` : ""}
        {report.count > 0 && `From start to out it took ${hours(report.hours)}, in the middle. `}
        It cost {money(report.cost)}, for {report.tokens.toLocaleString()} tokens.
      </p>
      {report.channels.length > 0 && (
        <table className="mb-6 w-full max-w-3xl text-sm tabular-nums">
          <thead>
            <tr className="border-b border-rule text-left text-xs text-soft">
              <th scope="col" className="py-1 font-normal">
                Where
              </th>
              <th scope="col" className="py-1 text-right font-normal">
                pieces
              </th>
              {BACK.map(([name, words]) => (
                <th scope="col" key={name} className="py-1 text-right font-normal">
                  {words}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {report.channels.map((channel) => (
              <tr key={channel.channel} className="border-b border-line">
                <th scope="row" className="py-1 text-left font-serif font-normal">
                  {channel.channel}
                </th>
                <td className="py-1 text-right">{channel.pieces}</td>
                {BACK.map(([name]) => (
                  <td key={name} className="py-1 text-right">
                    {channel[name] || "–"}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ul>
        {report.items.map((piece, i) => (
          <Went key={i} piece={piece} />
        ))}
      </ul>
    </>
  );
}

const hours = (n: number) =>
  n < 1 ? count(Math.max(1, Math.round(n * 60)), "minute") : count(Math.round(n * 10) / 10, "hour");

function Went({ piece }: { piece: Piece }) {
  const back = [
    ...BACK.filter(([name]) => piece[name]).map(([name, words]) => `${piece[name]} ${words}`),
    ...Object.entries(piece.numbers).map(([name, n]) => `${n.toLocaleString()} ${name}`),
  ];
  return (
    <li className="grid gap-x-5 border-t border-line py-2.5 sm:grid-cols-[9rem_1fr_12rem]">
      <span className="text-xs text-soft">
        {day.format(new Date(piece.at))}
        <br />
        {piece.channel}
      </span>
      <span className="min-w-0 font-serif [overflow-wrap:anywhere]">
        {piece.title && <span className="block font-semibold">{piece.title}</span>}
        <span className="line-clamp-3 text-sm">{piece.text}</span>
      </span>
      <span className="text-xs text-soft sm:text-right">
        {back.join(" · ")}
        <span className="block">
          {/^https?:/.test(piece.link) && (
            <a className="text-leaf underline underline-offset-2" href={piece.link} target="_blank" rel="noreferrer">
              Open it
            </a>
          )}{" "}
          <Link className="underline underline-offset-2" to={`/runs/${piece.run}`}>
            Its run
          </Link>
        </span>
      </span>
    </li>
  );
}
