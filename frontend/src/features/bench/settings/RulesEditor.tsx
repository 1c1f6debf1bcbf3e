import { Button } from "../../../components/Button";
import { Choice, Input } from "../../../components/Field";

export type RuleDoc = {
  rule: string;
  strength?: "must" | "should";
  most?: number | null;
  least?: number | null;
  text?: string;
  words?: string[];
  pace?: number;
  code?: string;
  allowed?: string[];
  field?: string;
};

const NEW: [string, RuleDoc][] = [
  ["Greatest length", { rule: "length", most: 300 }],
  ["Number of hashtags", { rule: "hashtags", least: 1, most: 2 }],
  ["No emoji", { rule: "no_emoji" }],
  ["No quotation marks round it", { rule: "no_quotes" }],
  ["Nothing but the piece", { rule: "only_the_piece" }],
  ["Must contain …", { rule: "contains", text: "<<feed.link>>" }],
  ["Must say one of …", { rule: "says", words: ["seed"] }],
  ["Must not say …", { rule: "lacks", words: ["amazing"] }],
  ["Number of words", { rule: "words", most: 120 }],
  ["Number of sentences", { rule: "sentences", most: 5 }],
  ["Seconds it takes to say", { rule: "spoken", most: 30, pace: 150 }],
  ["Number of links", { rule: "links", least: 1, most: 1 }],
  ["Number of mentions", { rule: "mentions", least: 0, most: 1 }],
  ["Number of emoji", { rule: "emoji", least: 0, most: 1 }],
  ["Easy to read", { rule: "easy", least: 60 }],
  ["In a language", { rule: "language", code: "en" }],
  ["Clean HTML", { rule: "html" }],
  ["Unlike what went out before", { rule: "unlike", most: 60 }],
  ["Its links answer", { rule: "links_answer" }],
  ["Numbers that add up", { rule: "adds_up", field: "words", text: "1000" }],
];

const LANGUAGES: [string, string][] = [
  ["en", "English"],
  ["de", "German"],
  ["fr", "French"],
  ["es", "Spanish"],
  ["it", "Italian"],
  ["nl", "Dutch"],
  ["pt", "Portuguese"],
  ["pl", "Polish"],
  ["sv", "Swedish"],
  ["da", "Danish"],
  ["no", "Norwegian"],
  ["fi", "Finnish"],
  ["cs", "Czech"],
  ["tr", "Turkish"],
];

/** The rules of a draft as sentences with blanks, each a must or a should. */
export function RulesEditor({
  rules,
  wrong,
  onChange,
}: {
  rules: RuleDoc[];
  wrong: string[];
  onChange: (rules: RuleDoc[]) => void;
}) {
  const change = (i: number, part: Partial<RuleDoc>) =>
    onChange(rules.map((r, j) => (j === i ? { ...r, ...part } : r)));
  return (
    <div>
      <div className="mb-0.5 text-xs text-soft">Rules, measured on every draft</div>
      <ul className="border-t border-line">
        {rules.map((rule, i) => (
          <li
            key={`${i} ${rule.rule} ${rules.length}`}
            className="flex items-center gap-2 border-b border-line py-1 text-sm"
          >
            <div className="flex min-w-0 flex-1 flex-wrap items-center gap-1.5">
              <Blank rule={rule} change={(part) => change(i, part)} />
            </div>
            <Choice
              aria-label="How strict"
              className="!w-auto"
              value={rule.strength ?? "must"}
              onChange={(e) => change(i, { strength: e.target.value as "must" | "should" })}
            >
              <option value="must">must</option>
              <option value="should">should</option>
            </Choice>
            <Button
              look="quiet"
              aria-label="Remove this rule"
              onClick={() => onChange(rules.filter((_, j) => j !== i))}
            >
              Remove
            </Button>
          </li>
        ))}
      </ul>
      {wrong.map((words) => (
        <p key={words} className="mt-1 text-xs text-brick">
          {words}
        </p>
      ))}
      <Choice
        aria-label="Add a rule"
        className="mt-1.5 !w-auto"
        value=""
        onChange={(e) => {
          const found = NEW.find(([name]) => name === e.target.value);
          if (found) onChange([...rules, found[1]]);
        }}
      >
        <option value="">Add a rule …</option>
        {NEW.map(([name]) => (
          <option key={name}>{name}</option>
        ))}
      </Choice>
    </div>
  );
}

