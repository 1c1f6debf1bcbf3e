import { useState } from "react";
import { Button } from "../../../components/Button";
import { Area, Choice, Field, Input } from "../../../components/Field";
import type { FormField } from "../../../components/FormFields";

const TYPES: [string, string][] = [
  ["text", "a line of text"],
  ["long", "a longer text"],
  ["number", "a number"],
  ["choice", "one of a list"],
  ["date", "a date"],
  ["file", "a file"],
];

/** The fields a person fills in. The name slots use follows the label until it is changed. */
export function FieldsEditor({
  label,
  fields,
  wrong,
  onChange,
}: {
  label: string;
  fields: FormField[];
  wrong?: string;
  onChange: (fields: FormField[]) => void;
}) {
  const [open, setOpen] = useState<number | null>(null);
  const change = (i: number, part: Partial<FormField>) =>
    onChange(fields.map((field, j) => (j === i ? { ...field, ...part } : field)));
  const move = (i: number, by: number) => {
    const after = [...fields];
    const [one] = after.splice(i, 1);
    after.splice(i + by, 0, one!);
    onChange(after);
    setOpen(null);
  };
  return (
    <Field group label={label} wrong={wrong}>
      <ol className="border-t border-line">
        {fields.map((field, i) => (
          <li key={i} className="border-b border-line py-2">
            <div className="grid grid-cols-[1fr_9rem_auto_auto] items-center gap-2">
              <Input
                aria-label={`Label of field ${i + 1}`}
                value={field.label}
                onChange={(e) => {
                  const follows = field.name === nameOf(field.label, fields, i);
                  change(i, {
                    label: e.target.value,
                    ...(follows && { name: nameOf(e.target.value, fields, i) }),
                  });
                }}
              />
              <Choice
                aria-label={`Type of ${field.label}`}
                value={field.type ?? "text"}
                onChange={(e) =>
                  change(i, {
                    type: e.target.value,
                    ...(e.target.value === "choice" && !field.choices?.length && { choices: ["Yes", "No"] }),
                  })
                }
              >
                {TYPES.map(([type, words]) => (
                  <option key={type} value={type}>
                    {words}
                  </option>
                ))}
              </Choice>
              <label className="flex items-center gap-1 text-sm">
                <input
                  type="checkbox"
                  checked={!!field.required}
                  onChange={(e) => change(i, { required: e.target.checked })}
                />{" "}
                required
              </label>
              <Button look="quiet" aria-expanded={open === i} onClick={() => setOpen(open === i ? null : i)}>
                {open === i ? "Less" : "More"}
              </Button>
            </div>
            {field.type === "choice" && (
              <div className="mt-2">
                <Area
                  rows={3}
                  aria-label={`Choices of ${field.label}, one on each line`}
                  value={(field.choices ?? []).join("\n")}
                  onChange={(e) => change(i, { choices: e.target.value.split("\n").filter((c) => c.trim()) })}
                />
              </div>
            )}
            {open === i && (
              <div className="mt-2 grid grid-cols-2 gap-2">
                <Field label="Called in slots">
                  <Input value={field.name} onChange={(e) => change(i, { name: e.target.value })} />
                </Field>
                <Field label="Help under it">
                  <Input value={field.help ?? ""} onChange={(e) => change(i, { help: e.target.value })} />
                </Field>
                {field.type === "number" && (
                  <>
                    <Field label="At least">
                      <Input
                        type="number"
                        value={field.least ?? ""}
                        onChange={(e) => change(i, { least: e.target.value === "" ? null : Number(e.target.value) })}
                      />
                    </Field>
                    <Field label="At most">
                      <Input
                        type="number"
                        value={field.greatest ?? ""}
                        onChange={(e) => change(i, { greatest: e.target.value === "" ? null : Number(e.target.value) })}
                      />
                    </Field>
                  </>
                )}
                {field.type === "file" && (
                  <>
                    <Field label="At most (MB)">
                      <Input
                        type="number"
                        min={1}
                        max={100}
                        value={field.largest_mb ?? 10}
                        onChange={(e) => change(i, { largest_mb: Number(e.target.value) || 10 })}
                      />
                    </Field>
                    <Field label="Only these endings" help="Such as .pdf, .docx; empty for any.">
                      <Input
                        defaultValue={(field.kinds ?? []).join(", ")}
                        onBlur={(e) =>
                          change(i, {
                            kinds: e.target.value
                              .split(",")
                              .map((k) => k.trim())
                              .filter(Boolean),
                          })
                        }
                      />
                    </Field>
                  </>
                )}
                <div className="col-span-2 flex gap-1">
                  <Button look="quiet" disabled={i === 0} onClick={() => move(i, -1)}>
                    Up
                  </Button>
                  <Button look="quiet" disabled={i === fields.length - 1} onClick={() => move(i, 1)}>
                    Down
                  </Button>
                  <Button
                    look="quiet"
                    onClick={() => {
                      setOpen(null);
                      onChange(fields.filter((_, j) => j !== i));
                    }}
                  >
                    Remove the field
                  </Button>
                </div>
              </div>
            )}
          </li>
        ))}
      </ol>
      <Button
        className="mt-2"
        onClick={() => onChange([...fields, { name: nameOf("New field", fields, -1), label: "New field" }])}
      >
        Add a field
      </Button>
    </Field>
  );
}

/** A name for slots from a label: small letters, digits and _, no other field's. */
function nameOf(label: string, fields: FormField[], self: number): string {
  const base =
    label
      .toLowerCase()
      .normalize("NFKD")
      .replace(/[^a-z0-9]+/g, "_")
      .replace(/^[^a-z]+|_+$/g, "")
      .slice(0, 36) || "field";
  const taken = new Set(fields.filter((_, j) => j !== self).map((f) => f.name));
  let name = base;
  for (let n = 2; taken.has(name); n++) name = `${base}_${n}`;
  return name;
}
