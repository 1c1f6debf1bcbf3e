/** What pieces of several forms are made of: heads, pictures, files, a letter's page. */
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { KEPT, useKept } from "../../api/files";
import * as reads from "../../api/reads";
import { Away } from "../Away";
import { Linked } from "../Piece";
import { Markup } from "../Values";

type Attached = Schemas["Attached"];

export const HEADS = "grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-0.5 border-b border-line px-4 py-3 text-sm";

/** What a letter says: its subject, its page or text, its files. */
export function LetterBody({ letter }: { letter: Schemas["Letter"] }) {
  return (
    <>
      <h3 className="px-4 pt-3 font-serif text-xl leading-snug font-semibold">{letter.subject}</h3>
      <div className="px-4 pt-1 pb-3">
        {letter.html ? (
          <Page html={letter.html} files={letter.files} />
        ) : (
          <div className="piece pt-2 leading-relaxed">
            <Linked text={letter.text} />
          </div>
        )}
      </div>
      <Files files={letter.files.filter((file) => !file.inside)} />
    </>
  );
}

export function Head({ title, children }: { title: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-soft">{title}</dt>
      <dd className="[overflow-wrap:anywhere]">{children}</dd>
    </>
  );
}

export function Shown({ picture }: { picture: Pick<Attached, "link" | "words"> }) {
  const kept = useKept();
  return KEPT.test(picture.link) || picture.link.startsWith("/") ? (
    <figure className="mt-3">
      <img
        src={kept(picture.link)}
        alt={picture.words || "Goes along with it"}
        className="max-h-96 max-w-full border border-line"
      />
      {picture.words && <figcaption className="mt-0.5 text-xs text-soft">shows: {picture.words}</figcaption>}
    </figure>
  ) : (
    <p className="mt-2 text-sm text-soft">
      with the picture at{" "}
      <Away to={picture.link} className="text-leaf underline">
        {picture.link}
      </Away>
      {picture.words && `, which shows: ${picture.words}`}
    </p>
  );
}

export function Files({ files }: { files: readonly Attached[] }) {
  const kept = useKept();
  if (!files.length) return null;
  return (
    <ul className="border-t border-line px-4 py-2 text-sm">
      {files.map((file) => (
        <li key={file.link}>
          <a className="text-leaf underline underline-offset-2" href={kept(file.link)}>
            {file.name || file.link}
          </a>{" "}
          <span className="text-xs text-soft">{size(file.size)}</span>
        </li>
      ))}
    </ul>
  );
}

/** A letter's page; the pictures in it are put in as its readers' mail programs do, since the frame may fetch nothing. */
function Page({ html, files }: { html: string; files: readonly Attached[] }) {
  const links = files.filter((file) => file.inside).map((file) => file.link);
  const kept = useKept();
  const pictures = useQuery({ ...reads.pictures(links, kept), enabled: links.length > 0 });
  const page = links.reduce((page, link) => page.replaceAll(link, pictures.data?.[link] ?? ""), html);
  return <Markup html={page} />;
}

/** What a file is, in a word: by its ending, for the long names of media types say little. */
export const kindOf = (name: string, type: string) =>
  name.includes(".") && type.startsWith("application/") ? name.split(".").at(-1)!.toUpperCase() : type;

export const size = (bytes: number) =>
  !bytes
    ? ""
    : bytes >= 1_000_000_000
      ? `${(bytes / 1_000_000_000).toFixed(1)} GB`
      : bytes >= 1_000_000
        ? `${(bytes / 1_000_000).toFixed(1)} MB`
        : `${Math.max(1, Math.round(bytes / 1000))} kB`;
