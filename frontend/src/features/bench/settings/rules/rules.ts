/** Rules as data: what can be added, what one may be about, and numbers that come from values. */

export type RuleDoc = {
  rule: string;
  strength?: "must" | "should";
  /** A field of the answer or a part of the text; empty for the whole. */
  of?: string;
  most?: number | null;
  least?: number | null;
  /** Numbers that come from a text with slots. */
  slots?: Record<string, string>;
  text?: string;
  words?: string[];
  pace?: number;
  code?: string;
  allowed?: string[];
  field?: string;
};

export type Bound = "most" | "least";

export const NEW: [string, RuleDoc][] = [
  ["Greatest length", { rule: "length", most: 300 }],
  ["Number of hashtags", { rule: "hashtags", least: 1, most: 2 }],
  ["No emoji", { rule: "no_emoji" }],
  ["No quotation marks round it", { rule: "no_quotes" }],
  ["Nothing but the piece", { rule: "only_the_piece" }],
  ["Doesn’t repeat the instruction", { rule: "no_echo" }],
  ["“Not stated” where no source says it", { rule: "not_stated" }],
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

export const LANGUAGES: [string, string][] = [
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

const PARTS: [string, string][] = [
  ["first_sentence", "first sentence"],
  ["first_line", "first line"],
  ["first_paragraph", "first paragraph"],
  ["last_paragraph", "last paragraph"],
  ["last_line", "last line"],
];

/** Rules that are about the whole answer and nothing less. */
const WHOLE = new Set(["html", "unlike", "adds_up", "links_answer"]);

/** What a rule may be about, as value and words; none where it is always the whole. `fields` are those of the answer. */
export function aboutWhat(rule: RuleDoc, fields: string[]): [string, string][] {
  if (WHOLE.has(rule.rule)) return [];
  const named = fields.map((name): [string, string] => [name, name.replace(/_/g, " ")]);
  const some: [string, string][] = [...named, ...PARTS.filter(([part]) => !fields.includes(part))];
  const gone = rule.of && !some.some(([of]) => of === rule.of);
  return gone ? [[rule.of!, `${rule.of} (not there)`], ...some] : some;
}

/** A rule with a number typed: digits are the number, what begins with `<<` is a text with slots. */
export function withBound(rule: RuleDoc, name: Bound, typed: string): RuleDoc {
  const { [name]: _, ...others } = rule.slots ?? {};
  const slots = Object.keys(others).length ? others : undefined;
  if (typed.includes("<")) return { ...rule, [name]: undefined, slots: { ...others, [name]: typed } };
  const digits = typed.replace(/\D/g, "");
  return { ...rule, [name]: digits === "" ? null : Number(digits), slots };
}

/** What stands where a number is typed. */
export const boundOf = (rule: RuleDoc, name: Bound) => rule.slots?.[name] ?? String(rule[name] ?? "");

/** Words with commas between them, as a list. */
export const wordsOf = (text: string) =>
  text
    .split(/,(?![^<]*>>)/)
    .map((word) => word.trim())
    .filter(Boolean);
