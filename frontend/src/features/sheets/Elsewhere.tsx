import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Choice, Field, Input } from "../../components/Field";
import { say, sayError } from "../../components/Toast";
import { ago } from "../../components/words";

type Sheet = Schemas["SheetView"];

const EVERY: [number, string][] = [
  [60, "every minute"],
  [300, "every 5 minutes"],
  [3600, "every hour"],
  [86_400, "once a day"],
];

/** A file elsewhere as a sheet: in a file store, or published at an address. */
export function FromElsewhere({ name, brand, onDone }: { name: string; brand: string; onDone: (key: string) => void }) {
  const connections = useQuery(reads.connections());
  const stores = (connections.data?.connections ?? []).filter((one) => one.kind === "files");
  const [where, setWhere] = useState<string | null>(null);
  const [place, setPlace] = useState("");
  const [every, setEvery] = useState(300);
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  const store = where ?? stores[0]?.key ?? "";

  async function make() {
    setBusy(true);
    setWrong("");
    try {
      const body = { name: name.trim() || nameOf(place), connection: store, place: place.trim(), every, brand };
      onDone((await mutate(api.POST("/api/sheets/outside", { body }), "sheets", "catalogue")).key);
    } catch (error) {
      setWrong((error as Error).message);
    }
    setBusy(false);
  }

  return (
    <div className="space-y-3">
      <Field label="Where it stands">
        <Choice value={store} onChange={(e) => setWhere(e.target.value)}>
          {stores.map((one) => (
            <option key={one.key} value={one.key}>
              in {one.name}; read and written
            </option>
          ))}
          <option value="">at an address; only read</option>
        </Choice>
      </Field>
      <Field
        label={store ? "Folder and file" : "Address"}
        help={
          store
            ? "Such as Plans/topics.xlsx. CSV, XLSX or ODS; the first line names the columns."
            : "Of a table that is published as CSV, XLSX or ODS."
        }
      >
        <Input value={place} onChange={(e) => setPlace(e.target.value)} />
      </Field>
      <Field label="Looked at">
        <Choice value={every} onChange={(e) => setEvery(Number(e.target.value))}>
          {EVERY.map(([seconds, words]) => (
            <option key={seconds} value={seconds}>
              {words}
            </option>
          ))}
        </Choice>
      </Field>
      {wrong && (
        <p role="alert" className="text-sm text-brick">
          {wrong}
        </p>
      )}
      <Button look="main" disabled={busy || !place.trim()} onClick={make}>
        {busy ? "Looking …" : "Open it as a sheet"}
      </Button>
    </div>
  );
}

const nameOf = (place: string) =>
  decodeURIComponent(
    place
      .split(/[?#]/)[0]!
      .replace(/\/+$/, "")
      .split("/")
      .at(-1)!
      .replace(/\.\w+$/, ""),
  ) || "Sheet";

/** Where a sheet stands that is a file elsewhere, and what came of the last look at it. */
export function Elsewhere({ sheet, maker }: { sheet: Sheet; maker: boolean }) {
  const [busy, setBusy] = useState(false);
  const outside = sheet.outside;
  if (!outside) return null;
  const path = { params: { path: { key: sheet.key } } };

  async function look() {
    setBusy(true);
    try {
      const told = await mutate(api.POST("/api/sheets/{key}/outside/look", path), "sheets", ["sheet", sheet.key]);
      if (told.outside) say(told.outside.says);
    } catch (error) {
      sayError(error);
    }
    setBusy(false);
  }

  async function part() {
    try {
      await mutate(api.DELETE("/api/sheets/{key}/outside", path), "sheets");
      say("The sheet and the file go their own ways now.");
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <div
      className={`flex flex-wrap items-baseline gap-x-3 border-t px-5 py-1 text-xs ${outside.failed ? "border-brick bg-brickwash text-brick" : "border-ochre bg-ochrewash"}`}
    >
      <span>
        {outside.only_read ? "Only read: published at " : `Stands in ${outside.store}: `}
        <span className="font-semibold [overflow-wrap:anywhere]">{outside.place}</span>
      </span>
      <span>
        {outside.looked_at ? `Looked at ${ago(outside.looked_at)}. ` : ""}
        {outside.failed && "✕ "}
        {outside.says}
      </span>
      <span className="ml-auto" />
      {maker && (
        <>
          <Button look="quiet" className="!py-0 text-xs" disabled={busy} onClick={look}>
            {busy ? "Looking …" : "Look now"}
          </Button>
          <Button look="quiet" className="!py-0 text-xs" onClick={part}>
            Part it from the file
          </Button>
        </>
      )}
    </div>
  );
}
