import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { KEPT, useKept } from "../../api/files";
import * as reads from "../../api/reads";
import { Away } from "../Away";
import { Counter, Linked } from "../Piece";
import { Prose } from "../Prose";
import { Markup } from "../Values";
import { Button } from "./PieceBrief";

type View = Schemas["PieceView"];
type Attached = Schemas["Attached"];

/** A piece as its readers get it, in its form; under it what its channel would refuse. The same wherever it is shown. */
export function PieceFull({ view }: { view: View }) {
  return (
    <div>
      <Form view={view} />
      {view.refused.map((words) => (
        <p key={words} className="mt-2 text-sm text-brick">
          ✕ {words}
        </p>
      ))}
    </div>
  );
}

function Form({ view }: { view: View }) {
  const kept = useKept();
  const piece = view.piece;
  switch (piece.form) {
    case "post":
      return (
        <article>
          {piece.answers && (
            <p className="mb-2 text-xs text-soft">
              answers{" "}
              <Away to={piece.answers} className="underline [overflow-wrap:anywhere]">
                {piece.answers}
              </Away>
            </p>
          )}
          <div className="piece text-lead leading-relaxed">
            <Linked text={piece.text} />
          </div>
          {piece.pictures.map((picture) => (
            <Shown key={picture.link} picture={picture} />
          ))}
          {piece.tags.length > 0 && <p className="mt-2 text-sm text-soft">tagged {piece.tags.join(", ")}</p>}
          {piece.also.length > 0 && <p className="text-sm text-soft">handed on to {piece.also.join(", ")}</p>}
          <Counter length={view.brief.length ?? 0} limit={view.brief.limit} counted={view.counted} />
        </article>
      );
    case "article":
      return (
        <article className="border border-line bg-sheet px-5 py-4">
          {(piece.held_back || piece.changes) && (
            <p className="mb-1 text-xs text-soft">
              {[piece.held_back && "a draft there", piece.changes && `in the place of ${piece.changes}`]
                .filter(Boolean)
                .join(", ")}
            </p>
          )}
          <h3 className="font-serif text-2xl leading-tight font-semibold [overflow-wrap:anywhere]">{piece.title}</h3>
          {piece.summary && <p className="mt-2 font-serif text-soft italic">{piece.summary}</p>}
          {piece.pictures
            .filter((picture) => !picture.inside)
            .map((picture) => (
              <Shown key={picture.link} picture={picture} />
            ))}
          <Prose html={piece.html} />
          {piece.categories.length > 0 && <p className="mt-2 text-sm text-soft">under {piece.categories.join(", ")}</p>}
        </article>
      );
    case "listing":
      return (
        <article className="max-w-md border border-line bg-sheet px-4 py-3">
          {piece.place && <p className="text-sm font-semibold">{piece.place}</p>}
          {piece.pictures.map((picture) => (
            <Shown key={picture.link} picture={picture} />
          ))}
          <div className="piece mt-2 leading-relaxed">
            <Linked text={piece.text} />
          </div>
          {piece.button && (
            <p className="mt-1 [overflow-wrap:anywhere]">
              <Button words={piece.button} />{" "}
              <Away to={piece.link} className="text-xs text-soft underline">
                {piece.link}
              </Away>
            </p>
          )}
          {view.takes.length !== null && (
            <Counter length={view.brief.length ?? 0} limit={view.brief.limit} counted={view.counted} />
          )}
        </article>
      );
    case "letter":
      return (
        <article className="border border-line bg-sheet">
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-0.5 border-b border-line px-4 py-3 text-sm">
            <Head title="From">{piece.sender}</Head>
            <Head title="To">{piece.to.join(", ")}</Head>
            {piece.cc.length > 0 && <Head title="Copy to">{piece.cc.join(", ")}</Head>}
            {piece.reply_to && <Head title="Answers to">{piece.reply_to}</Head>}
            {piece.thread && <Head title="Follows">an earlier letter</Head>}
            {piece.mailing && <Head title="One of">{piece.mailing}</Head>}
          </dl>
          <h3 className="px-4 pt-3 font-serif text-xl leading-snug font-semibold">{piece.subject}</h3>
          <div className="px-4 pt-1 pb-3">
            {piece.html ? (
              <Page html={piece.html} files={piece.files} />
            ) : (
              <div className="piece pt-2 leading-relaxed">
                <Linked text={piece.text} />
              </div>
            )}
          </div>
          <Files files={piece.files.filter((file) => !file.inside)} />
        </article>
      );
    case "message": {
      const parts = piece.parts.length ? piece.parts : [piece.text];
      return (
        <article className="space-y-2">
          {parts.map((part, n) => (
            <div key={n} className="border-l-2 border-rule pl-3">
              <div className="piece leading-relaxed">
                <Linked text={part} />
              </div>
              {parts.length > 1 && (
                <p className="text-xs text-soft">
                  part {n + 1} of {parts.length}
                </p>
              )}
            </div>
          ))}
          {view.takes.length !== null && (
            <Counter length={view.brief.length ?? 0} limit={view.brief.limit} counted={view.counted} />
          )}
        </article>
      );
    }
    case "file":
      return (
        <article>
          <p className="text-sm">
            {piece.file ? (
              <a
                href={kept(piece.file)}
                className="font-semibold text-leaf underline underline-offset-2 [overflow-wrap:anywhere]"
              >
                {piece.path}
              </a>
            ) : (
              <span className="font-semibold [overflow-wrap:anywhere]">{piece.path}</span>
            )}{" "}
            <span className="text-xs text-soft">
              {[kindOf(piece.name, piece.type), size(piece.size)].filter(Boolean).join(" · ")}
            </span>
          </p>
          <Files files={piece.files} />
          {piece.file && piece.type.startsWith("image/") ? (
            <Shown picture={{ link: piece.file, words: piece.name }} />
          ) : piece.text && (piece.file || piece.type === "text/html") ? (
            <div className="mt-2 border border-line bg-sheet px-5 py-4">
              <Prose html={piece.text} />
            </div>
          ) : piece.text ? (
            <div className="piece mt-2 border-l-2 border-line pl-3 text-sm">{piece.text}</div>
          ) : null}
        </article>
      );
    case "act":
      return (
        <article className="text-sm">
          <p className="[overflow-wrap:anywhere]">
            <span className="font-semibold">{piece.method}</span> {piece.url}
          </p>
          {Object.keys(piece.headers ?? {}).length > 0 && (
            <dl className="mt-2 grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 text-xs text-soft">
              {Object.entries(piece.headers ?? {}).map(([name, value]) => (
                <Head key={name} title={name}>
                  {value}
                </Head>
              ))}
            </dl>
          )}
          {piece.body !== null && piece.body !== undefined && (
            <pre className="mt-2 max-h-96 overflow-auto border-l-2 border-line pl-3 text-xs whitespace-pre-wrap [overflow-wrap:anywhere]">
              {typeof piece.body === "string" ? piece.body : JSON.stringify(piece.body, null, 2)}
            </pre>
          )}
        </article>
      );
  }
}

function Head({ title, children }: { title: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-soft">{title}</dt>
      <dd className="[overflow-wrap:anywhere]">{children}</dd>
    </>
  );
}

function Shown({ picture }: { picture: Pick<Attached, "link" | "words"> }) {
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

function Files({ files }: { files: readonly Attached[] }) {
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
const kindOf = (name: string, type: string) =>
  name.includes(".") && type.startsWith("application/") ? name.split(".").at(-1)!.toUpperCase() : type;

const size = (bytes: number) =>
  !bytes
    ? ""
    : bytes >= 1_000_000
      ? `${(bytes / 1_000_000).toFixed(1)} MB`
      : `${Math.max(1, Math.round(bytes / 1000))} kB`;
