import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Choice, Input } from "../../components/Field";

const TYPES = ["text", "number", "date", "link", "choice"];

type Draft = { was: string; name: string; type: string };

/** Columns: their names, types and order. What stands in a renamed column stays in it. */
export function ColumnsDialog({
  sheet,
  onClose,
  onDone,
}: {
  sheet: Schemas["SheetView"];
  onClose: () => void;
  onDone: () => void;
}) {
  const [columns, setColumns] = useState<Draft[]>(
    sheet.columns.map((c) => ({ was: c.name, name: c.name, type: c.type })),
  );
  const [wrong, setWrong] = useState("");
  const change = (i: number, part: Partial<Draft>) =>
    setColumns(columns.map((c, j) => (j === i ? { ...c, ...part } : c)));
  const swap = (i: number) => {
    const next = [...columns];
    [next[i - 1], next[i]] = [next[i]!, next[i - 1]!];
    setColumns(next);
  };

  async function keep() {
    try {
      const renamed = Object.fromEntries(columns.filter((c) => c.was && c.was !== c.name).map((c) => [c.was, c.name]));
      await mutate(
        api.PUT("/api/sheets/{key}/columns", {
          params: { path: { key: sheet.key } },
          body: { columns: columns.map(({ name, type }) => ({ name, type })), renamed },
        }),
        "sheets",
        "catalogue",
      );
      onDone();
      onClose();
    } catch (error) {
      setWrong((error as Error).message);
    }
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title={`Columns of ${sheet.name}`}
      about="Workflows find a column by its name; after renaming, check their lines."
    >
      <ul className="space-y-1.5">
        {columns.map((c, i) => (
          <li key={i} className="flex gap-2">
            <Input
              aria-label={`Name of column ${i + 1}`}
              value={c.name}
              onChange={(e) => change(i, { name: e.target.value })}
            />
            <Choice
              aria-label={`Type of column ${i + 1}`}
              className="!w-28"
              value={c.type}
              onChange={(e) => change(i, { type: e.target.value })}
            >
              {TYPES.map((t) => (
                <option key={t}>{t}</option>
              ))}
            </Choice>
            <Button look="quiet" disabled={i === 0} onClick={() => swap(i)}>
              Up
            </Button>
            <Button look="quiet" onClick={() => setColumns(columns.filter((_, j) => j !== i))}>
              Remove
            </Button>
          </li>
        ))}
      </ul>
      {wrong && (
        <p role="alert" className="mt-2 text-sm text-brick">
          {wrong}
        </p>
      )}
      <div className="mt-4 flex gap-2">
        <Button onClick={() => setColumns([...columns, { was: "", name: "", type: "text" }])}>Add a column</Button>
        <Button look="main" onClick={keep}>
          Keep
        </Button>
      </div>
    </Dialog>
  );
}
