import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Area, Choice, Field, Input } from "../../components/Field";

type Column = Schemas["SheetView"]["columns"][number];
type Row = Schemas["RowView"];

/** One row at full width: every cell in full, to be read and changed; the next and the one before by a key. */
export function RowDialog({
  columns,
  row,
  maker,
  onWrite,
  onMove,
  onHistory,
  onClose,
}: {
  columns: Column[];
  row: Row;
  maker: boolean;
  onWrite: (cells: Record<string, string>) => Promise<unknown>;
  onMove: (by: 1 | -1) => void;
  onHistory: () => void;
  onClose: () => void;
}) {
  const [cells, setCells] = useState<Record<string, string>>({});
  const changed = Object.keys(cells).length > 0;
  const keep = async () => {
    if (changed) await onWrite(cells);
    setCells({});
  };
  const go = async (by: 1 | -1) => {
    await keep();
    onMove(by);
  };
  const title = columns.map((c) => String(row.cells[c.name] ?? "").trim()).find(Boolean) ?? "An empty row";
  return (
    <Dialog open wide onClose={() => keep().then(onClose)} title={title.slice(0, 120)} about={`Row ${row.position}`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          keep();
        }}
        onKeyDown={(event) => {
          if (!event.altKey || (event.key !== "ArrowDown" && event.key !== "ArrowUp")) return;
          event.preventDefault();
          go(event.key === "ArrowDown" ? 1 : -1);
        }}
        className="space-y-3"
      >
        <div className="grid gap-x-6 gap-y-3 sm:grid-cols-2">
          {columns.map((column) => (
            <div key={column.name} className={isWide(column, row) ? "sm:col-span-2" : ""}>
              <Cell
                column={column}
                text={cells[column.name] ?? String(row.cells[column.name] ?? "")}
                wrong={column.name in cells ? "" : (row.wrong?.[column.name] ?? "")}
                disabled={!maker}
                set={(text) => setCells({ ...cells, [column.name]: text })}
              />
            </div>
          ))}
        </div>
        <div className="flex flex-wrap items-baseline gap-2 border-t border-line pt-3">
          {maker && (
            <Button look="main" type="submit" disabled={!changed}>
              Keep
            </Button>
          )}
          <Button look="quiet" onClick={() => go(-1)} hint="Alt ↑">
            Before
          </Button>
          <Button look="quiet" onClick={() => go(1)} hint="Alt ↓">
            After
          </Button>
          <span className="ml-auto" />
          {row.run && (
            <Link className="text-sm text-leaf underline underline-offset-2" to={`/runs/${row.run}`}>
              The run that wrote it
            </Link>
          )}
          <Button look="quiet" onClick={onHistory}>
            What was done to it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

const isWide = (column: Column, row: Row) =>
  column.type === "long" || column.type === "file" || String(row.cells[column.name] ?? "").length > 90;

function Cell({
  column,
  text,
  wrong,
  disabled,
  set,
}: {
  column: Column;
  text: string;
  wrong: string;
  disabled: boolean;
  set: (text: string) => void;
}) {
  const picture = column.type === "file" && /\.(png|jpe?g|gif|webp|svg)(\?|$)|\/api\/files\//i.test(text);
  if ((column.type === "choice" && column.choices?.length) || column.type === "yes_no") {
    const choices = column.type === "yes_no" ? ["yes", "no"] : column.choices!;
    const all = !text || choices.includes(text) ? choices : [text, ...choices];
    return (
      <Field label={column.name} wrong={wrong}>
        <Choice value={text} disabled={disabled} onChange={(e) => set(e.target.value)}>
          <option value="" />
          {all.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </Choice>
      </Field>
    );
  }
  return (
    <>
      <Field label={column.name} wrong={wrong}>
        {column.type === "long" || text.length > 90 || text.includes("\n") ? (
          <Area
            rows={Math.min(14, Math.max(3, Math.ceil(text.length / 90) + text.split("\n").length))}
            disabled={disabled}
            className="font-serif"
            value={text}
            onChange={(e) => set(e.target.value)}
          />
        ) : (
          <Input disabled={disabled} value={text} onChange={(e) => set(e.target.value)} />
        )}
      </Field>
      {picture && <img src={text} alt={column.name} className="mt-1 max-h-56 border border-line" />}
      {column.type === "link" && /^https?:/.test(text) && (
        <a href={text} target="_blank" rel="noreferrer" className="text-xs text-leaf underline underline-offset-2">
          Open it
        </a>
      )}
    </>
  );
}
