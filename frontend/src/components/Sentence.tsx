import type { Part } from "../api/client";

/** A line of the page as a sentence: slots as quiet marks, gaps underlined. */
export function Sentence({ parts }: { parts: Part[] }) {
  return (
    <>
      {parts.map((part, i) =>
        part.what === "slot" ? (
          <span key={i} className="slot">
            {part.text}
          </span>
        ) : part.what === "gap" ? (
          <span key={i} className="gap">
            {part.text}
          </span>
        ) : part.what === "value" ? (
          <span key={i} className="italic [overflow-wrap:anywhere]">
            {shortUrl(part.text)}
          </span>
        ) : (
          <span key={i}>{part.text}</span>
        ),
      )}
    </>
  );
}

function shortUrl(text: string): string {
  const url = /^https?:\/\/([^/]+)(.*)$/.exec(text);
  if (!url) return text;
  const tail = url[2]!.split("/").filter(Boolean).slice(-2).join("/");
  return tail ? `${url[1]} … ${tail}` : url[1]!;
}
