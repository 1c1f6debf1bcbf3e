import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Area, Field } from "../../components/Field";
import { Linked } from "../../components/Piece";
import { Failed, Loading } from "../../components/Quiet";
import { Sure } from "../../components/Sure";
import { say, sayError } from "../../components/Toast";
import { Verdict } from "../../components/Voice";
import { when } from "../../components/words";

type Brand = Schemas["BrandView"];
type Doc = Schemas["BrandBody"];

const PAUSE = 500;
const FACTS: [string, string, string][] = [
  ["about", "What they are", "One sentence that could follow the name."],
  ["audience", "Whom they speak to", ""],
  ["promise", "What they promise", ""],
  ["never", "Never says", "A word or phrase on each line. A rule for every draft of this brand."],
  ["always", "Always says one of", "A word or phrase on each line; every text must say one of them. Empty: none."],
  ["editor", "Who passes its drafts", "A mail address; lines that ask people may name it by <<brand.editor>>."],
];

/** One brand: facts and voice to be written, its examples, and how far what went out is from them. */
export function BrandPage({ brand, maker }: { brand: string; maker: boolean }) {
  const found = useQuery(reads.brand(brand));
  if (found.isPending) return <Loading what="Fetching the brand …" />;
  if (found.isError) return <Failed error={found.error} again={() => found.refetch()} />;
  return <Written brand={found.data} maker={maker} />;
}

function Written({ brand, maker }: { brand: Brand; maker: boolean }) {
  const path = { params: { path: { key: brand.key } } };
  const owner = may(useSession().data, "owner");
  const go = useNavigate();
  const [doc, setDoc] = useState<Doc>({
    name: brand.name,
    facts: brand.facts,
    liked: brand.liked,
    disliked: brand.disliked,
  });
  const [saved, setSaved] = useState("");
  const latest = useRef(doc);
  const timer = useRef(0);
  const dirty = useRef(false);

  async function save() {
    dirty.current = false;
    try {
      await mutate(
        api.PUT("/api/brands/{key}", { ...path, body: latest.current }),
        "brand",
        "brands",
        "voice",
        "bench",
      );
      setSaved("Saved");
    } catch (error) {
      dirty.current = true;
      setSaved(`Not saved: ${(error as Error).message}`);
    }
  }
  function alter(part: Partial<Doc>) {
    const next = { ...latest.current, ...part };
    latest.current = next;
    dirty.current = true;
    setDoc(next);
    setSaved("Saving …");
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(save, PAUSE);
  }
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the page is left
  useEffect(
    () => () => {
      window.clearTimeout(timer.current);
      if (dirty.current) save();
    },
    [],
  );
  async function remove() {
    try {
      window.clearTimeout(timer.current);
      await mutate(api.DELETE("/api/brands/{key}", path), "brands");
      dirty.current = false;
      say(`${brand.name} is deleted.`);
      go("/brands");
    } catch (error) {
      sayError(error);
    }
  }
  const fact = (name: string, value: string) => alter({ facts: { ...latest.current.facts, [name]: value } });
  const like = (text: string) => alter({ liked: [...latest.current.liked, text] });

  return (
    <div className="grid min-w-0 content-start lg:grid-cols-[minmax(0,1fr)_25rem]">
      <div className="min-w-0 space-y-7 px-8 py-6">
        <div className="flex items-baseline gap-4">
          <input
            aria-label="The brand’s name"
            value={doc.name}
            readOnly={!maker}
            maxLength={120}
            onChange={(e) => e.target.value.trim() && alter({ name: e.target.value })}
            className="min-w-0 flex-1 rounded bg-transparent font-serif text-3xl font-semibold tracking-tight hover:bg-shade"
          />
          <span role="status" className={`text-sm ${saved.startsWith("Not") ? "text-brick" : "text-soft"}`}>
            {saved}
          </span>
        </div>
        <section className="space-y-3">
          {FACTS.map(([name, label, help]) => (
            <Field key={name} label={label} help={help}>
              <Area
                rows={2}
                readOnly={!maker}
                value={doc.facts[name] ?? ""}
                onChange={(e) => fact(name, e.target.value)}
                className="font-serif !text-reading"
              />
            </Field>
          ))}
        </section>
        <Guide brand={brand} value={doc.facts.voice ?? ""} maker={maker} onChange={(text) => fact("voice", text)} />
        <Lessons
          brand={brand.key}
          maker={maker}
          facts={doc.facts}
          onFact={(name, line) => fact(name, [doc.facts[name]?.trim(), line].filter(Boolean).join("\n"))}
        />
        <Examples
          title="Liked examples"
          about="Pieces that sound right. The voice is measured from them, and <<brand.liked>> puts them into a prompt."
          texts={doc.liked}
          maker={maker}
          onChange={(liked) => alter({ liked })}
        />
        <Examples
          title="Disliked examples"
          about="Pieces that sound wrong; <<brand.disliked>> puts them into a prompt."
          texts={doc.disliked}
          maker={maker}
          onChange={(disliked) => alter({ disliked })}
        />
        {brand.used_by.length > 0 && (
          <p className="text-xs text-soft">Used by {brand.used_by.map((name) => `“${name}”`).join(", ")}.</p>
        )}
        {owner && (
          <Sure
            question={`Delete ${brand.name}?`}
            lost="Its facts, voice, examples and limits are gone for good. What went out for it stays on record."
            yes="Delete it"
            onYes={remove}
          >
            Delete the brand …
          </Sure>
        )}
      </div>
      <aside aria-label="How it sounds" className="border-l border-line bg-sheet px-6 py-6 lg:min-h-[calc(100vh-45px)]">
        <Measured brand={brand} />
        <h2 className="smallcaps mt-8 mb-2 text-soft">Went out lately</h2>
        {brand.recent.length === 0 && <p className="text-sm text-soft">Nothing went out yet.</p>}
        <ul>
          {brand.recent.map((piece, n) => (
            <li key={n} className="border-t border-line py-3">
              <p className="piece line-clamp-5 text-reading leading-snug">
                <Linked text={piece.text} />
              </p>
              <div className="mt-1.5 flex items-start gap-3">
                <div className="min-w-0 flex-1">
                  {piece.verdict ? (
                    <Verdict verdict={piece.verdict} differences={piece.differences.slice(0, 3)} />
                  ) : (
                    piece.at && <span className="text-xs text-soft">{when(piece.at)}</span>
                  )}
                  {piece.despite.length > 0 && (
                    <p className="text-xs text-brick">let out although it breaks: {piece.despite.join("; ")}</p>
                  )}
                </div>
                {maker && !doc.liked.includes(piece.text.trim()) && (
                  <Button look="quiet" className="shrink-0 !px-1 text-xs" onClick={() => like(piece.text)}>
                    Like it
                  </Button>
                )}
              </div>
            </li>
          ))}
        </ul>
      </aside>
    </div>
  );
}

