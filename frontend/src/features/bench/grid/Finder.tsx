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
  const found = offers.data ?? [];
  // What is more than a name of a line can be said as it is.
  const sayable = line !== "" && words.trim().split(/\s+/).length > 2;
  const last = found.length - 1 + (sayable ? 1 : 0);
  const saying = sayable && at >= found.length && !offers.isPending;
  const chosen = saying ? undefined : found[Math.min(at, found.length - 1)];
  useEffect(() => {
    input.current?.focus();
    input.current?.scrollIntoView({ block: "center" });
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

  function press(event: React.KeyboardEvent) {
    if (event.key === "ArrowDown") setAt(Math.min(last, at + 1));
    else if (event.key === "ArrowUp") setAt(Math.max(0, at - 1));
    else if (event.key === "Enter") {
      if (saying) onSay(words.trim());
      // What was typed last counts, even if its offers are still on their way.
      else if (offers.isPlaceholderData || offers.isPending) soon.current = true;
      else if (chosen) onTake(chosen);
    } else if (event.key === "Escape") onClose();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

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
        className="absolute left-[3.2rem] z-30 mt-1 max-h-80 w-[30rem] overflow-y-auto rounded-md border border-rule bg-sheet py-1 shadow-lg"
      >
        {offers.isError && <p className="px-3 py-2 text-sm text-brick">{(offers.error as Error).message}</p>}
        {offers.isPending && <p className="px-3 py-2 text-sm text-soft">Looking …</p>}
        {offers.isSuccess && found.length === 0 && (
          <p className="px-3 py-2 text-sm text-soft">
            Nothing here does that. Try other words, such as “read”, “draft”, “ask”, “post”, “row”, “for each”.
          </p>
        )}
        {found.map((offer, i) => {
          const stage = offer.stage === before ? "" : offer.stage;
          before = offer.stage;
          return (
            <button
              key={`${offer.kind}${offer.title}`}
              type="button"
              id={`offer-${i}`}
              role="option"
              tabIndex={-1}
              aria-selected={offer === chosen}
              onMouseMove={() => setAt(i)}
              onClick={() => onTake(offer)}
              className={`grid w-full gap-3 px-3 py-1.5 text-left ${line ? "grid-cols-[4rem_1fr]" : ""} ${offer === chosen ? "bg-leafwash" : ""}`}
            >
              {line && <span className="smallcaps pt-0.5 text-right text-soft">{stage}</span>}
              <span>
                <span className="font-serif">{offer.title}</span>
                <span className="block text-xs text-soft">{offer.about}</span>
                {offer.lacks && <span className="block text-xs text-ochre">{offer.lacks}</span>}
              </span>
            </button>
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
