import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Choice, Input } from "../../components/Field";
import { TYPES } from "./types";

type Finds = { sheet: string; by: string };
type Draft = { was: string; name: string; type: string; choices: string; finds: Finds | null };

const chosen = (type: string, choices: string) =>
  type.startsWith("choice") ? [...new Set(choices.split(",").map((one) => one.trim()))].filter(Boolean) : [];

/** By which column of another sheet a row is found: one of the same name, else the first. */
function foundIn(sheets: Schemas["SheetView"][], key: string, name: string): Finds | null {
  const columns = sheets.find((one) => one.key === key)?.columns ?? [];
  const same = columns.find((c) => c.name.toLowerCase() === name.trim().toLowerCase()) ?? columns[0];
  return same ? { sheet: key, by: same.name } : null;
}

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
    sheet.columns.map((c) => ({
      was: c.name,
      name: c.name,
      type: c.type,
      choices: (c.choices ?? []).join(", "),
      finds: c.finds ?? null,
    })),
  );
  const [wrong, setWrong] = useState("");
  const others = (useQuery(reads.sheets()).data ?? []).filter((one) => one.key !== sheet.key);
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
          body: {
            columns: columns.map(({ name, type, choices, finds }) => ({
              name,
              type,
              choices: chosen(type, choices),
              finds,
            })),
            renamed,
          },
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
      wide
      onClose={onClose}
      title={`Columns of ${sheet.name}`}
      about="Workflows find a column by its name; after renaming, check their lines. A column that finds a row of another sheet gives workflows that row’s cells as well."
    >
      <ul className="space-y-1.5">
        {columns.map((c, i) => (
          <li key={i} className="flex flex-wrap gap-2 border-b border-line pb-1.5">
            <Input
              aria-label={`Name of column ${i + 1}`}
              className="!w-44"
              value={c.name}
              onChange={(e) => change(i, { name: e.target.value })}
            />
            <Choice
              aria-label={`Type of column ${i + 1}`}
              className="!w-36"
              value={c.type}
              onChange={(e) => change(i, { type: e.target.value })}
            >
              {Object.entries(TYPES).map(([type, words]) => (
                <option key={type} value={type}>
                  {words}
                </option>
              ))}
            </Choice>
            {c.type.startsWith("choice") && (
              <Input
                className="!w-56"
                aria-label={`Choices of column ${i + 1}`}
                placeholder="choices, with commas between"
                value={c.choices}
                onChange={(e) => change(i, { choices: e.target.value })}
              />
            )}
            {others.length > 0 && (
              <Choice
                aria-label={`Column ${i + 1} finds a row of`}
                className="!w-48"
                value={c.finds?.sheet ?? ""}
                onChange={(e) => change(i, { finds: foundIn(others, e.target.value, c.name) })}
              >
                <option value="">finds no other row</option>
                {others.map((one) => (
                  <option key={one.key} value={one.key}>
                    finds a row of {one.name}
                  </option>
                ))}
              </Choice>
            )}
            {c.finds && (
              <Choice
                aria-label={`Column ${i + 1} finds it by`}
                className="!w-36"
                value={c.finds.by}
                onChange={(e) => change(i, { finds: { sheet: c.finds!.sheet, by: e.target.value } })}
              >
                {others
                  .find((one) => one.key === c.finds?.sheet)
                  ?.columns.map((column) => (
                    <option key={column.name} value={column.name}>
                      by {column.name}
                    </option>
                  ))}
              </Choice>
            )}
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
        <Button onClick={() => setColumns([...columns, { was: "", name: "", type: "text", choices: "", finds: null }])}>
          Add a column
        </Button>
        <Button look="main" onClick={keep}>
          Keep
        </Button>
      </div>
    </Dialog>
  );
}
