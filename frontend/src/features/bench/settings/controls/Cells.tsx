import { lazy, Suspense } from "react";
import type { Schemas, SlotProblem } from "../../../../api/client";

const SlotEditor = lazy(() => import("../../slots/SlotEditor"));

/** What goes into which column of a sheet. */
export function Cells({
  cells,
  columns,
  values,
  problems,
  disabled,
  set,
}: {
  cells: Record<string, string>;
  columns: string[];
  values: Schemas["ValueView"][];
  problems: SlotProblem[];
  disabled: boolean;
  set: (cells: Record<string, string>) => void;
}) {
  const names = [...new Set([...columns, ...Object.keys(cells)])];
  return (
    <div>
      <div className="mb-0.5 text-xs text-soft">What goes into which column</div>
      <div className="grid grid-cols-[8rem_1fr] items-start gap-x-3 gap-y-1.5">
        {names.map((name) => (
          <div key={name} className="contents">
            <span className={`pt-1 text-sm ${columns.includes(name) ? "" : "text-brick"}`}>{name}</span>
            <Suspense
              fallback={
                <div data-late className="rounded border border-line p-1 text-sm">
                  {cells[name]}
                </div>
              }
            >
              <SlotEditor
                label={`Column ${name}`}
                value={cells[name] ?? ""}
                values={values}
                problems={problems.filter((p) => p.place[1] === name)}
                lines
                disabled={disabled}
                onChange={(text) => {
                  const { [name]: _, ...rest } = cells;
                  set(text ? { ...cells, [name]: text } : rest);
                }}
              />
            </Suspense>
          </div>
        ))}
      </div>
    </div>
  );
}
