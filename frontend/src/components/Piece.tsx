import { Fragment, type ReactNode } from "react";
import { characters } from "./words";

/** A post as it will appear: links and hashtags set off, the counter under it. */
export function Post({ text, limit, small = false }: { text: string; limit?: number | null; small?: boolean }) {
  return (
    <div>
      <div className={`piece ${small ? "text-reading leading-snug" : "text-lead leading-relaxed"}`}>
        <Linked text={text} />
      </div>
      <Counter length={characters(text)} limit={limit} />
    </div>
  );
}

/** Characters used of those allowed, as a line that fills and in figures. */
export function Counter({
  length,
  limit,
  counted = "characters",
}: {
  length: number;
  limit?: number | null;
  counted?: string;
}) {
  const over = !!limit && length > limit;
  return (
    <div className={`mt-2 flex items-center gap-2 text-xs ${over ? "text-brick" : "text-soft"}`}>
      {limit ? (
        <span aria-hidden className="h-[3px] w-24 overflow-hidden rounded bg-line">
          <span
            className={`block h-full ${over ? "bg-brick" : "bg-leaf"}`}
            style={{ width: `${Math.min(100, (100 * length) / limit)}%` }}
          />
        </span>
      ) : null}
      <span>
        {length}
        {limit ? ` of ${limit}` : ""} {counted || "characters"}
        {over ? `, ${length - limit} too many` : ""}
      </span>
    </div>
  );
}

/** Text with its links and hashtags in colour; links open elsewhere. */
export function Linked({ text }: { text: string }): ReactNode {
  return text.split(/(https?:\/\/[^\s<>"”]+|#\w+)/g).map((part, i) =>
    /^https?:/.test(part) ? (
      <a
        key={i}
        href={part}
        target="_blank"
        rel="noreferrer"
        className="text-leaf underline underline-offset-2"
        tabIndex={-1}
      >
        {part}
      </a>
    ) : /^#\w/.test(part) ? (
      <span key={i} className="text-leaf">
        {part}
      </span>
    ) : (
      <Fragment key={i}>{part}</Fragment>
    ),
  );
}
