import { useState } from "react";
import { api, ok, type Schemas } from "../../../api/client";
import { Button } from "../../../components/Button";
import { Area, Choice, Field, Input } from "../../../components/Field";

export type ShapeField = Schemas["ShapeField"];

const TYPES: [NonNullable<ShapeField["type"]>, string][] = [
  ["text", "text"],
  ["number", "number"],
  ["yes_no", "yes or no"],
  ["choice", "one of"],
  ["list", "list"],
  ["any", "anything"],
];

/** What an answer is made of, field by field; or taken from a pasted example or JSON Schema. */
export function ShapeEditor({
  label,
  help,
  fields,
  wrong,
  onChange,
}: {
  label: string;
  help?: string;
  fields: ShapeField[];
  wrong?: string;
  onChange: (fields: ShapeField[]) => void;
}) {
  const [pasting, setPasting] = useState(false);
  const change = (at: number, part: Partial<ShapeField>) =>
    onChange(fields.map((one, i) => (i === at ? { ...one, ...part } : one)));
  const free = () => {
    let n = fields.length + 1;
    while (fields.some((one) => one.name === `field_${n}`)) n += 1;
    return `field_${n}`;
  };
  return (
    <Field group label={label} help={help} wrong={wrong}>
      <ol className="border-t border-line">
        {fields.map((field, i) => (
          <li
            key={i}
            className="grid grid-cols-[9rem_7rem_minmax(0,1fr)_auto_auto] items-start gap-2 border-b border-line py-1.5"
          >
            <Input
              aria-label={`Name of field ${i + 1}`}
              value={field.name}
              onChange={(e) => change(i, { name: e.target.value.replace(/\W+/g, "_").slice(0, 40) || "field" })}
            />
            <Choice
              aria-label={`What ${field.name} is`}
              value={field.type ?? "text"}
              onChange={(e) => change(i, { type: e.target.value as ShapeField["type"] })}
            >
              {TYPES.map(([type, words]) => (
                <option key={type} value={type}>
                  {words}
                </option>
              ))}
            </Choice>
            <div className="space-y-1">
              <Input
                aria-label={`What goes into ${field.name}`}
                placeholder="what goes into it"
                value={field.about ?? ""}
                onChange={(e) => change(i, { about: e.target.value })}
              />
              {field.type === "choice" && (
                <Input
                  aria-label={`Choices of ${field.name}, parted by commas`}
                  placeholder="one, another, …"
                  defaultValue={(field.choices ?? []).join(", ")}
                  onBlur={(e) =>
                    change(i, {
                      choices: e.target.value
                        .split(",")
                        .map((one) => one.trim())
                        .filter(Boolean),
                    })
                  }
                />
              )}
            </div>
            <label className="flex items-center gap-1 pt-1 text-xs text-soft">
              <input
                type="checkbox"
                checked={field.required ?? true}
                onChange={(e) => change(i, { required: e.target.checked })}
              />
              required
            </label>
            <Button
              look="quiet"
              aria-label={`Remove ${field.name}`}
              onClick={() => onChange(fields.filter((_, j) => j !== i))}
            >
              Remove
            </Button>
          </li>
        ))}
      </ol>
      <div className="mt-2 flex gap-2">
        <Button
          onClick={() => onChange([...fields, { name: free(), type: "text", about: "", required: true, choices: [] }])}
        >
          Add a field
        </Button>
        <Button look="quiet" aria-expanded={pasting} onClick={() => setPasting(!pasting)}>
          From an example …
        </Button>
      </div>
      {pasting && (
        <FromExample
          onTake={(found) => {
            onChange(found);
            setPasting(false);
          }}
        />
      )}
    </Field>
  );
}

function FromExample({ onTake }: { onTake: (fields: ShapeField[]) => void }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState("");
  async function read() {
    try {
      onTake(await ok(api.POST("/api/shapes", { body: { text } })));
    } catch (error) {
      setWrong((error as Error).message);
    }
  }
  return (
    <div className="mt-2 border-l-2 border-line pl-3">
      <Field
        label="Paste an example of the JSON you want, or a JSON Schema. It takes the place of the fields above."
        wrong={wrong}
      >
        <Area
          rows={4}
          autoFocus
          className="font-mono"
          placeholder={'{"company": "Marrowbank", "sells_seed": true, "staff": 14}'}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </Field>
      <Button className="mt-2" disabled={!text.trim()} onClick={read}>
        Take these fields
      </Button>
    </div>
  );
}