function Blank({ rule, change }: { rule: RuleDoc; change: (part: Partial<RuleDoc>) => void }) {
  const number = (name: "most" | "least", label: string) => (
    <Input
      aria-label={label}
      type="number"
      min={0}
      className="!w-20"
      value={rule[name] ?? ""}
      onChange={(e) => change({ [name]: e.target.value === "" ? null : Number(e.target.value) })}
    />
  );
  switch (rule.rule) {
    case "length":
      return (
        <>
          At most {number("most", "Greatest length")} characters, at least {number("least", "Least length")}
        </>
      );
    case "hashtags":
      return (
        <>
          From {number("least", "Fewest hashtags")} to {number("most", "Most hashtags")} hashtags
        </>
      );
    case "adds_up":
      return (
        <>
          The{" "}
          <Input
            aria-label="Which field"
            className="!w-24"
            value={rule.field ?? ""}
            onChange={(e) => change({ field: e.target.value })}
          />{" "}
          of all items add up to{" "}
          <Input
            aria-label="The total"
            className="!w-32"
            value={rule.text ?? ""}
            onChange={(e) => change({ text: e.target.value })}
          />
        </>
      );
    case "unlike":
      return (
        <>At most {number("most", "Most like an earlier piece, in per cent")} % like any piece that went out before</>
      );
    case "links_answer":
      return <>Every link in it leads somewhere</>;
    case "contains":
      return (
        <>
          Contains{" "}
          <Input
            aria-label="What it must contain"
            className="!w-56"
            value={rule.text ?? ""}
            onChange={(e) => change({ text: e.target.value })}
          />
        </>
      );
    case "words":
    case "sentences":
      return (
        <>
          At most {number("most", `Most ${rule.rule}`)} {rule.rule}, at least {number("least", `Fewest ${rule.rule}`)}
        </>
      );
    case "links":
    case "mentions":
    case "emoji":
      return (
        <>
          From {number("least", `Fewest ${rule.rule}`)} to {number("most", `Most ${rule.rule}`)} {rule.rule}
        </>
      );
    case "spoken":
      return (
        <>
          Said in at most {number("most", "Most seconds")} seconds, at
          <Input
            aria-label="Words a minute"
            type="number"
            min={60}
            max={300}
            className="!w-20"
            value={rule.pace ?? 150}
            onChange={(e) => change({ pace: Number(e.target.value) })}
          />
          words a minute
        </>
      );
    case "easy":
      return <>Reading ease of at least {number("least", "Least reading ease")} (60 is plain, 30 hard)</>;
    case "language":
      return (
        <>
          Written in{" "}
          <Choice
            aria-label="Language"
            className="!w-auto"
            value={rule.code ?? "en"}
            onChange={(e) => change({ code: e.target.value })}
          >
            {LANGUAGES.map(([code, name]) => (
              <option key={code} value={code}>
                {name}
              </option>
            ))}
          </Choice>
        </>
      );
    case "html":
      return <>Well-formed HTML of plain elements, no scripts</>;
    case "says":
    case "lacks":
      return (
        <>
          {rule.rule === "says" ? "Says one of " : "Never says "}
          <Input
            aria-label={
              rule.rule === "says"
                ? "Words of which it must say one, with commas between"
                : "Words it must not use, with commas between"
            }
            className="!w-56"
            defaultValue={(rule.words ?? []).join(", ")}
            onChange={(e) => {
              const words = e.target.value
                .split(",")
                .map((w) => w.trim())
                .filter(Boolean);
              if (words.length) change({ words });
            }}
          />
        </>
      );
    default:
      return <>{NEW.find(([, r]) => r.rule === rule.rule)?.[0] ?? rule.rule}</>;
  }
}
