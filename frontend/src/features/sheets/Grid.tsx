import { useInfiniteQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ClipboardEvent, type KeyboardEvent, useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate, staleNow } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Input } from "../../components/Field";
import { Dots, Item, LinkItem, Menu } from "../../components/Menu";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";
import { BringIn } from "./BringIn";
import { ColumnsDialog } from "./ColumnsDialog";
import { ListDialog } from "./ListDialog";
import { SendRows } from "./SendRows";

type Sheet = Schemas["SheetView"];
type Row = Schemas["RowView"];

const HEIGHT = 34;
const WIDTHS: Record<string, string> = {
  date: "7.5rem",
  number: "6rem",
  choice: "9rem",
  link: "14rem",
  text: "minmax(12rem,1fr)",
};

/** A grid of typed columns: moved through and changed by keys, sorted, searched, pasted into. */
export function Grid({ sheet, maker }: { sheet: Sheet; maker: boolean }) {
  const [words, setWords] = useState("");
  const [sort, setSort] = useState<{ name: string; down: boolean } | null>(null);
  const [at, setAt] = useState<[number, number]>([0, 0]);
  const [editing, setEditing] = useState<string | null>(null);
  const [columns, setColumns] = useState(false);
  const [listed, setListed] = useState(false);
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set());
  const [sending, setSending] = useState(false);
  const frame = useRef<HTMLDivElement>(null);
  const rows = useInfiniteQuery(reads.rows(sheet.key, words, sort));
  const list: Row[] = rows.data?.pages.flatMap((p) => p.rows) ?? [];
  const total = rows.data?.pages[0]?.total ?? 0;
  const virtual = useVirtualizer({
    count: list.length,
    getScrollElement: () => frame.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
  });
  const seen = virtual.getVirtualItems();
  const last = seen.at(-1)?.index ?? 0;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the query is a new object at each drawing
  useEffect(() => {
    if (last > list.length - 40 && rows.hasNextPage && !rows.isFetchingNextPage) rows.fetchNextPage();
  }, [last, list.length, rows.hasNextPage, rows.isFetchingNextPage]);

  const names = sheet.columns.map((c) => c.name);
  const pick = (id: number) =>
    setPicked((before) => new Set(before.has(id) ? [...before].filter((one) => one !== id) : [...before, id]));
  const template = `4.4rem ${sheet.columns.map((c) => WIDTHS[c.type] ?? WIDTHS.text).join(" ")} 3rem`;
  const path = { params: { path: { key: sheet.key } } };

  async function write(row: Row, cells: Record<string, string>) {
    try {
      await mutate(
        api.PATCH("/api/sheets/{key}/rows/{row}", {
          params: { path: { key: sheet.key, row: row.id } },
          body: { cells },
        }),
        ["sheet", sheet.key],
        "sheets",
      );
    } catch (error) {
      sayError(error);
    }
  }

  async function add(rows: Record<string, string>[]) {
    try {
      const { count: n } = await mutate(
        api.POST("/api/sheets/{key}/rows", { ...path, body: { rows } }),
        ["sheet", sheet.key],
        "sheets",
      );
      if (n !== 1) say(`${count(n, "row")} added.`);
    } catch (error) {
      sayError(error);
    }
  }

  async function remove(row: Row) {
    try {
      await mutate(
        api.POST("/api/sheets/{key}/rows/delete", { ...path, body: { ids: [row.id] } }),
        ["sheet", sheet.key],
        "sheets",
      );
    } catch (error) {
      sayError(error);
    }
  }

  const move = (down: number, right: number) => {
    const next: [number, number] = [
      Math.min(list.length - 1, Math.max(0, at[0] + down)),
      Math.min(names.length - 1, Math.max(0, at[1] + right)),
    ];
    setAt(next);
    virtual.scrollToIndex(next[0]);
  };

  function press(event: KeyboardEvent) {
    if (editing !== null) return;
    const moves: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowRight: [0, 1],
      ArrowLeft: [0, -1],
    };
    const by = moves[event.key];
    if (by) move(...by);
    else if (event.key === " " && maker && event.shiftKey && list[at[0]]) pick(list[at[0]]!.id);
    else if (event.key === "Enter" && maker) setEditing(cellText(list[at[0]], names[at[1]]));
    else if (maker && event.key.length === 1 && !event.ctrlKey && !event.metaKey && list.length) setEditing(event.key);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** A table copied from a spreadsheet: into the rows from the chosen cell on, and into new rows below the last. */
  async function paste(event: ClipboardEvent) {
    if (!maker || editing !== null) return;
    const table = event.clipboardData
      .getData("text/plain")
      .replace(/\r/g, "")
      .replace(/\n$/, "")
      .split("\n")
      .map((line) => line.split("\t"));
    if (!table.length) return;
    event.preventDefault();
    const cells = (line: string[]) =>
      Object.fromEntries(line.map((text, i) => [names[at[1] + i], text]).filter(([name]) => name)) as Record<
        string,
        string
      >;
    const fresh: Record<string, string>[] = [];
    for (const [i, line] of table.entries()) {
      const row = list[at[0] + i];
      if (row) await write(row, cells(line));
      else fresh.push(cells(line));
    }
    if (fresh.length) await add(fresh);
  }

  return (
    <>
      <div className="flex flex-wrap items-center gap-2 px-5 py-2">
        <Input
          aria-label="Find in this sheet"
          placeholder="Find in this sheet"
          className="!w-60"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        <span className="text-xs text-soft">
          {words ? `${total} of ${count(sheet.rows, "row")}` : count(total, "row")}
        </span>
        <span className="ml-auto" />
        {maker && (
          <>
            {picked.size > 0 && (
              <>
                <Button onClick={() => setSending(true)}>Send {count(picked.size, "row")} through …</Button>
                <Button look="quiet" onClick={() => setPicked(new Set())}>
                  Choose none
                </Button>
              </>
            )}
            <Button onClick={() => add([{}])}>Add a row</Button>
            <Button onClick={() => setColumns(true)}>Columns</Button>
            <Button onClick={() => setListed(true)}>List of readers</Button>
            <BringIn into={sheet.key}>Bring in a file …</BringIn>
          </>
        )}
        <Menu opens={<Button look="quiet">Take out …</Button>}>
          {["CSV", "XLSX", "ODS"].map((kind) => (
            <LinkItem key={kind}>
              <a href={`/api/sheets/${sheet.key}/file/${kind.toLowerCase()}`} download>
                As {kind}
              </a>
            </LinkItem>
          ))}
        </Menu>
      </div>
      {rows.isPending ? (
        <Loading what="Fetching the rows …" />
      ) : rows.isError ? (
        <Failed error={rows.error} again={() => rows.refetch()} />
      ) : (
        <div ref={frame} className="min-h-0 flex-1 overflow-auto border-t border-line bg-sheet">
          <div
            role="grid"
            aria-label={sheet.name}
            aria-rowcount={total}
            tabIndex={0}
            onKeyDown={press}
            onPaste={paste}
            className="min-w-fit outline-none"
          >
            <div
              role="row"
              className="sticky top-0 z-10 grid border-b border-rule bg-paper"
              style={{ gridTemplateColumns: template }}
            >
              <span role="columnheader" className="px-2 py-1.5 text-right">
                {maker && list.length > 0 && (
                  <input
                    type="checkbox"
                    tabIndex={-1}
                    aria-label="Choose all rows that are shown"
                    checked={list.every((row) => picked.has(row.id))}
                    onChange={(e) => setPicked(new Set(e.target.checked ? list.map((row) => row.id) : []))}
                  />
                )}
              </span>
              {sheet.columns.map((c) => (
                <button
                  type="button"
                  role="columnheader"
                  key={c.name}
                  aria-sort={sort?.name === c.name ? (sort.down ? "descending" : "ascending") : "none"}
                  onClick={() =>
                    setSort(
                      sort?.name === c.name
                        ? sort.down
                          ? null
                          : { name: c.name, down: true }
                        : { name: c.name, down: false },
                    )
                  }
                  className="border-l border-line px-2 py-1.5 text-left text-xs font-semibold hover:bg-shade"
                >
                  {c.name} {sort?.name === c.name && <span aria-hidden>{sort.down ? "↓" : "↑"}</span>}
                </button>
              ))}
              <span />
            </div>
            <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
              {seen.map((item) => {
                const row = list[item.index]!;
                return (
                  <div
                    key={row.id}
                    role="row"
                    className="absolute grid w-full border-b border-line hover:bg-paper"
                    style={{ gridTemplateColumns: template, height: HEIGHT, transform: `translateY(${item.start}px)` }}
                  >
                    <span
                      role="rowheader"
                      className="flex items-center justify-end gap-2 px-2 py-1.5 text-xs text-soft"
                    >
                      {row.position}
                      {maker && (
                        <input
                          type="checkbox"
                          tabIndex={-1}
                          aria-label={`Choose row ${row.position}`}
                          checked={picked.has(row.id)}
                          onChange={() => pick(row.id)}
                        />
                      )}
                    </span>
                    {sheet.columns.map((c, x) => {
                      const here = at[0] === item.index && at[1] === x;
                      const text = cellText(row, c.name);
                      return (
                        <div
                          key={c.name}
                          role="gridcell"
                          aria-selected={here}
                          title={text.length > 20 ? text : undefined}
                          onMouseDown={() => setAt([item.index, x])}
                          onDoubleClick={() => maker && setEditing(text)}
                          className={`truncate border-l border-line px-2 py-1.5 text-sm ${c.type === "number" ? "text-right" : ""} ${here ? "ring-2 ring-leaf ring-inset" : ""}`}
                        >
                          {here && editing !== null ? (
                            <CellInput
                              text={editing}
                              onDone={(value, by) => {
                                setEditing(null);
                                if (value !== null && value !== text) write(row, { [c.name]: value });
                                (frame.current?.querySelector("[role=grid]") as HTMLElement | null)?.focus();
                                if (by) move(...by);
                              }}
                            />
                          ) : c.type === "link" && /^https?:/.test(text) ? (
                            <a
                              href={text}
                              target="_blank"
                              rel="noreferrer"
                              tabIndex={-1}
                              className="text-leaf underline underline-offset-2"
                            >
                              {text.replace(/^https?:\/\//, "")}
                            </a>
                          ) : (
                            text.replace(/\s+/g, " ")
                          )}
                        </div>
                      );
                    })}
                    <span role="gridcell" className="text-center">
                      <RowMenu row={row} maker={maker} onDelete={() => remove(row)} />
                    </span>
                  </div>
                );
              })}
            </div>
          </div>
          {list.length === 0 && (
            <div className="px-6">
              <Empty title={words ? "No row has these words." : "This sheet is empty."}>
                {words ? "Try fewer words." : "Add a row, paste from a spreadsheet, or let a workflow write into it."}
              </Empty>
            </div>
          )}
        </div>
      )}
      {list[at[0]] && names[at[1]] && (
        <p aria-live="polite" className="max-h-36 shrink-0 overflow-y-auto border-t border-rule px-5 py-2 text-sm">
          <span className="mr-3 text-xs text-soft">
            Row {list[at[0]]!.position}, {names[at[1]]}
          </span>
          <span className="font-serif whitespace-pre-wrap [overflow-wrap:anywhere]">
            {cellText(list[at[0]], names[at[1]]) || "empty"}
          </span>
        </p>
      )}
      {sending && (
        <SendRows
          sheet={sheet.key}
          ids={[...picked]}
          onClose={(sent) => {
            setSending(false);
            if (sent) setPicked(new Set());
          }}
        />
      )}
      {columns && (
        <ColumnsDialog sheet={sheet} onClose={() => setColumns(false)} onDone={() => staleNow(["sheet", sheet.key])} />
      )}
      {listed && <ListDialog sheet={sheet} onClose={() => setListed(false)} />}
    </>
  );
}

const cellText = (row: Row | undefined, name: string | undefined) => String((name && row?.cells[name]) ?? "");

function CellInput({ text, onDone }: { text: string; onDone: (value: string | null, by?: [number, number]) => void }) {
  const [value, setValue] = useState(text);
  const done = useRef(false);
  const finish = (kept: string | null, by?: [number, number]) => {
    if (done.current) return;
    done.current = true;
    onDone(kept, by);
  };
  return (
    <input
      // biome-ignore lint/a11y/noAutofocus: the cell one begins to write in
      autoFocus
      aria-label="Cell"
      value={value}
      onChange={(e) => setValue(e.target.value)}
      onBlur={() => finish(value)}
      onKeyDown={(e) => {
        if (e.key === "Enter") finish(value, [1, 0]);
        else if (e.key === "Tab") finish(value, [0, e.shiftKey ? -1 : 1]);
        else if (e.key === "Escape") finish(null);
        else return;
        e.preventDefault();
        e.stopPropagation();
      }}
      className="-mx-1 w-full bg-paper px-1 outline-none"
    />
  );
}

function RowMenu({ row, maker, onDelete }: { row: Row; maker: boolean; onDelete: () => void }) {
  if (!row.run && !maker) return <span />;
  return (
    <Menu opens={<Dots label={`Row ${row.position}`} tabIndex={-1} />}>
      {row.run && (
        <LinkItem>
          <Link to={`/runs/${row.run}`}>The run that wrote it</Link>
        </LinkItem>
      )}
      {maker && (
        <Item grave onSelect={onDelete}>
          Delete the row
        </Item>
      )}
    </Menu>
  );
}
