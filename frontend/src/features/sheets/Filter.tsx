import { Popover } from "radix-ui";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Button } from "../../components/Button";
import { Choice, Input } from "../../components/Field";
import { type Condition, inWords, needsValue, type Op, opsFor } from "./types";

/** Conditions that keep some rows: each as a mark that can be taken off, and one more is added in a small form. */
export function Filter({
  columns,
  conditions,
  onChange,
}: {
  columns: Schemas["SheetView"]["columns"];
  conditions: Condition[];
  onChange: (conditions: Condition[]) => void;
}) {
  const [open, setOpen] = useState(false);
  const [column, setColumn] = useState(columns[0]?.name ?? "");
  const [op, setOp] = useState<Op>("is");
  const [value, setValue] = useState("");
  const found = columns.find((c) => c.name === column) ?? columns[0];
  if (!found) return null;
  const ops = opsFor(found.type);
  const known = ops.some(([one]) => one === op) ? op : ops[0]![0];
  return (
    <>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger asChild>
          <Button look="quiet">Only where …</Button>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="start"
            sideOffset={4}
            className="z-50 w-80 space-y-2 rounded-md border border-rule bg-sheet p-3 text-sm text-ink shadow-lg"
          >
            <form
              className="space-y-2"
              onSubmit={(event) => {
                event.preventDefault();
                onChange([
                  ...conditions,
                  { column: found.name, op: known, value: needsValue(known) ? value.trim() : "" },
                ]);
                setValue("");
                setOpen(false);
              }}
            >
              <Choice aria-label="Column" value={found.name} onChange={(e) => setColumn(e.target.value)}>
                {columns.map((c) => (
                  <option key={c.name}>{c.name}</option>
                ))}
              </Choice>
              <Choice aria-label="How" value={known} onChange={(e) => setOp(e.target.value as Op)}>
                {ops.map(([one, words]) => (
                  <option key={one} value={one}>
                    {words}
                  </option>
                ))}
              </Choice>
              {needsValue(known) &&
                (found.choices?.length && (known === "is" || known === "is_not") ? (
                  <Choice aria-label="Value" value={value} onChange={(e) => setValue(e.target.value)}>
                    <option value="">choose</option>
                    {found.choices.map((one) => (
                      <option key={one}>{one}</option>
                    ))}
                  </Choice>
                ) : (
                  <Input aria-label="Value" value={value} onChange={(e) => setValue(e.target.value)} />
                ))}
              <Button look="main" type="submit" disabled={needsValue(known) && !value.trim()}>
                Show only these
              </Button>
            </form>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {conditions.map((one, i) => (
        <button
          key={`${one.column}${one.op}${one.value}`}
          type="button"
          title="Take this condition off"
          onClick={() => onChange(conditions.filter((_, j) => j !== i))}
          className="rounded-sm bg-leafwash px-2 py-0.5 text-xs text-leaf"
        >
          {inWords(one, columns.find((c) => c.name === one.column)?.type ?? "text")} <span aria-hidden>✕</span>
        </button>
      ))}
    </>
  );
}
