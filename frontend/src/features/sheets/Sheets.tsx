import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok, queries } from "../../api/client";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { Grid } from "./Grid";

/** All sheets, and the one that is open. */
export function Sheets() {
  const { key } = useParams();
  const session = useSession();
  const maker = may(session.data, "maker");
  const list = useQuery({ queryKey: ["sheets"], queryFn: () => ok(api.GET("/api/sheets")) });
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
            className={`rounded-t-[4px] border border-b-0 px-3 py-1 font-serif whitespace-nowrap ${s === open ? "border-rule bg-sheet" : "border-transparent text-soft hover:bg-shade"}`}
          >
            {s.name} <span className="font-sans text-xs text-soft">{s.rows}</span>
          </Link>
        ))}
        {maker && (
          <Button look="quiet" onClick={() => setMaking(true)}>
            New sheet
          </Button>
        )}
      </nav>
      {open ? (
        <Grid key={open.key} sheet={open} maker={maker} />
      ) : (
        <div className="px-6">
          <Empty title="No sheet yet.">Make one, or bring one in as CSV.</Empty>
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
  const file = useRef<HTMLInputElement>(null);
  const go = useNavigate();

  async function make(csv: string, called: string) {
    try {
      const heads = columns
        .split(",")
        .map((c) => c.trim())
        .filter(Boolean);
      const made = await ok(
        api.POST("/api/sheets", {
          body: { name: called, columns: csv ? [] : heads.map((c) => ({ name: c, type: "text" })), csv },
        }),
      );
      await queries.invalidateQueries({ queryKey: ["sheets"] });
      queries.invalidateQueries({ queryKey: ["catalogue"] });
      onClose();
      go(`/sheets/${made.key}`);
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
        <Field label="Columns, with commas between" help="They can be changed later.">
          <Input value={columns} onChange={(e) => setColumns(e.target.value)} />
        </Field>
        {wrong && (
          <p role="alert" className="text-sm text-brick">
            {wrong}
          </p>
        )}
        <div className="flex gap-2">
          <Button look="main" disabled={!name.trim()} onClick={() => make("", name)}>
            Make it
          </Button>
          <Button onClick={() => file.current?.click()}>Bring in a CSV file …</Button>
          <input
            ref={file}
            type="file"
            accept=".csv,text/csv"
            className="hidden"
            aria-label="CSV file"
            onChange={async (e) => {
              const chosen = e.target.files?.[0];
              if (chosen) make(await chosen.text(), name.trim() || chosen.name.replace(/\.\w+$/, ""));
            }}
          />
        </div>
      </div>
    </Dialog>
  );
}
