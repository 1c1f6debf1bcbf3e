/** How a question is answered that is no draft: in words, by choosing, by filling in, or with yes or no. */
import type { Schemas } from "../../../api/client";
import { KEPT, useKept } from "../../../api/files";
import { Area } from "../../../components/Field";
import { type Filled, FormFields } from "../../../components/FormFields";
import { Linked } from "../../../components/Piece";

type Asks = Schemas["AnswerForm"];
/** What was given so far: the words, and what was chosen. */
export type Given = { words: string; number?: number; yes?: boolean };

export function AnswerBox({
  asks,
  given,
  filled,
  onGive,
  onSend,
  boxRef,
}: {
  asks: Asks;
  given: Given;
  filled: Filled;
  onGive: (given: Given) => void;
  onSend: () => void;
  boxRef?: React.RefObject<HTMLTextAreaElement | null>;
}) {
  const words = (label: string, rows = 4) => (
    <Area
      ref={boxRef}
      rows={rows}
      className="mb-3"
      aria-label={label}
      placeholder={label}
      value={given.words}
      onChange={(e) => onGive({ ...given, words: e.target.value })}
      onKeyDown={(e) => {
        if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) onSend();
      }}
    />
  );
  switch (asks.form) {
    case "choose":
      return (
        <>
          <div role="radiogroup" aria-label="Which one" className="mb-3 grid gap-3 sm:grid-cols-2">
            {asks.options.map((option, n) => (
              // biome-ignore lint/a11y/useSemanticElements: the whole of what is chosen is pressed
              <button
                key={`${n} ${option.name}`}
                type="button"
                role="radio"
                aria-checked={given.number === n + 1}
                onClick={() => onGive({ ...given, number: n + 1 })}
                className={`flex flex-col items-start justify-start rounded border px-4 py-3 text-left ${given.number === n + 1 ? "border-leaf bg-shade" : "border-line hover:border-rule"}`}
              >
                <span className="mb-1 block text-xs text-soft">
                  {given.number === n + 1 ? "●" : "○"} {n + 1}. {option.name}
                </span>
                <Shown option={option} />
              </button>
            ))}
          </div>
          {words("Why, if you like", 2)}
        </>
      );
    case "fill":
      return (
        <div className="mb-4 max-w-xl">
          <FormFields fields={asks.fields} filled={filled} />
        </div>
      );
    case "yes_no":
      return (
        <>
          <div role="radiogroup" aria-label="Yes or no" className="mb-3 flex gap-2">
            {[true, false].map((yes) => (
              // biome-ignore lint/a11y/useSemanticElements: two large buttons, for a thumb
              <button
                key={String(yes)}
                type="button"
                role="radio"
                aria-checked={given.yes === yes}
                onClick={() => onGive({ ...given, yes })}
                className={`rounded border px-6 py-2 ${given.yes === yes ? "border-leaf bg-shade" : "border-line hover:border-rule"}`}
              >
                {given.yes === yes ? "● " : "○ "}
                {yes ? "Yes" : "No"}
              </button>
            ))}
          </div>
          {words("A reason, if you like", 2)}
        </>
      );
    default:
      return words("Your answer");
  }
}

function Shown({ option }: { option: Asks["options"][number] }) {
  const kept = useKept();
  const here = KEPT.test(option.text) || option.text.startsWith("/");
  return option.picture ? (
    here ? (
      <img src={kept(option.text)} alt={option.name} className="max-h-64 max-w-full border border-line" />
    ) : (
      <span className="text-sm [overflow-wrap:anywhere] text-soft">picture at {option.text}</span>
    )
  ) : (
    <span className="piece block leading-relaxed whitespace-pre-wrap">
      <Linked text={option.text} />
    </span>
  );
}

/** What is given in an answer, as the server takes it; nothing where something is still missing. */
export function givenOf(asks: Asks, given: Given, filled: Filled): Record<string, unknown> | null {
  switch (asks.form) {
    case "choose":
      return given.number ? { number: given.number } : null;
    case "yes_no":
      return given.yes === undefined ? null : { yes: given.yes };
    case "fill":
      return filled.values;
    default:
      return given.words.trim() ? {} : null;
  }
}
