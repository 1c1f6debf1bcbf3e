import { useState } from "react";
import { reached } from "./keys";
import { Linked } from "./Piece";

/** What stands for nothing. */
const Nothing = () => <span className="text-soft">empty</span>;

const PICTURE = /^(data:image\/(png|jpeg|gif|webp);base64,|https?:\/\/\S+\.(png|jpe?g|gif|webp)(\?\S*)?$)/i;
const MARKUP = /^\s*<(!doctype|html|body|div|p|table|h[1-6]|ul|ol|section|article)\b[\s\S]*<\/\w+>\s*$/i;
const FIRST = 30;

type Bundle = Record<string, unknown>;
const isBundle = (value: unknown): value is Bundle => !!value && typeof value === "object" && !Array.isArray(value);

/** Any value as a reader would want to see it: text, picture, page, list, table, mail or tree. */
export function Shown({ value }: { value: unknown }) {
  if (value === null || value === undefined || value === "") return <Nothing />;
  if (typeof value === "string") {
    if (PICTURE.test(value)) return <Picture source={value} />;
    if (MARKUP.test(value)) return <Markup html={value} />;
    return (
      <span className="whitespace-pre-wrap [overflow-wrap:anywhere]">
        <Linked text={value} />
      </span>
    );
  }
  if (typeof value === "boolean") return <>{value ? "yes" : "no"}</>;
  if (Array.isArray(value)) {
    if (!value.length) return <Nothing />;
    return value.every(isBundle) ? <Rows rows={value} /> : <Items items={value} />;
  }
  if (isBundle(value)) {
    if (!Object.keys(value).length) return <Nothing />;
    return isMail(value) ? <Mail mail={value} /> : <Tree values={value} />;
  }
  return <>{String(value)}</>;
}

/** Named values, one under another; long ones scroll, bundles fold. */
export function Tree({ values, slots = false }: { values: Bundle; slots?: boolean }) {
  return (
    <dl className="grid grid-cols-[minmax(4rem,8rem)_minmax(0,1fr)] gap-x-4 gap-y-2 text-sm">
      {Object.entries(values).map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="[overflow-wrap:anywhere] text-soft">{slots ? <span className="slot">{name}</span> : name}</dt>
          <dd className="max-h-80 min-w-0 overflow-y-auto">
            <Shown value={value} />
          </dd>
        </div>
      ))}
    </dl>
  );
}

function Items({ items }: { items: unknown[] }) {
  const [all, setAll] = useState(false);
  const shown = all ? items : items.slice(0, FIRST);
  return (
    <>
      <ol className="space-y-1">
        {shown.map((one, i) => (
          <li key={i} className="grid grid-cols-[1.6rem_minmax(0,1fr)] gap-1">
            <span className="text-right text-xs leading-5 text-soft">{i + 1}</span>
            <Shown value={one} />
          </li>
        ))}
      </ol>
      <More shown={shown.length} of={items.length} onAll={() => setAll(true)} />
    </>
  );
}

const isLong = (value: unknown) => (JSON.stringify(value) ?? "").length > 200;
const isShort = (value: unknown) => String(value ?? "").length <= 14;

/** Moments to the minute; everything else as it is. */
const shortened = (value: unknown) =>
  typeof value === "string" && /^\d{4}-\d\d-\d\dT\d\d:\d\d/.test(value) ? value.slice(0, 16).replace("T", " ") : value;

