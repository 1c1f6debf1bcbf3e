import { useRef, useState } from "react";
import { Dots, Item, Menu, MenuHead } from "../../../components/Menu";
import { type Column, type Laid, moved, type Shown, sumsFor } from "../model/shown";

const NARROWEST = 48;

/** The head of a column: a press sorts, a menu does the rest, its right edge is drawn to make it wider. */
export function Head({
  laid,
  place,
  columns,
  shown,
  onShow,
  onColumns,
}: {
  laid: Laid;
  place: number;
  columns: Column[];
  shown: Shown;
  onShow: (shown: Shown) => void;
  onColumns?: () => void;
}) {
  const { column, frozen } = laid;
  const [drawn, setDrawn] = useState<number | null>(null);
  const from = useRef(0);
  const sorted = shown.sort === column.name;
  const width = drawn ?? laid.width;
  const sort = (down: boolean) => onShow({ ...shown, sort: column.name, down });
  const setWidth = (to: number) =>
    onShow({ ...shown, widths: { ...shown.widths, [column.name]: Math.round(Math.max(NARROWEST, to)) } });
  const sum = shown.sums[column.name];
  const linked = column.finds ? " · finds a row of another sheet" : "";
  return (
    <div
      role="columnheader"
      aria-colindex={place + 2}
      aria-sort={sorted ? (shown.down ? "descending" : "ascending") : "none"}
      className={`group/head relative flex items-center border-l border-line bg-paper text-xs font-semibold ${frozen ? "sticky z-20" : ""}`}
      style={{ width, minWidth: width, left: frozen ? laid.left : undefined }}
    >
      <button
        type="button"
        title={`Sort by ${column.name}${linked}`}
        onClick={() => {
          if (!sorted) sort(false);
          else if (!shown.down) sort(true);
          else onShow({ ...shown, sort: "", down: false });
        }}
        className="min-w-0 flex-1 truncate px-2 py-1.5 text-left hover:bg-shade"
      >
        {column.name} {sorted && <span aria-hidden>{shown.down ? "↓" : "↑"}</span>}
        {column.finds && (
          <span aria-hidden className="text-soft">
            {" "}
            ⤷
          </span>
        )}
      </button>
      <span className="opacity-0 group-focus-within/head:opacity-100 group-hover/head:opacity-100">
        <Menu opens={<Dots label={`Column ${column.name}`} />}>
          <Item onSelect={() => sort(false)}>Sort, first to last</Item>
          <Item onSelect={() => sort(true)}>Sort, last to first</Item>
          {shown.group === column.name ? (
            <Item onSelect={() => onShow({ ...shown, group: "" })}>No groups</Item>
          ) : (
            <Item onSelect={() => onShow({ ...shown, group: column.name })}>In groups by it</Item>
          )}
          <Item onSelect={() => onShow(moved(columns, shown, column.name, -1))}>Further left</Item>
          <Item onSelect={() => onShow(moved(columns, shown, column.name, 1))}>Further right</Item>
          <Item onSelect={() => setWidth(laid.width + 60)}>Wider</Item>
          <Item onSelect={() => setWidth(laid.width - 60)}>Narrower</Item>
          {shown.frozen === place + 1 ? (
            <Item onSelect={() => onShow({ ...shown, frozen: 0 })}>Let columns move again</Item>
          ) : (
            <Item onSelect={() => onShow({ ...shown, frozen: place + 1 })}>Keep in sight up to here</Item>
          )}
          <Item onSelect={() => onShow({ ...shown, hidden: [...shown.hidden, column.name] })}>Hide it</Item>
          {onColumns && <Item onSelect={onColumns}>Name, type, choices …</Item>}
          <MenuHead>Under it stands</MenuHead>
          {sumsFor(column.type).map(([what, words]) => (
            <Item key={what} onSelect={() => onShow({ ...shown, sums: { ...shown.sums, [column.name]: what } })}>
              {words} {sum === what && <span aria-hidden>✓</span>}
            </Item>
          ))}
          {sum && (
            <Item
              onSelect={() => {
                const { [column.name]: _, ...sums } = shown.sums;
                onShow({ ...shown, sums });
              }}
            >
              nothing
            </Item>
          )}
        </Menu>
      </span>
      <span
        aria-hidden
        className="absolute top-0 right-0 h-full w-1.5 cursor-col-resize touch-none hover:bg-leaf"
        onPointerDown={(e) => {
          from.current = e.clientX - laid.width;
          e.currentTarget.setPointerCapture(e.pointerId);
          setDrawn(laid.width);
        }}
        onPointerMove={(e) => drawn !== null && setDrawn(Math.max(NARROWEST, e.clientX - from.current))}
        onPointerUp={() => {
          if (drawn !== null && drawn !== laid.width) setWidth(drawn);
          setDrawn(null);
        }}
      />
    </div>
  );
}
