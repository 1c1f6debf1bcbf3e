import { type FormEvent, useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Area, Choice, Field, Input } from "../../components/Field";
import { say, sayError } from "../../components/Toast";
import { Whose } from "../../components/Whose";

type Property = {
  title?: string;
  description?: string;
  type?: string;
  default?: unknown;
  enum?: string[];
  labels?: Record<string, string>;
  maxLength?: number;
  last?: boolean;
  with?: string;
  under?: string;
  of?: string;
  anyOf?: { type?: string }[];
  $ref?: string;
  allOf?: unknown;
};

/** A setting that may have more characters than these is written in lines. */
const LONG = 1000;

type Props = {
  kind: Schemas["ConnectionKindView"];
  connection: Schemas["ConnectionView"] | null;
  redirect: string;
  onClose: () => void;
  /** It is kept, under this key. */
  onKept?: (key: string) => void;
};

/** A connection's settings, made from its kind's schema. Secrets can be put in, and never read out. */
export function ConnectionForm({ kind, connection, redirect, onClose, onKept }: Props) {
  const [name, setName] = useState(connection?.name ?? "");
  const [settings, setSettings] = useState<Record<string, unknown>>(connection?.settings ?? {});
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const [brand, setBrand] = useState(connection?.brand ?? "");
  const [wrong, setWrong] = useState("");
  const granted = !!kind.bearer && !["no", undefined].includes(settings.oauth as string | undefined);
  const properties = Object.entries((kind.form.properties ?? {}) as Record<string, Property>)
    .filter(([, property]) => (!property.with || granted) && (property.of !== "pieces" || kind.sends))
    .sort(([, a], [, b]) => Number(!!a.last) - Number(!!b.last));
  // What OAuth grants takes the place of a token that is typed in.
  const typed = Object.entries(kind.secrets).filter(([key]) => key !== (granted ? kind.bearer : "client_secret"));
  const set = (key: string, value: unknown) => setSettings((before) => ({ ...before, [key]: value }));

  const shown = (some: [string, Property][]) =>
    some.map(([key, property]) => (
      <Setting
        key={key}
        property={property}
        value={settings[key] ?? property.default}
        set={(value) => set(key, value)}
      />
    ));

  async function save(event: FormEvent) {
    event.preventDefault();
    setWrong("");
    const body = { kind: kind.name, name, settings, secrets, brand };
    try {
      if (connection)
        await mutate(
          api.PUT("/api/connections/{key}", { params: { path: { key: connection.key } }, body }),
          "connections",
          "catalogue",
        );
      else {
        const { key } = await mutate(api.POST("/api/connections", { body }), "connections", "catalogue", "today");
        if (onKept) return onKept(key);
      }
      say(
        settings.oauth === "authorization_code"
          ? `${name} is kept. Connect it next.`
          : `${name} is kept. Test it next.`,
      );
      onClose();
    } catch (error) {
      setWrong((error as Error).message);
    }
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title={connection ? `Change ${connection.name}` : `Add: ${kind.title.toLowerCase()}`}
      about={kind.about}
    >
      <form onSubmit={save} className="space-y-3">
        <Field label="Name here">
          <Input required maxLength={120} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        {!kind.tool && (
          <Whose
            value={brand}
            all="everybody’s"
            help="A brand’s own is seen and used by its people only."
            onChange={setBrand}
          />
        )}
        {shown(properties.filter(([, property]) => !property.under))}
        {settings.oauth === "authorization_code" && (
          <Field label="Redirect address" help="Put it in where the other side asks for one.">
            <span className="flex gap-2">
              <Input readOnly value={redirect} onFocus={(e) => e.target.select()} />
              <Button onClick={() => navigator.clipboard.writeText(redirect).then(() => say("Copied."), sayError)}>
                Copy
              </Button>
            </span>
          </Field>
        )}
        {typed.map(([key, title]) => (
          <Field
            key={key}
            label={title}
            help={connection?.secrets_set.includes(key) ? "Kept sealed. Leave empty to keep it as it is." : undefined}
          >
            <Input
              type="password"
              autoComplete="new-password"
              placeholder={connection?.secrets_set.includes(key) ? "••••••••" : ""}
              value={secrets[key] ?? ""}
              onChange={(e) => setSecrets({ ...secrets, [key]: e.target.value })}
            />
          </Field>
        ))}
        {[...new Set(properties.flatMap(([, property]) => property.under ?? []))].map((heading) => {
          const inside = properties.filter(([, property]) => property.under === heading);
          return (
            <details key={heading} open={inside.some(([key, p]) => isSet(connection?.settings[key], p)) || undefined}>
              <summary className="cursor-pointer text-xs text-soft">{heading}</summary>
              <div className="mt-2 space-y-3">{shown(inside)}</div>
            </details>
          );
        })}
        {wrong && (
          <p role="alert" className="text-sm text-brick">
            {wrong}
          </p>
        )}
        <div className="flex gap-2 pt-2">
          <Button look="main" type="submit">
            Keep
          </Button>
          <Button look="quiet" onClick={onClose}>
            Leave it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

/** Whether a setting says something else than it does by itself. */
const isSet = (value: unknown, property: Property) =>
  value !== undefined && value !== null && value !== "" && value !== property.default;

function Setting({ property, value, set }: { property: Property; value: unknown; set: (value: unknown) => void }) {
  const label = property.title ?? "";
  if (property.$ref || property.allOf) {
    const prices = (value ?? {}) as { input?: number; output?: number };
    return (
      <div className="grid grid-cols-2 gap-3">
        {(["input", "output"] as const).map((side) => (
          <Field key={side} label={`${label}, ${side === "input" ? "going in" : "coming out"}`}>
            <Input
              type="number"
              min={0}
              step="any"
              value={prices[side] ?? 0}
              onChange={(e) => set({ ...prices, [side]: Number(e.target.value) })}
            />
          </Field>
        ))}
      </div>
    );
  }
  if (property.type === "boolean") {
    return (
      <label className="flex items-center gap-2 text-sm">
        <input type="checkbox" checked={!!value} onChange={(e) => set(e.target.checked)} /> {label}
      </label>
    );
  }
  const optional = !!property.anyOf;
  const number = [property.type, ...(property.anyOf ?? []).map((a) => a.type)].some(
    (type) => type === "integer" || type === "number",
  );
  if (property.enum)
    return (
      <Field label={label} help={property.description}>
        <Choice value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
          {property.enum.map((word) => (
            <option key={word} value={word}>
              {property.labels?.[word] ?? word}
            </option>
          ))}
        </Choice>
      </Field>
    );
  if (!number && (property.maxLength ?? 0) > LONG)
    return (
      <Field label={label} help={property.description}>
        <Area rows={4} value={String(value ?? "")} onChange={(e) => set(e.target.value)} />
      </Field>
    );
  return (
    <Field label={label} help={property.description}>
      <Input
        type={number ? "number" : "text"}
        step={number ? "any" : undefined}
        value={value === null || value === undefined ? "" : String(value)}
        onChange={(e) =>
          set(number ? (e.target.value === "" && optional ? null : Number(e.target.value)) : e.target.value)
        }
      />
    </Field>
  );
}
