import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { staleNow } from "../../api/mutate";
import * as reads from "../../api/reads";
import { useSession } from "../../app/session";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { sayError } from "../../components/Toast";
import { count } from "../../components/words";
import { ColumnsDialog } from "./ColumnsDialog";
import { DeleteSheet } from "./DeleteSheet";
import { Foot } from "./grid/Foot";
import { Head } from "./grid/Head";
import { Reading } from "./grid/Reading";
import { type RowActions, RowLine } from "./grid/RowLine";
import { type Opened, Toolbar } from "./grid/Toolbar";
import { KeysDialog } from "./KeysDialog";
import { ListDialog } from "./ListDialog";
import type { Place } from "./model/block";
import { cellText } from "./model/cells";
import { linesOf } from "./model/lines";
import {
  type Asked,
  askedOf,
  columnsOf,
  isNarrowed,
  laidOut,
  NUMBERS,
  plain,
  type Shown,
  standing,
} from "./model/shown";
import { useCells } from "./model/useCells";
import { useOthers } from "./model/useOthers";
import { useRows } from "./model/useRows";
import { useWriting } from "./model/useWriting";
import { RowDialog } from "./RowDialog";
import { RowHistory } from "./RowHistory";
import { SendRows } from "./SendRows";
import { WhoseDialog } from "./WhoseDialog";

type Sheet = Schemas["SheetView"];

/** A million rows of this height are what a browser can still scroll. */
const HEIGHT = 33;
const NOBODY: never[] = [];

