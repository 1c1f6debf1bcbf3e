import { memo, useState } from "react";
import { Link } from "react-router";
import { Dots, Item, LinkItem, Menu } from "../../../components/Menu";
import { type Block, within } from "../model/block";
import { cellText } from "../model/cells";
import { type Laid, NUMBERS } from "../model/shown";
import type { Other } from "../model/useOthers";
import type { Row } from "../model/useRows";
import { CellEditor, type Step } from "./CellEditor";

const PICTURE = /\.(png|jpe?g|gif|webp|svg)(\?|$)|\/api\/files\//i;

export type RowActions = {
  choose: (index: number, column: number, more: boolean) => void;
  edit: (index: number, column: number) => void;
  done: (value: string | null, by?: Step) => void;
  pick: (id: number) => void;
  read: (id: number) => void;
  history: (row: Row) => void;
  remove: (id: number) => void;
};

/** One row of the grid. Drawn anew only where something of it changed. */
export const RowLine = memo(function RowLine({
  row,
  index,
  laid,
  width,
  at,
  block,
  editing,
  picked,
  others,
  maker,
  acts,
}: {
  row: Row;
  index: number;
  laid: Laid[];
  width: number;
  /** The chosen column, where the chosen cell is in this row. */
  at: number;
  /** The chosen block, where this row is in it. */
  block: Block | null;
  editing: string | null;
  picked: boolean;
  others: Other[] | null;
  maker: boolean;
  acts: RowActions;
}) {
  return (
    <div role="row" aria-rowindex={index + 2} className="group/row flex h-full border-b border-line" style={{ width }}>
      <span
        role="rowheader"
        className={`sticky left-0 z-10 flex items-center justify-end gap-1.5 px-2 text-xs text-soft ${picked ? "bg-leafwash" : "bg-sheet group-hover/row:bg-paper"}`}
        style={{ width: NUMBERS, minWidth: NUMBERS }}
      >
        <RowMenu row={row} maker={maker} acts={acts} />
        {row.position}
        {maker && (
          <input
            type="checkbox"
            tabIndex={-1}
            aria-label={`Choose row ${row.position}`}
            checked={picked}
            onChange={() => acts.pick(row.id)}
          />
        )}
      </span>
      {laid.map(({ column, width: wide, left, frozen }, x) => {
        const text = cellText(row, column.name);
        const wrong = row.wrong?.[column.name];
        const here = at === x;
        const chosen = block !== null && within(block, index, x);
        const other = others?.find((one) => one.column === column.name);
        const ground = wrong
          ? "bg-brickwash text-brick"
          : chosen && !here
            ? "bg-leafwash"
            : "bg-sheet group-hover/row:bg-paper";
        return (
          <div
            key={column.name}
            role="gridcell"
            aria-colindex={x + 2}
            aria-selected={here || chosen}
            aria-invalid={!!wrong}
            title={other ? `${other.name} is here` : (wrong ?? (text.length > 24 ? text.slice(0, 600) : undefined))}
            onMouseDown={(e) => {
              if (e.button === 0 && !(here && editing !== null)) acts.choose(index, x, e.shiftKey);
            }}
            onMouseEnter={(e) => e.buttons === 1 && acts.choose(index, x, true)}
            onDoubleClick={() => acts.edit(index, x)}
            className={`relative border-l border-line px-2 py-1.5 text-sm ${editing !== null && here ? "" : "truncate"} ${column.type === "number" ? "text-right tabular-nums" : ""} ${ground} ${frozen ? "sticky z-10" : ""} ${here ? "z-[11] ring-2 ring-leaf ring-inset" : other ? "ring-2 ring-ochre ring-inset" : ""}`}
            style={{ width: wide, minWidth: wide, left: frozen ? left : undefined }}
          >
            {here && editing !== null ? (
              <CellEditor column={column} text={editing} onDone={acts.done} />
            ) : (
              <Shown type={column.type} text={text} />
            )}
            {other && (
              <span
                aria-hidden
                className="absolute -top-px right-0 z-20 bg-ochre px-1 text-[10px] leading-3.5 text-onleaf"
              >
                {other.name.split(" ")[0]}
              </span>
            )}
          </div>
        );
      })}
    </div>
  );
});

function Shown({ type, text }: { type: string; text: string }) {
  if (!text) return null;
  if (type === "link" && /^https?:/.test(text))
    return (
      <a href={text} target="_blank" rel="noreferrer" tabIndex={-1} className="text-leaf underline underline-offset-2">
        {text.replace(/^https?:\/\/(www\.)?/, "")}
      </a>
    );
  if (type === "file" && PICTURE.test(text))
    return (
      <img
        src={text}
        alt=""
        loading="lazy"
        className="-my-1 inline-block h-6 max-w-full border border-line object-cover"
      />
    );
  if (type === "yes_no") return <>{text === "yes" ? "✓ yes" : text}</>;
  return <>{text.slice(0, 400).replace(/\s+/g, " ")}</>;
}

/** The menu of a row, made when it is wanted: one for each row would make scrolling slow. */
function RowMenu({ row, maker, acts }: { row: Row; maker: boolean; acts: RowActions }) {
  const [open, setOpen] = useState(false);
  const label = `Row ${row.position}`;
  return (
    <span
      className={`mr-auto ${open ? "" : "opacity-0 group-focus-within/row:opacity-100 group-hover/row:opacity-100"}`}
    >
      {open ? (
        <Menu opens={<Dots label={label} tabIndex={-1} />} onClose={() => setOpen(false)}>
          {row.run && (
            <LinkItem>
              <Link to={`/runs/${row.run}`}>The run that wrote it</Link>
            </LinkItem>
          )}
          <Item onSelect={() => acts.read(row.id)}>Read it in full</Item>
          <Item onSelect={() => acts.history(row)}>What was done to it</Item>
          {maker && (
            <Item grave onSelect={() => acts.remove(row.id)}>
              Remove the row
            </Item>
          )}
        </Menu>
      ) : (
        <Dots label={label} tabIndex={-1} aria-haspopup="menu" onClick={() => setOpen(true)} />
      )}
    </span>
  );
}
