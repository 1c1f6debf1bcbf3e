/** Controls of texts: with slots, plain, long, numbers and lengths of time. */
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import * as reads from "../../../../api/reads";
import { Area, Field, Input } from "../../../../components/Field";
import { Duration } from "./Duration";
import type { ControlProps } from "./types";

const SlotEditor = lazy(() => import("../../slots/SlotEditor"));

function Slots({ long, ...c }: ControlProps & { long?: boolean }) {
  return (
    <Field group label={c.label} help={c.help} wrong={c.wrong}>
      <Suspense
        fallback={
          <div data-late className="rounded border border-line p-2 text-sm whitespace-pre-wrap text-soft">
            {String(c.value ?? "")}
          </div>
        }
      >
        <SlotEditor
          label={c.label}
          value={String(c.value ?? "")}
          values={c.values}
          problems={c.problems}
          long={long}
          disabled={c.disabled}
          onChange={c.set}
          onRun={c.onRun}
        />
      </Suspense>
    </Field>
  );
}

export const SlotText = (props: ControlProps) => <Slots {...props} />;
export const LongSlotText = (props: ControlProps) => <Slots {...props} long />;

/** People by mail address or slot; colleagues and those asked before are offered by name. */
export function People(c: ControlProps) {
  const known = useQuery(reads.people());
  const value = String(c.value ?? "");
  const named = new Set(value.split(/[,;\n]/).map((one) => one.trim().toLowerCase()));
  const others = (known.data ?? []).filter((one) => !named.has(one.who.toLowerCase())).slice(0, 8);
  return (
    <div>
      <Slots {...c} />
      {others.length > 0 && !c.disabled && (
        <p className="mt-1 flex flex-wrap gap-1 text-xs">
          {others.map((one) => (
            <button
              key={one.who}
              type="button"
              title={one.who}
              className="rounded border border-line px-1.5 py-0.5 text-soft hover:bg-shade hover:text-ink"
              onClick={() => c.set(value.trim() ? `${value.trim().replace(/[,;]$/, "")}, ${one.who}` : one.who)}
            >
              + {one.name || one.who}
            </button>
          ))}
        </p>
      )}
    </div>
  );
}

function Line({ type, ...c }: ControlProps & { type: "text" | "email" | "url" }) {
  return (
    <Field label={c.label} help={c.help} wrong={c.wrong}>
      <Input type={type} value={String(c.value ?? "")} onChange={(e) => c.set(e.target.value)} />
    </Field>
  );
}

export const PlainText = (props: ControlProps) => <Line {...props} type="text" />;
export const MailAddress = (props: ControlProps) => <Line {...props} type="email" />;
export const WebAddress = (props: ControlProps) => <Line {...props} type="url" />;

export const LongText = (c: ControlProps) => (
  <Field label={c.label} help={c.help} wrong={c.wrong}>
    <Area rows={3} value={String(c.value ?? "")} onChange={(e) => c.set(e.target.value)} />
  </Field>
);

export const NumberOf = (c: ControlProps) => (
  <Field label={c.label} help={c.help} wrong={c.wrong}>
    <Input
      type="number"
      step={c.property.type === "integer" ? 1 : 0.1}
      min={c.property.minimum}
      max={c.property.maximum}
      value={c.value === null || c.value === undefined ? "" : Number(c.value)}
      onChange={(e) => c.set(e.target.value === "" ? (c.property.default ?? null) : Number(e.target.value))}
    />
  </Field>
);

export const LengthOfTime = (c: ControlProps) => (
  <Field group label={c.label} wrong={c.wrong}>
    <Duration label={c.label} seconds={Number(c.value ?? 0)} onChange={c.set} />
  </Field>
);
