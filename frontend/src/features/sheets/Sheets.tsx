import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { useHome, Whose } from "../../components/Whose";
import { BringIn } from "./BringIn";
import { Elsewhere, FromElsewhere } from "./Elsewhere";
import { Grid } from "./Grid";

/** All sheets, and the one that is open. */
export function Sheets() {
  const { key } = useParams();
  const session = useSession();
  const maker = may(session.data, "maker");
  const list = useQuery(reads.sheets());
  const [making, setMaking] = useState(false);
  if (list.isPending) return <Loading what="Fetching the sheets …" />;
  if (list.isError) return <Failed error={list.error} again={() => list.refetch()} />;
  const open = list.data.find((s) => s.key === key) ?? list.data[0];
  return (
    <main className="flex h-[calc(100vh-45px)] min-h-0 flex-col">
      <nav aria-label="Sheets" className="flex items-center gap-1 overflow-x-auto border-b border-line px-5 pt-2">
        {list.data.map((s) => (
          <Link
            key={s.key}
            to={`/sheets/${s.key}`}
            aria-current={s === open ? "page" : undefined}
            ref={s === open ? (tab) => tab?.scrollIntoView({ block: "nearest", inline: "nearest" }) : undefined}
            className={`rounded-t-[4px] border border-b-0 px-3 py-1 font-serif whitespace-nowrap ${s === open ? "border-rule bg-sheet" : "border-transparent text-soft hover:bg-shade"}`}
          >
            {s.name}
            {s.outside && <span className="sr-only"> (a file elsewhere)</span>}
            {s.outside && (
              <span aria-hidden className="text-ochre">
                {" "}
                ⇄
              </span>
            )}{" "}
            <span className="font-sans text-xs text-soft">{s.rows.toLocaleString()}</span>
          </Link>
        ))}
        {maker && (
          <Button look="quiet" onClick={() => setMaking(true)}>
            New sheet
          </Button>
        )}
      </nav>
      {open ? (
        <>
          <Elsewhere sheet={open} maker={maker} />
          <Grid key={open.key} sheet={open} maker={maker && !open.outside?.only_read} />
        </>
      ) : (
        <div className="px-6">
          <Empty title="No sheet yet.">Make one, or bring in a file: CSV, XLSX, ODS, or a list of feeds.</Empty>
        </div>
      )}
      {making && <NewSheet onClose={() => setMaking(false)} />}
    </main>
  );
}

function NewSheet({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [columns, setColumns] = useState("Title, Text, Date");
  const [wrong, setWrong] = useState("");
  const [elsewhere, setElsewhere] = useState(false);
  const home = useHome().brand;
  const [chosen, setBrand] = useState<string | null>(null);
  const brand = chosen ?? home;
  const go = useNavigate();

  function made(key: string) {
    onClose();
    go(`/sheets/${key}`);
  }

  async function make() {
    const heads = columns
      .split(",")
      .map((c) => c.trim())
      .filter(Boolean);
    try {
      const sheet = await mutate(
        api.POST("/api/sheets", {
          body: { name, brand, columns: heads.map((c) => ({ name: c, type: "text", choices: [], finds: null })) },
        }),
        "sheets",
        "catalogue",
      );
      made(sheet.key);
    } catch (error) {
      setWrong((error as Error).message);
    }
  }

  return (
    <Dialog open onClose={onClose} title="New sheet">
      <div className="space-y-3">
        <Field label="Name">
          <Input autoFocus value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Whose
          value={brand}
          all="the house’s"
          help="Members who are kept to other brands do not see it."
          onChange={setBrand}
        />
        {elsewhere ? (
          <FromElsewhere name={name} brand={brand} onDone={made} />
        ) : (
          <Field label="Columns, with commas between" help="They can be changed later.">
            <Input value={columns} onChange={(e) => setColumns(e.target.value)} />
          </Field>
        )}
        {wrong && (
          <p role="alert" className="text-sm text-brick">
            {wrong}
          </p>
        )}
        {!elsewhere && (
          <div className="flex flex-wrap gap-2">
            <Button look="main" disabled={!name.trim()} onClick={make}>
              Make it
            </Button>
            <BringIn name={name.trim()} brand={brand} onDone={(sheet) => made(sheet.key)}>
              Take both from a file …
            </BringIn>
            <Button look="quiet" onClick={() => setElsewhere(true)}>
              A file that stays elsewhere …
            </Button>
          </div>
        )}
      </div>
    </Dialog>
  );
}
