/** Blocks of cells as spreadsheets put them on the clipboard: cells parted by tabs, rows by line ends, quotes where needed. */

/** The cells of a copied block. A cell in quotes may hold tabs, line ends and doubled quotes. */
export function read(text: string): string[][] {
  const rows: string[][] = [[]];
  let cell = "";
  let quoted = false;
  const source = text.replace(/\r\n?/g, "\n").replace(/\n$/, "");
  for (let i = 0; i < source.length; i += 1) {
    const sign = source[i]!;
    if (quoted) {
      if (sign !== '"') cell += sign;
      else if (source[i + 1] === '"') {
        cell += sign;
        i += 1;
      } else quoted = false;
    } else if (sign === '"' && cell === "" && closes(source, i)) quoted = true;
    else if (sign === "\t" || sign === "\n") {
      rows.at(-1)!.push(cell);
      cell = "";
      if (sign === "\n") rows.push([]);
    } else cell += sign;
  }
  rows.at(-1)!.push(cell);
  return rows;
}

/** Whether a quote opens a quoted cell: one closes it, right before a tab, a line end or the end. A lone quote is a sign like any other. */
function closes(source: string, from: number): boolean {
  for (let i = from + 1; i < source.length; i += 1) {
    if (source[i] !== '"') continue;
    if (source[i + 1] === '"') i += 1;
    else return i + 1 === source.length || source[i + 1] === "\t" || source[i + 1] === "\n";
  }
  return false;
}

/** A block as text for the clipboard. */
export const write = (rows: string[][]) =>
  rows
    .map((row) => row.map((cell) => (/["\t\n]/.test(cell) ? `"${cell.replace(/"/g, '""')}"` : cell)).join("\t"))
    .join("\n");

/** Two corners as a block: the first row and column, and how many of each. */
export type Block = { top: number; left: number; rows: number; columns: number };
export type Place = [row: number, column: number];

export const blockOf = ([a, b]: Place, [c, d]: Place): Block => ({
  top: Math.min(a, c),
  left: Math.min(b, d),
  rows: Math.abs(a - c) + 1,
  columns: Math.abs(b - d) + 1,
});

export const within = (block: Block, row: number, column: number) =>
  row >= block.top && row < block.top + block.rows && column >= block.left && column < block.left + block.columns;

/** What is pasted where: a single cell fills the block; a block is repeated as often as it fits whole, or goes once from its corner. */
export function pasted(cells: string[][], into: Block): { row: number; column: number; text: string }[] {
  const height = cells.length;
  const width = Math.max(...cells.map((row) => row.length));
  const rows = into.rows % height === 0 ? into.rows : height;
  const columns = into.columns % width === 0 ? into.columns : width;
  const out = [];
  for (let r = 0; r < rows; r += 1)
    for (let c = 0; c < columns; c += 1)
      out.push({ row: into.top + r, column: into.left + c, text: cells[r % height]![c % width] ?? "" });
  return out;
}