/** What approvers change again and again in the brand’s drafts: a word never to be said, or a line for the voice. */
function Lessons({
  brand,
  maker,
  facts,
  onFact,
}: {
  brand: string;
  maker: boolean;
  facts: Record<string, string>;
  onFact: (name: "never" | "voice", line: string) => void;
}) {
  const found = useQuery(reads.brandLessons(brand));
  const banned = (one: Schemas["LessonView"]) =>
    one.rule?.rule === "lacks" ? ((one.rule.words as string[])[0] ?? "") : "";
  const open = (found.data ?? []).filter(
    (one) =>
      !(facts.voice ?? "").includes(one.line ?? "") &&
      !(banned(one) && (facts.never ?? "").toLowerCase().split("\n").includes(banned(one))),
  );
  if (!open.length) return null;
  return (
    <section>
      <h2 className="smallcaps text-lg">What approvers change</h2>
      <p className="mb-2 text-xs text-soft">The same in several drafts. Take what holds for all of them.</p>
      <ul>
        {open.map((one) => (
          <li key={one.says} className="flex flex-wrap items-baseline gap-x-3 border-t border-line py-1.5 text-sm">
            <span className="min-w-0 flex-1">
              {one.says}{" "}
              <span className="text-xs text-soft">
                in {one.count} of {one.of} changed drafts
              </span>
            </span>
            {maker && banned(one) && <Button onClick={() => onFact("never", banned(one))}>Never say it</Button>}
            {maker && one.line && <Button onClick={() => onFact("voice", one.line!)}>Add it to the voice</Button>}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The voice in words: written by hand, or by a model from the examples and then read. */
function Guide({
  brand,
  value,
  maker,
  onChange,
}: {
  brand: Brand;
  value: string;
  maker: boolean;
  onChange: (text: string) => void;
}) {
  const [offer, setOffer] = useState<Schemas["Guide"] | null>(null);
  const [busy, setBusy] = useState(false);
  async function write() {
    setBusy(true);
    try {
      const made = await mutate(
        api.POST("/api/brands/{key}/guide", { params: { path: { key: brand.key } } }),
        "nothing",
      );
      setOffer(made);
    } catch (error) {
      sayError(error);
    } finally {
      setBusy(false);
    }
  }
  return (
    <section>
      <Field label="Voice" help="How they write. <<brand.voice>> puts it into a prompt.">
        <Area
          rows={4}
          readOnly={!maker}
          value={value}
          onChange={(e) => onChange(e.target.value)}
          className="font-serif !text-reading"
        />
      </Field>
      {maker && (
        <Button className="mt-2" disabled={busy || brand.liked.length === 0} onClick={write}>
          {busy ? "Writing …" : "Write a guide from the examples"}
        </Button>
      )}
      {maker && brand.liked.length === 0 && (
        <span className="ml-3 text-xs text-soft">Add a few liked examples first.</span>
      )}
      {offer && (
        <div className="mt-3 border-l-2 border-leaf pl-4">
          <p className="smallcaps mb-1 text-soft">Proposed: read it before you take it</p>
          <ul>
            {offer.points.map((point) => (
              <li key={point.says} className="mb-2">
                <p>{point.says}</p>
                {point.shown.map((sentence) => (
                  <p key={sentence} className="piece pl-4 text-reading leading-snug text-soft">
                    “{sentence}”
                  </p>
                ))}
              </li>
            ))}
          </ul>
          <div className="mt-2 flex gap-2">
            <Button
              look="main"
              onClick={() => {
                onChange(offer.text);
                setOffer(null);
                say("Taken as the voice. Change it as you like.");
              }}
            >
              Take it
            </Button>
            <Button look="quiet" onClick={() => setOffer(null)}>
              Leave it
            </Button>
          </div>
        </div>
      )}
    </section>
  );
}

function Examples({
  title,
  about,
  texts,
  maker,
  onChange,
}: {
  title: string;
  about: string;
  texts: string[];
  maker: boolean;
  onChange: (texts: string[]) => void;
}) {
  const [text, setText] = useState("");
  const add = () => {
    if (!text.trim()) return;
    onChange([...texts, text.trim()]);
    setText("");
  };
  return (
    <section>
      <h2 className="smallcaps text-lg">{title}</h2>
      <p className="mb-2 text-xs text-soft">{about}</p>
      <ul>
        {texts.map((one, n) => (
          <li key={one} className="flex items-start gap-3 border-t border-line py-2">
            <p className="piece min-w-0 flex-1 text-reading leading-snug">
              <Linked text={one} />
            </p>
            {maker && (
              <Button look="quiet" className="shrink-0" onClick={() => onChange(texts.filter((_, m) => m !== n))}>
                Remove
              </Button>
            )}
          </li>
        ))}
      </ul>
      {maker && (
        <form
          className="flex items-start gap-2 border-t border-line pt-2"
          onSubmit={(e) => {
            e.preventDefault();
            add();
          }}
        >
          <Area
            rows={2}
            aria-label={`Add to ${title.toLowerCase()}`}
            placeholder="Paste a piece here"
            value={text}
            onChange={(e) => setText(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) add();
            }}
          />
          <Button type="submit" disabled={!text.trim()}>
            Add
          </Button>
        </form>
      )}
    </section>
  );
}

/** What was measured of the liked examples, and of what went out lately beside it. */
function Measured({ brand }: { brand: Brand }) {
  if (!brand.measures.length)
    return (
      <>
        <h2 className="smallcaps mb-2 text-soft">How it sounds</h2>
        <p className="text-sm text-soft">Add liked examples, and their style is measured here.</p>
      </>
    );
  const figure = (value: number) => (value >= 10 || Number.isInteger(value) ? value.toFixed(0) : value.toFixed(1));
  return (
    <>
      <h2 className="smallcaps mb-2 text-soft">How it sounds</h2>
      <table className="w-full text-sm">
        <thead className="text-xs text-soft">
          <tr>
            <th className="pb-1 text-left font-normal">Middle values</th>
            <th className="pb-1 text-right font-normal">liked</th>
            <th className="pb-1 text-right font-normal">lately</th>
          </tr>
        </thead>
        <tbody>
          {brand.measures.map((one) => (
            <tr key={one.name} className="border-t border-line">
              <td className="py-0.5">
                {one.title} <span className="text-xs text-soft">{one.unit}</span>
              </td>
              <td className="text-right tabular-nums">{figure(one.examples)}</td>
              <td className="text-right text-soft tabular-nums">{one.pieces == null ? "–" : figure(one.pieces)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-sm">
        Speaks as <em className="font-serif">{brand.person}</em>, begins with{" "}
        <em className="font-serif">{brand.opening}</em>.
      </p>
    </>
  );
}
