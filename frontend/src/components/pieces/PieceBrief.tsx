import type { Schemas } from "../../api/client";
import { useKept } from "../../api/files";
import { count } from "../words";

type Brief = Schemas["Brief"];

const ALONG: Record<Brief["form"], [string, string] | null> = {
  post: null,
  article: null,
  listing: null,
  letter: ["file", "files"],
  mailing: ["file", "files"],
  message: ["more part", "more parts"],
  file: ["file in it", "files in it"],
  act: null,
};

/** A piece in a few words, for a cell or a list: what stands above its text, its first words, its picture. The spaces between
 * part its words where only text is read. */
export function PieceBrief({ piece, lines, small = false }: { piece: Brief; lines?: number; small?: boolean }) {
  const kept = useKept();
  const clamp = lines ? { WebkitLineClamp: lines } : undefined;
  const isLetter = piece.form === "letter" || piece.form === "mailing";
  const head = small ? "text-sm" : "text-reading";
  return (
    <>
      {piece.picture && (
        <img
          src={kept(piece.picture)}
          alt=""
          className={`mb-1 max-w-full self-start border border-line ${small ? "max-h-24" : "max-h-40"}`}
        />
      )}
      {isLetter && <p className="truncate text-xs text-soft">To {piece.to}</p>}
      {piece.form === "listing" && piece.to && <p className="truncate text-xs text-soft">{piece.to}</p>}{" "}
      {piece.head && piece.form !== "listing" && (
        <p
          className={
            isLetter || piece.form === "article"
              ? `font-serif font-semibold leading-snug ${head} ${small ? "line-clamp-2" : ""}`
              : "text-sm [overflow-wrap:anywhere]"
          }
        >
          {piece.head}
        </p>
      )}{" "}
      {piece.text && (
        <div
          style={clamp}
          className={`${clamp ? "cut" : ""} leading-snug ${piece.form === "act" || piece.form === "file" ? "whitespace-pre-wrap text-xs text-soft [overflow-wrap:anywhere]" : `piece ${head}`}`}
        >
          {piece.text}
        </div>
      )}{" "}
      {piece.form === "listing" && piece.head && <Button words={piece.head} small />}{" "}
      {piece.along > 0 && ALONG[piece.form] && (
        <p className="mt-0.5 text-xs text-soft">with {count(piece.along, ...ALONG[piece.form]!)}</p>
      )}
    </>
  );
}

/** A button as a listing shows it: what it says, in its place; it leads nowhere from here. */
export function Button({ words, small = false }: { words: string; small?: boolean }) {
  return (
    <span
      className={`mt-1 inline-block self-start border border-rule px-2 font-semibold ${small ? "text-xs" : "py-0.5 text-sm"}`}
    >
      {words}
    </span>
  );
}
