import type { Schemas } from "../../api/client";
import { kept } from "../../api/files";
import { count } from "../words";

type Brief = Schemas["Brief"];

const ALONG: Record<Brief["form"], [string, string] | null> = {
  post: null,
  letter: ["file", "files"],
  message: ["more part", "more parts"],
  file: null,
  act: null,
};

/** A piece in a few words, for a cell or a list: what stands above its text, its first words, its picture. The spaces between
 * part its words where only text is read. */
export function PieceBrief({ piece, lines, small = false }: { piece: Brief; lines?: number; small?: boolean }) {
  const clamp = lines ? { WebkitLineClamp: lines } : undefined;
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
      {piece.form === "letter" && <p className="truncate text-xs text-soft">To {piece.to}</p>}{" "}
      {piece.head && (
        <p
          className={
            piece.form === "letter"
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
      {piece.along > 0 && ALONG[piece.form] && (
        <p className="mt-0.5 text-xs text-soft">with {count(piece.along, ...ALONG[piece.form]!)}</p>
      )}
    </>
  );
}