/** A grid of typed columns: moved through and changed by keys, sorted, narrowed, in groups, copied from and pasted into. */
export function Grid({ sheet, maker }: { sheet: Sheet; maker: boolean }) {
  const session = useSession();
  const [view, setView] = useState("");
  const [kept, setShown] = useState<Shown>(plain);
  const [closed, setClosed] = useState<ReadonlySet<string>>(new Set());
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set());
  const [open, setOpen] = useState<Opened | null>(null);
  const [past, setPast] = useState<{ id: number; position: number } | null>(null);
  const [read, setRead] = useState<number | null>(null);
  const [room, setRoom] = useState(1000);
  const [range, setRange] = useState<[number, number]>([0, 0]);
  const frame = useRef<HTMLDivElement>(null);
  const grid = useRef<HTMLDivElement>(null);
  const find = useRef<HTMLInputElement>(null);

  const shown = useMemo(() => standing(kept, sheet.columns), [kept, sheet.columns]);
  // The same for as long as the same is asked, whatever else of the view changes.
  const question = JSON.stringify(askedOf(shown));
  const asked = useMemo(() => JSON.parse(question) as Asked, [question]);
  const columns = useMemo(() => columnsOf(sheet.columns, shown), [sheet.columns, shown]);
  const laid = useMemo(() => laidOut(columns, shown, room), [columns, shown, room]);
  const width = NUMBERS + laid.reduce((sum, one) => sum + one.width, 0);
  const rows = useRows(sheet.key, asked, ...range);
  const bySame = asked.sort === asked.group;
  const groups = useQuery(
    reads.rowGroups(sheet.key, { ...asked, sort: bySame ? asked.sort : "", down: bySame && asked.down }),
  );
  const sections = asked.group ? (groups.data ?? null) : null;
  const lines = useMemo(() => linesOf(rows.total, sections, closed), [rows.total, sections, closed]);
  const writing = useWriting(sheet.key);
  const virtual = useVirtualizer({
    count: lines.count,
    getScrollElement: () => frame.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
    paddingStart: HEIGHT,
    scrollPaddingStart: HEIGHT,
    scrollPaddingEnd: HEIGHT,
  });
  const seen = virtual.getVirtualItems();
  const places = seen.flatMap((item) => {
    const line = lines.at(item.index);
    return line.kind === "row" ? [line.row] : [];
  });
  const [firstSeen, lastSeen] = [places[0] ?? 0, places.at(-1) ?? 0];
  useEffect(() => setRange([firstSeen, lastSeen]), [firstSeen, lastSeen]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the frame is there once the rows are
  useEffect(() => {
    const element = frame.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setRoom(element.clientWidth));
    watch.observe(element);
    return () => watch.disconnect();
  }, [rows.pending]);
  /** Bring a cell into sight, beside the columns that stay. */
  function see([index, place]: Place) {
    virtual.scrollToIndex(lines.of(index));
    const one = laid[place];
    const frozen = laid.filter((column) => column.frozen).reduce((edge, column) => edge + column.width, NUMBERS);
    if (!one || one.frozen || !frame.current) return;
    const { scrollLeft, clientWidth } = frame.current;
    if (one.left < scrollLeft + frozen) frame.current.scrollLeft = one.left - frozen;
    else if (one.left + one.width > scrollLeft + clientWidth)
      frame.current.scrollLeft = one.left + one.width - clientWidth;
  }
  const pick = (id: number) =>
    setPicked((before) => new Set(before.has(id) ? [...before].filter((one) => one !== id) : [...before, id]));
  const cells = useCells(rows, columns, maker, writing, {
    pick,
    read: setRead,
    find: () => find.current?.focus(),
    see,
    page: () => Math.max(1, Math.floor((frame.current?.clientHeight ?? 400) / HEIGHT) - 2),
  });
  const { at, block, editing, row: rowAt, column: columnAt } = cells;
  const others = useOthers(sheet.key, session.data?.email ?? "", { row: rowAt?.id ?? 0, column: columnAt?.name ?? "" });

  // What is asked anew is looked at from the top.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the place is set when what is asked for changes
  useEffect(() => {
    cells.choose([0, 0]);
    frame.current?.scrollTo({ top: 0 });
  }, [asked]);

  // The same functions for as long as the grid stands, so that rows are drawn anew only where they changed.
  const acting = useRef<RowActions>(null!);
  acting.current = {
    choose: (index, column, more) => cells.choose([index, column], more),
    edit: (index, column) => {
      cells.choose([index, column]);
      cells.edit(cellText(rows.at(index), columns[column]?.name));
    },
    done: (value, by) => {
      cells.done(value, by);
      grid.current?.focus({ preventScroll: true });
    },
    pick,
    read: setRead,
    history: setPast,
    remove: (id) => writing.remove([id]),
  };
  const acts = useMemo<RowActions>(
    () => ({
      choose: (...of) => acting.current.choose(...of),
      edit: (...of) => acting.current.edit(...of),
      done: (...of) => acting.current.done(...of),
      pick: (id) => acting.current.pick(id),
      read: (id) => acting.current.read(id),
      history: (row) => acting.current.history(row),
      remove: (id) => acting.current.remove(id),
    }),
    [],
  );
  const fold = (label: string) =>
    setClosed((before) => new Set(before.has(label) ? [...before].filter((one) => one !== label) : [...before, label]));
  const reading = rows.here.find((one) => one.row.id === read);

  return (
    <>
      <Toolbar
        sheet={sheet}
        maker={maker}
        shown={shown}
        view={view}
        total={rows.total}
        picked={picked.size}
        others={others}
        writing={writing}
        find={find}
        onShow={setShown}
        onView={(name, next) => {
          setView(name);
          setShown(next);
        }}
        onOpen={setOpen}
        onPickNone={() => setPicked(new Set())}
        onPickAll={async () => {
          try {
            const path = { params: { path: { key: sheet.key }, query: asked } };
            setPicked(new Set((await ok(api.GET("/api/sheets/{key}/numbers", path))).ids));
          } catch (error) {
            sayError(error);
          }
        }}
        onRemove={async () => {
          if (await writing.remove([...picked])) setPicked(new Set());
        }}
      />
      {rows.pending ? (
        <Loading what="Fetching the rows …" />
      ) : rows.error && !rows.here.length ? (
        <Failed error={rows.error} again={rows.again} />
      ) : (
        <div ref={frame} className="relative min-h-0 flex-1 overflow-auto border-t border-line bg-sheet">
          <div
            ref={grid}
            role="grid"
            aria-label={sheet.name}
            aria-rowcount={rows.total + 1}
            aria-colcount={columns.length + 1}
            aria-multiselectable
            tabIndex={0}
            onKeyDown={cells.press}
            onCopy={(event) => cells.copy(event)}
            onCut={(event) => cells.copy(event, true)}
            onPaste={cells.paste}
            className="relative outline-none select-none"
            style={{ width, minHeight: "100%" }}
          >
            <div
              role="row"
              className="sticky top-0 z-20 flex border-b border-rule bg-paper"
              style={{ width, height: HEIGHT, marginBottom: -HEIGHT }}
            >
              <span
                role="columnheader"
                className="sticky left-0 z-30 flex items-center justify-end bg-paper px-2"
                style={{ width: NUMBERS, minWidth: NUMBERS }}
              >
                {maker && rows.here.length > 0 && (
                  <input
                    type="checkbox"
                    tabIndex={-1}
                    aria-label="Choose all rows that are here"
                    title={rows.total > rows.here.length ? `The ${rows.here.length} rows around here` : undefined}
                    checked={rows.here.every(({ row }) => picked.has(row.id))}
                    onChange={(e) => setPicked(new Set(e.target.checked ? rows.here.map(({ row }) => row.id) : []))}
                  />
                )}
              </span>
              {laid.map((one, i) => (
                <Head
                  key={one.column.name}
                  laid={one}
                  place={i}
                  columns={sheet.columns}
                  shown={shown}
                  onShow={setShown}
                  onColumns={maker ? () => setOpen("columns") : undefined}
                />
              ))}
            </div>
            <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
              {seen.map((item) => {
                const line = lines.at(item.index);
                const style = {
                  position: "absolute" as const,
                  top: 0,
                  height: HEIGHT,
                  width,
                  transform: `translateY(${item.start}px)`,
                };
                if (line.kind === "group") {
                  const group = sections![line.group]!;
                  return (
                    <div
                      key={`group ${group.label}`}
                      role="row"
                      style={style}
                      className="border-b border-line bg-shade"
                    >
                      <span
                        role="gridcell"
                        aria-colspan={columns.length + 1}
                        className="sticky left-0 block h-full w-fit"
                      >
                        <button
                          type="button"
                          aria-expanded={!closed.has(group.label)}
                          onClick={() => fold(group.label)}
                          className="flex h-full items-center gap-2 px-3 text-sm"
                        >
                          <span aria-hidden>{closed.has(group.label) ? "▸" : "▾"}</span>
                          <span className="font-serif">{group.label.slice(0, 120) || `no ${asked.group}`}</span>
                          <span className="text-xs text-soft">{count(group.count, "row")}</span>
                        </button>
                      </span>
                    </div>
                  );
                }
                const row = rows.at(line.row);
                if (!row)
                  return (
                    <div
                      key={`row ${line.row}`}
                      role="row"
                      aria-busy
                      style={style}
                      className="border-b border-line bg-sheet"
                    >
                      <span role="gridcell" />
                    </div>
                  );
                const inBlock = line.row >= block.top && line.row < block.top + block.rows;
                const here = others.filter((one) => one.row === row.id);
                return (
                  <div key={row.id} role="presentation" style={style}>
                    <RowLine
                      row={row}
                      index={line.row}
                      laid={laid}
                      width={width}
                      at={at[0] === line.row ? at[1] : -1}
                      block={inBlock && (block.rows > 1 || block.columns > 1) ? block : null}
                      editing={at[0] === line.row ? editing : null}
                      picked={picked.has(row.id)}
                      others={here.length ? here : NOBODY}
                      maker={maker}
                      acts={acts}
                    />
                  </div>
                );
              })}
            </div>
            <Foot sheet={sheet.key} asked={asked} shown={shown} laid={laid} width={width} />
          </div>
          {rows.total === 0 && (
            <div className="absolute top-12 left-0 px-6">
              <Empty
                title={
                  asked.where
                    ? "No row is like this."
                    : asked.words
                      ? "No row has these words."
                      : "This sheet is empty."
                }
              >
                {isNarrowed(shown)
                  ? "Try fewer words, or take a condition off."
                  : "Add a row, paste from a spreadsheet, or let a workflow write into it."}
              </Empty>
            </div>
          )}
        </div>
      )}
      {groups.error && asked.group && <p className="px-5 py-1 text-sm text-brick">{groups.error.message}</p>}
      {rows.error && rows.here.length > 0 && <p className="px-5 py-1 text-sm text-brick">{rows.error.message}</p>}
      {rowAt && columnAt && <Reading sheet={sheet.key} row={rowAt} column={columnAt.name} />}
      {open === "send" && (
        <SendRows
          sheet={sheet.key}
          ids={[...picked]}
          onClose={(sent) => {
            setOpen(null);
            if (sent) setPicked(new Set());
          }}
        />
      )}
      {open === "columns" && (
        <ColumnsDialog sheet={sheet} onClose={() => setOpen(null)} onDone={() => staleNow(["sheet", sheet.key])} />
      )}
      {reading && (
        <RowDialog
          key={read}
          columns={sheet.columns}
          row={reading.row}
          maker={maker}
          onWrite={(cells) => writing.write([{ row: reading.row.id, cells }])}
          onMove={(by) => {
            const next = rows.at(reading.index + by);
            if (!next) return;
            setRead(next.id);
            cells.go([reading.index + by, at[1]]);
          }}
          onHistory={() => {
            setPast(reading.row);
            setRead(null);
          }}
          onClose={() => setRead(null)}
        />
      )}
      {(past || open === "removed") && (
        <RowHistory
          sheet={sheet.key}
          row={past}
          maker={maker}
          onClose={() => {
            setPast(null);
            setOpen(null);
          }}
        />
      )}
      {open === "keys" && <KeysDialog sheet={sheet} onClose={() => setOpen(null)} />}
      {open === "whose" && <WhoseDialog sheet={sheet} onClose={() => setOpen(null)} />}
      {open === "delete" && <DeleteSheet sheet={sheet} onClose={() => setOpen(null)} />}
      {open === "list" && <ListDialog sheet={sheet} onClose={() => setOpen(null)} />}
    </>
  );
}
