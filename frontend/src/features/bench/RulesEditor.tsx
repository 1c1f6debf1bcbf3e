import { Button } from "../../components/Button";
import { Choice, Input } from "../../components/Field";

export type RuleDoc = {
  rule: string;
  strength?: "must" | "should";
  most?: number | null;
  least?: number | null;
  text?: string;
  words?: string[];
};

const NEW: [string, RuleDoc][] = [
  ["Greatest length", { rule: "length", most: 300 }],
  ["Number of hashtags", { rule: "hashtags", least: 1, most: 2 }],
  ["No emoji", { rule: "no_emoji" }],
  ["No quotation marks round it", { rule: "no_quotes" }],
  ["Nothing but the piece", { rule: "only_the_piece" }],
  ["Must contain …", { rule: "contains", text: "<<feed.link>>" }],
  ["Must not say …", { rule: "lacks", words: ["amazing"] }],
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
    case "lacks":
      return (
        <>
          Never says{" "}
          <Input
            aria-label="Words it must not use, with commas between"
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
