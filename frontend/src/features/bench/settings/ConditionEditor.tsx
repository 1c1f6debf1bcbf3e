import { lazy, Suspense, useEffect, useRef, useState } from "react";
import { api, ok, type Schemas } from "../../../api/client";
import { Button } from "../../../components/Button";
import { Choice, Input } from "../../../components/Field";
import { branches, brief, flat, type Value } from "../slots/valuetree";

const ValuePicker = lazy(() => import("../slots/ValuePicker"));

type Clause = Schemas["ClauseView"];
type Parts = { joined: string; clauses: Clause[] };

const HOWS = [
  "is",
  "is not",
  "contains",
  "does not contain",
  "starts with",
  "ends with",
  "is one of",
  "is not one of",
  "is more than",
  "is less than",
  "is at least",
  "is at most",
  "is before",
  "is after",
  "is empty",
  "is not empty",
];
const ALONE = new Set(["is empty", "is not empty"]);
const MANY = new Set(["is one of", "is not one of"]);

/** A figure is written bare where figures are compared; “0049” looked for in a text stays a text. */
const quoted = (text: string, how: string) =>
  /^-?\d+(\.\d+)?$/.test(text) && String(Number(text)) === text && !/contain|with/.test(how)
    ? text
    : `"${text.replace(/(["\\])/g, "\\$1").replace(/\s*\n\s*/g, " ")}"`;

function written({ joined, clauses }: Parts): string {
  return clauses
    .filter((one) => one.left)
    .map((one) => {
      if (ALONE.has(one.how)) return `${one.left} ${one.how}`;
      const right = one.right ?? [];
      return `${one.left} ${one.how} ${one.value ? right[0] : right.length ? right.map((text) => quoted(text, one.how)).join(", ") : '""'}`;
    })
    .join(` ${joined} `);
}

type Props = {
  label: string;
  value: string;
  values: Value[];
  /** What stands there while the condition is empty, e.g. “otherwise”. */
  empty?: string;
  onChange: (text: string) => void;
};

/** A condition in words: a row for each comparison, joined by *and* or *or*; or typed, where it is more than that. */
export function ConditionEditor({ label, value, values, empty = "", onChange }: Props) {
  const [parts, setParts] = useState<Parts | null>(value.trim() ? null : { joined: "and", clauses: [] });
  const [typed, setTyped] = useState(false);
  const [picking, setPicking] = useState<number | null>(null);
  const told = useRef(value.trim() ? null : value);

  useEffect(() => {
    if (value === told.current) return;
    let late = false;
    ok(api.POST("/api/conditions", { body: { text: value } }))
      .then((found) => {
        if (late) return;
        told.current = value;
        setParts(found.plain ? { joined: found.joined ?? "and", clauses: found.clauses ?? [] } : null);
        if (!found.plain) setTyped(true);
      })
      .catch(() => setTyped(true));
    return () => {
      late = true;
    };
  }, [value]);

  const put = (next: Parts) => {
    setParts(next);
    told.current = written(next);
    onChange(told.current);
  };
  const change = (at: number, part: Partial<Clause>) =>
    parts && put({ ...parts, clauses: parts.clauses.map((one, i) => (i === at ? { ...one, ...part } : one)) });
  const add = (left: string) =>
    put({
      joined: parts?.joined ?? "and",
      clauses: [...(parts?.clauses ?? []), { left, how: "is", right: [""], value: false }],
    });

  if (typed || !parts)
    return (
      <div className="min-w-0 flex-1">
        <Input
          aria-label={label}
          placeholder={empty || 'verdict.text is "high" and search.count > 3'}
          className="font-serif"
          value={value}
          onChange={(event) => onChange(event.target.value)}
        />
        {parts && (
          <button
            type="button"
            className="mt-0.5 text-xs text-leaf underline underline-offset-2"
            onClick={() => setTyped(false)}
          >
            In rows
          </button>
        )}
      </div>
    );
  const known = new Map(flat(branches(values)).map((node) => [node.path, node]));
  return (
    <div className="min-w-0 flex-1 space-y-1.5" role="group" aria-label={label}>
      {parts.clauses.length === 0 && empty && <p className="font-serif text-sm text-soft italic">{empty}</p>}
      {parts.clauses.map((one, i) => {
        const real = known.get(one.left);
        return (
          <div key={i} className="grid grid-cols-[3.2rem_minmax(0,1fr)_auto] items-start gap-x-2 gap-y-1">
            {i === 0 ? (
              <span className="pt-1 text-right text-xs text-soft">if</span>
            ) : i === 1 ? (
              <Choice
                aria-label="All or any of them"
                className="!px-0.5 text-xs"
                value={parts.joined}
                onChange={(event) => put({ ...parts, joined: event.target.value })}
              >
                <option value="and">and</option>
                <option value="or">or</option>
              </Choice>
            ) : (
              <span className="pt-1 text-right text-xs text-soft">{parts.joined}</span>
            )}
            <div className="grid grid-cols-[minmax(0,1fr)_9rem_minmax(0,1fr)] gap-1.5">
              <button
                type="button"
                title={real ? brief(real) : undefined}
                className="min-w-0 truncate rounded border border-rule bg-sheet px-2 py-1 text-left text-sm"
                onClick={() => setPicking(i)}
              >
                <span className="sr-only">Value to look at: </span>
                <span className="slot">{one.left}</span>
                {real?.known && <span className="ml-1.5 text-xs text-soft">{brief(real)}</span>}
              </button>
              <Choice
                aria-label="How it is compared"
                value={one.how}
                onChange={(event) => change(i, { how: event.target.value })}
              >
                {HOWS.map((how) => (
                  <option key={how}>{how}</option>
                ))}
              </Choice>
              {ALONE.has(one.how) ? (
                <span />
              ) : (
                <Input
                  aria-label={MANY.has(one.how) ? "With what, parted by commas" : "With what"}
                  placeholder={MANY.has(one.how) ? "one, another, …" : ""}
                  value={(one.right ?? []).join(", ")}
                  onChange={(event) =>
                    change(i, {
                      right: MANY.has(one.how) ? event.target.value.split(/,\s?/) : [event.target.value],
                      value: false,
                    })
                  }
                />
              )}
            </div>
            <Button
              look="quiet"
              aria-label={`Remove the comparison of ${one.left}`}
              onClick={() => put({ ...parts, clauses: parts.clauses.filter((_, j) => j !== i) })}
            >
              Remove
            </Button>
          </div>
        );
      })}
      <span className={`flex gap-3 text-xs ${parts.clauses.length ? "pl-[3.7rem]" : ""}`}>
        <button type="button" className="text-leaf underline underline-offset-2" onClick={() => setPicking(-1)}>
          {parts.clauses.length ? "Add a comparison" : "Set a condition"}
        </button>
        <button type="button" className="text-soft underline underline-offset-2" onClick={() => setTyped(true)}>
          Type it
        </button>
      </span>
      {picking !== null && (
        <Suspense fallback={null}>
          <ValuePicker
            values={values}
            onClose={() => setPicking(null)}
            onTake={(path) => {
              if (picking < 0) add(path);
              else change(picking, { left: path });
              setPicking(null);
            }}
          />
        </Suspense>
      )}
    </div>
  );
}
