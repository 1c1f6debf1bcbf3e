import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../../api/client";
import * as reads from "../../../api/reads";

type Offer = Schemas["OfferView"];

type Props = {
  workflow: number;
  version: number;
  /** The line that what is looked for follows; empty for the start itself. */
  line: string;
  depth: number;
  onTake: (offer: Offer) => void;
  /** Have what was typed turned into lines, in words of one's own. */
  onSay: (words: string) => void;
  onClose: () => void;
};

/** Say in words what happens next; what makes most sense here stands first. */
export function Finder({ workflow, version, line, depth, onTake, onSay, onClose }: Props) {
  const [words, setWords] = useState("");
  const [at, setAt] = useState(0);
  const input = useRef<HTMLInputElement>(null);
  const list = useRef<HTMLDivElement>(null);
  const offers = useQuery(reads.offers(workflow, version, line, words));
  const kinds = byKind(offers.data ?? []);
  const found = kinds.flat();
  // What is more than a name of a line can be said as it is.
  const sayable = line !== "" && words.trim().split(/\s+/).length > 2;
  const last = found.length - 1 + (sayable ? 1 : 0);
  const saying = sayable && at >= found.length && !offers.isPending;
  const chosen = saying ? undefined : found[Math.min(at, found.length - 1)];
  const from = useRef<HTMLElement | null>(null);
  const [height, setHeight] = useState(320);
  useEffect(() => {
    from.current = document.activeElement as HTMLElement | null;
    input.current?.focus();
    input.current?.scrollIntoView({ block: "center" });
    // As much of the window as there is below what is typed.
    const below = window.innerHeight - (input.current?.getBoundingClientRect().bottom ?? 0) - 20;
    setHeight(Math.max(260, below));
  }, []);
  // biome-ignore lint/correctness/useExhaustiveDependencies: it grows with what is found
  useEffect(() => {
    // At the end of a page the offers reach below what is in sight.
    list.current?.scrollIntoView({ block: "nearest" });
  }, [found.length]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is chosen is kept in sight
  useEffect(() => {
    list.current?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" });
  }, [at]);

  const soon = useRef(false);
  useEffect(() => {
    if (!soon.current || offers.isPlaceholderData || !offers.isSuccess) return;
    soon.current = false;
    if (chosen) onTake(chosen);
  });

  /** To the next kind, or the one before; what can be said as it is stands last. */
  function step(by: number) {
    const starts = [...kinds.map((of) => found.indexOf(of[0]!)), ...(sayable ? [found.length] : [])];
    const here = starts.findLastIndex((start) => start <= Math.min(at, last));
    setAt(starts[Math.min(starts.length - 1, Math.max(0, here + by))] ?? 0);
  }
  /** To another target of the same kind, where the arrow is not needed in what was typed. */
  function sidewards(by: number): boolean {
    const of = kinds.find((one) => one.includes(chosen!)) ?? [];
    const to = of[of.indexOf(chosen!) + by];
    const caret = input.current?.selectionStart ?? 0;
    if (!to || (by > 0 ? caret < words.length : caret > 0 && caret < words.length)) return false;
    setAt(found.indexOf(to));
    return true;
  }

  function press(event: React.KeyboardEvent) {
    if (event.key === "ArrowDown") step(1);
    else if (event.key === "ArrowUp") step(-1);
    else if (event.key === "ArrowRight" || event.key === "ArrowLeft") {
      if (!sidewards(event.key === "ArrowRight" ? 1 : -1)) return;
    } else if (event.key === "Enter") {
      if (saying) onSay(words.trim());
      // What was typed last counts, even if its offers are still on their way.
      else if (offers.isPlaceholderData || offers.isPending) soon.current = true;
      else if (chosen) onTake(chosen);
    } else if (event.key === "Escape") {
      onClose();
      // Back to where one was.
      if (from.current?.isConnected) from.current.focus({ preventScroll: true });
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** One offer: its own words, or (as one of several of its kind) only what it is for. */
  const option = (offer: Offer, target?: string) => (
    <button
      key={offer.title}
      type="button"
      id={`offer-${found.indexOf(offer)}`}
      role="option"
      tabIndex={-1}
      aria-selected={offer === chosen}
      aria-label={target ? offer.title : undefined}
      onMouseMove={() => setAt(found.indexOf(offer))}
      onClick={() => onTake(offer)}
      className={
        target
          ? `rounded border px-2 py-0.5 text-sm ${offer === chosen ? "border-leaf bg-leaf text-onleaf" : "border-rule bg-sheet"}`
          : "py-1.5 text-left"
      }
    >
      {target || (
        <>
          <span className="font-serif">{offer.title}</span>
          <span className="block text-xs text-soft">{offer.about}</span>
          {offer.lacks && <span className="block text-xs text-ochre">{offer.lacks}</span>}
        </>
      )}
    </button>
  );
  let before = "";
  return (
    <div className="relative py-2 pr-3 pl-[5.4rem]" style={{ marginLeft: `${depth * 1.1}rem` }}>
      <input
        ref={input}
        role="combobox"
        aria-expanded
        aria-controls="offers"
        aria-activedescendant={saying ? "offer-said" : chosen ? `offer-${found.indexOf(chosen)}` : undefined}
        aria-label={line ? "What happens next?" : "What sets it off?"}
        placeholder={line ? "What happens next?" : "What sets it off?"}
        value={words}
        onChange={(event) => {
          setWords(event.target.value);
          setAt(0);
        }}
        onKeyDown={press}
        onBlur={(event) => !event.currentTarget.parentElement?.contains(event.relatedTarget) && onClose()}
        className="w-full border-b-2 border-leaf bg-transparent py-0.5 font-serif text-reading outline-none placeholder:text-soft placeholder:italic"
      />
      <div
        ref={list}
        id="offers"
        role="listbox"
        aria-label="What can come next"
        style={{ maxHeight: height }}
        className="absolute left-[3.2rem] z-30 mt-1 w-[30rem] overflow-y-auto rounded-md border border-rule bg-sheet py-1 shadow-lg"
      >
        {offers.isError && <p className="px-3 py-2 text-sm text-brick">{(offers.error as Error).message}</p>}
        {offers.isPending && <p className="px-3 py-2 text-sm text-soft">Looking …</p>}
        {offers.isSuccess && found.length === 0 && (
          <p className="px-3 py-2 text-sm text-soft">
            Nothing here does that. Try other words, such as “read”, “draft”, “ask”, “post”, “row”, “for each”.
          </p>
        )}
        {kinds.map((of) => {
          const { stage, about, kind, kind_title } = of[0]!;
          const head = stage === before ? "" : stage;
          before = stage;
          const several = of.length > 1;
          return (
            <div
              key={`${kind}${of[0]!.title}`}
              role="group"
              aria-label={several ? kind_title : undefined}
              className={`grid w-full gap-3 px-3 ${line ? "grid-cols-[4rem_1fr]" : ""} ${of.includes(chosen!) ? "bg-leafwash" : ""}`}
            >
              {line && <span className="smallcaps pt-2 text-right text-soft">{head}</span>}
              {several ? (
                <div className="py-1.5">
                  <span className="font-serif">{kind_title}</span>
                  <span className="block text-xs text-soft">{about}</span>
                  <span className="mt-1 flex flex-wrap gap-1">
                    {of.map((offer) => option(offer, offer.target ?? ""))}
                  </span>
                </div>
              ) : (
                option(of[0]!)
              )}
            </div>
          );
        })}
        {sayable && (
          <button
            type="button"
            id="offer-said"
            role="option"
            tabIndex={-1}
            aria-selected={saying}
            onMouseMove={() => setAt(found.length)}
            onClick={() => onSay(words.trim())}
            className={`grid w-full grid-cols-[4rem_1fr] gap-3 border-t border-line px-3 py-1.5 text-left ${saying ? "bg-leafwash" : ""}`}
          >
            <span />
            <span>
              <span className="font-serif">Have “{words.trim()}” put in</span>
              <span className="block text-xs text-soft">A model turns it into lines. You see them first.</span>
            </span>
          </button>
        )}
      </div>
    </div>
  );
}

/** Offers of one kind together, in the order in which the first of each comes. */
function byKind(offers: Offer[]): Offer[][] {
  const kinds = new Map<string, Offer[]>();
  for (const offer of offers) {
    const key = offer.target ? offer.kind : `${offer.kind} ${offer.title}`;
    kinds.set(key, [...(kinds.get(key) ?? []), offer]);
  }
  return [...kinds.values()];
}