/** A list of bundles as a table, a column for each name. */
function Rows({ rows }: { rows: Bundle[] }) {
  const [all, setAll] = useState(false);
  const names = [...new Set(rows.slice(0, 200).flatMap((row) => Object.keys(row)))];
  const shown = all ? rows : rows.slice(0, FIRST);
  return (
    <>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keys */}
      <section className="max-h-96 overflow-auto border-y border-line" tabIndex={0} aria-label="Table">
        <table className="w-full border-collapse text-sm">
          <thead>
            <tr>
              <th className="sticky top-0 bg-paper px-2 py-1 text-right text-xs font-normal text-soft">#</th>
              {names.map((name) => (
                <th key={name} className="sticky top-0 bg-paper px-2 py-1 text-left text-xs font-normal text-soft">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((row, i) => (
              <tr key={i} className="border-t border-line align-top">
                <td className="px-2 py-1 text-right text-xs text-soft">{i + 1}</td>
                {names.map((name) => (
                  <td key={name} className={`max-w-80 px-2 py-1 ${isShort(row[name]) ? "whitespace-nowrap" : ""}`}>
                    {/* What is longer than its cell can be reached and scrolled by keys. */}
                    <div className="max-h-28 overflow-y-auto" {...(isLong(row[name]) ? reached(name) : {})}>
                      {name in row ? <Shown value={shortened(row[name])} /> : <span className="text-soft">–</span>}
                    </div>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <More shown={shown.length} of={rows.length} onAll={() => setAll(true)} />
    </>
  );
}

function More({ shown, of, onAll }: { shown: number; of: number; onAll: () => void }) {
  if (shown >= of) return null;
  return (
    <button type="button" className="mt-1 text-xs text-leaf underline underline-offset-2" onClick={onAll}>
      Show all {of}
    </button>
  );
}

function Picture({ source }: { source: string }) {
  const [broken, setBroken] = useState(false);
  if (broken)
    return (
      <span className="[overflow-wrap:anywhere]">
        <span className="text-brick">This picture cannot be shown.</span> {source.slice(0, 200)}
      </span>
    );
  return (
    <img
      src={source.startsWith("data:") ? source : `/api/pictures?address=${encodeURIComponent(source)}`}
      alt="Made or found by this line"
      className="max-h-80 max-w-full border border-line"
      onError={() => setBroken(true)}
    />
  );
}

/** Markup as it will look; nothing in it can run or reach out. */
export function Markup({ html }: { html: string }) {
  const [source, setSource] = useState(false);
  return (
    <div>
      {source ? (
        <pre className="max-h-80 overflow-auto text-xs whitespace-pre-wrap">{html}</pre>
      ) : (
        <iframe
          title="As it will look"
          sandbox=""
          srcDoc={`<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src data:; style-src 'unsafe-inline'"><style>body{font:16px/1.5 Georgia,serif;margin:12px;background:#fff;color:#222}img{max-width:100%}</style>${html}`}
          className="h-80 w-full border border-line bg-white"
        />
      )}
      <button
        type="button"
        className="mt-1 text-xs text-leaf underline underline-offset-2"
        onClick={() => setSource(!source)}
      >
        {source ? "As it will look" : "The markup"}
      </button>
    </div>
  );
}

const isMail = (value: Bundle) => "subject" in value && ("text" in value || "html" in value);
const HEAD: [string, string[]][] = [
  ["From", ["sender_name", "sender", "from"]],
  ["To", ["to"]],
  ["Date", ["date"]],
];

/** A mail as its reader would see it; what else it holds stands under it. */
export function Mail({ mail }: { mail: Bundle }) {
  const known = new Set(["subject", "text", "html", "title", ...HEAD.flatMap(([, names]) => names)]);
  const rest = Object.fromEntries(Object.entries(mail).filter(([name, value]) => !known.has(name) && value));
  const words = (names: string[]) =>
    [...new Set(names.map((name) => mail[name]).filter(Boolean))].map(String).join(", ");
  return (
    <div>
      <div className="border-y border-rule bg-sheet">
        <div className="border-b border-line px-3 py-2 text-xs text-soft">
          {HEAD.filter(([, names]) => words(names)).map(([title, names]) => (
            <div key={title}>
              {title}: {words(names)}
            </div>
          ))}
          <div className="mt-1 font-serif text-base text-ink">{String(mail.subject || "(no subject)")}</div>
        </div>
        <div className="px-3 py-2">
          {mail.html ? (
            <Markup html={String(mail.html)} />
          ) : (
            <div className="piece">
              <Linked text={String(mail.text ?? "")} />
            </div>
          )}
        </div>
      </div>
      {Object.keys(rest).length > 0 && (
        <details className="mt-2">
          <summary className="cursor-pointer text-xs text-soft">Everything else it holds</summary>
          <div className="mt-2">
            <Tree values={rest} />
          </div>
        </details>
      )}
    </div>
  );
}
