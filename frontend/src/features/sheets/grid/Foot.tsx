import { useQuery } from "@tanstack/react-query";
import * as reads from "../../../api/reads";
import { type Asked, type Laid, NUMBERS, type Shown, sumInWords, sumValue } from "../model/shown";

/** What the columns come to, under them. */
export function Foot({
  sheet,
  asked,
  shown,
  laid,
  width,
}: {
  sheet: string;
  asked: Asked;
  shown: Shown;
  laid: Laid[];
  width: number;
}) {
  const wanted = laid.flatMap(({ column }) => {
    const what = shown.sums[column.name];
    return what ? [{ column: column.name, what }] : [];
  });
  const sums = useQuery(reads.rowSums(sheet, { ...asked, sort: "", down: false, group: "" }, JSON.stringify(wanted)));
  if (!wanted.length) return null;
  return (
    <div
      role="row"
      aria-label="What the columns come to"
      className="sticky bottom-0 z-20 flex border-t border-rule bg-paper text-xs"
      style={{ width }}
    >
      <span role="rowheader" className="sticky left-0 z-10 bg-paper" style={{ width: NUMBERS, minWidth: NUMBERS }} />
      {laid.map(({ column, width: wide, left, frozen }) => {
        const what = shown.sums[column.name];
        const value = sums.data?.find((one) => one.column === column.name && one.what === what)?.value;
        return (
          <span
            key={column.name}
            role="gridcell"
            className={`truncate border-l border-line bg-paper px-2 py-1 ${column.type === "number" ? "text-right" : ""} ${frozen ? "sticky z-10" : ""}`}
            style={{ width: wide, minWidth: wide, left: frozen ? left : undefined }}
          >
            {what && (
              <>
                <span className="text-soft">{sumInWords(what, column.type)}</span>{" "}
                <span className="tabular-nums">{sums.isError ? "✕" : sums.data ? sumValue(value) : "…"}</span>
              </>
            )}
          </span>
        );
      })}
    </div>
  );
}
