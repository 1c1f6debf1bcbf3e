import type { Schemas } from "../../api/client";
import { useKept } from "../../api/files";
import { Away } from "../Away";
import { Counter, Linked } from "../Piece";
import { Prose } from "../Prose";
import { CameBack } from "./CameBack";
import { MailingFull } from "./MailingFull";
import { Button } from "./PieceBrief";
import { Files, HEADS, Head, kindOf, LetterBody, Shown, size } from "./parts";

type View = Schemas["PieceView"];

/** Forms below which stands what came back; letters and mailings say it at their head. */
const OF_NUMBERS = ["post", "article", "listing"];

/** A piece as its readers get it, in its form; under it what its channel would refuse. The same wherever it is shown. */
export function PieceFull({ view }: { view: View }) {
  return (
    <div>
      <Form view={view} />
      {OF_NUMBERS.includes(view.piece.form) && view.id != null && view.state === "sent" && <CameBack id={view.id} />}
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
          <dl className={HEADS}>
            <Head title="From">{piece.sender}</Head>
            <Head title="To">{piece.to.join(", ")}</Head>
            {piece.cc.length > 0 && <Head title="Copy to">{piece.cc.join(", ")}</Head>}
            {piece.reply_to && <Head title="Answers to">{piece.reply_to}</Head>}
            {piece.thread && <Head title="Follows">an earlier letter</Head>}
            {piece.mailing && <Head title="One of">{piece.mailing}</Head>}
          </dl>
          {view.id != null && view.state === "sent" && <CameBack id={view.id} inset />}
          <LetterBody letter={piece} />
        </article>
      );
    case "mailing":
      return <MailingFull view={view} mailing={piece} />;
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
