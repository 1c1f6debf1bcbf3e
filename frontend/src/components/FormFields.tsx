import { useState } from "react";
import { ApiError, keepFile } from "../api/client";
import { Area, Choice, Field, Input } from "./Field";

/** A field a person fills in; `name` is what slots call it. */
export type FormField = {
  name: string;
  label: string;
  type?: string;
  required?: boolean;
  help?: string;
  choices?: string[];
  least?: number | null;
  greatest?: number | null;
  largest_mb?: number;
  kinds?: string[];
};

export type Filled = {
  values: Record<string, string>;
  files: Record<string, File>;
  wrong: Record<string, string>;
  set: (name: string, value: string) => void;
  attach: (name: string, file: File | null) => void;
  refused: (error: unknown) => boolean;
};

/** What is filled into fields, and what was wrong with it. */
export function useFilled(fields: FormField[], begun: Record<string, string> = {}): Filled {
  const [values, setValues] = useState<Record<string, string>>(begun);
  const [files, setFiles] = useState<Record<string, File>>({});
  const [wrong, setWrong] = useState<Record<string, string>>({});
  const right = (name: string) => setWrong(({ [name]: _, ...rest }) => rest);
  return {
    values,
    files,
    wrong,
    set: (name, value) => {
      setValues((before) => ({ ...before, [name]: value }));
      right(name);
    },
    attach: (name, file) => {
      setFiles(({ [name]: _, ...rest }) => (file ? { ...rest, [name]: file } : rest));
      right(name);
    },
    refused: (error) => {
      const problems = error instanceof ApiError ? error.problems : [];
      const known = problems.filter((p) => fields.some((f) => f.name === p.where));
      setWrong(Object.fromEntries(known.map((p) => [p.where, p.message])));
      return known.length > 0;
    },
  };
}

/** What was filled in as values, with the chosen files kept by the house. */
export async function valuesOf(fields: FormField[], filled: Filled): Promise<Record<string, unknown>> {
  const out: Record<string, unknown> = {};
  for (const { name, type } of fields) {
    const file = filled.files[name];
    if (file) out[name] = await keepFile(file);
    else if (type !== "file") out[name] = filled.values[name] ?? "";
  }
  return out;
}

/** Fields to be filled in, each with its help and what is wrong with it. Where nothing need be filled in, nothing is said of it. */
export function FormFields({ fields, filled, free = false }: { fields: FormField[]; filled: Filled; free?: boolean }) {
  return (
    <div className="space-y-4">
      {fields.map((field) => (
        <Field
          key={field.name}
          label={field.required || free ? field.label : `${field.label} (if you like)`}
          help={field.help}
          wrong={filled.wrong[field.name]}
        >
          <One field={free ? { ...field, required: false } : field} filled={filled} />
        </Field>
      ))}
    </div>
  );
}

function One({ field, filled }: { field: FormField; filled: Filled }) {
  const value = filled.values[field.name] ?? "";
  const common = { required: !!field.required, "aria-invalid": !!filled.wrong[field.name] };
  switch (field.type) {
    case "long":
      return <Area rows={5} value={value} onChange={(e) => filled.set(field.name, e.target.value)} {...common} />;
    case "choice":
      return (
        <Choice value={value} onChange={(e) => filled.set(field.name, e.target.value)} {...common}>
          <option value="">choose …</option>
          {field.choices?.map((choice) => (
            <option key={choice}>{choice}</option>
          ))}
        </Choice>
      );
    case "file":
      return (
        <Input
          type="file"
          accept={field.kinds?.join(",")}
          className="file:mr-3 file:border-0 file:bg-transparent file:text-leaf file:underline"
          onChange={(e) => filled.attach(field.name, e.target.files?.[0] ?? null)}
          {...common}
        />
      );
    default:
      return (
        <Input
          type={field.type === "number" ? "number" : field.type === "date" ? "date" : "text"}
          step="any"
          min={field.type === "number" ? (field.least ?? undefined) : undefined}
          max={field.type === "number" ? (field.greatest ?? undefined) : undefined}
          value={value}
          onChange={(e) => filled.set(field.name, e.target.value)}
          {...common}
        />
      );
  }
}
