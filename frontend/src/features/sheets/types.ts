/** The types of columns, in words, and how wide a column of each is. */
export const TYPES: Record<string, string> = {
  text: "text",
  long: "long text",
  number: "number",
  date: "date and time",
  yes_no: "yes or no",
  choice: "one of some",
  choices: "several of some",
  link: "link",
  mail: "mail address",
  file: "picture or file",
  person: "person",
};

/** In pixels. */
export const WIDTHS: Record<string, number> = {
  date: 138,
  number: 104,
  yes_no: 84,
  choice: 140,
  choices: 170,
  link: 220,
  mail: 220,
  person: 160,
  file: 130,
  text: 190,
  long: 260,
};

/** A condition on a column, as the server takes it. */
export type Condition = { column: string; op: Op; value: string };
export type Op = "is" | "is_not" | "contains" | "begins" | "more" | "less" | "empty" | "filled";

const COMPARED = new Set(["number", "date"]);

/** What may be asked of a column of a type, in words. */
export function opsFor(type: string): [Op, string][] {
  const text: [Op, string][] = [
    ["contains", "contains"],
    ["begins", "begins with"],
  ];
  const compared: [Op, string][] =
    type === "date"
      ? [
          ["more", "is after"],
          ["less", "is before"],
        ]
      : [
          ["more", "is more than"],
          ["less", "is less than"],
        ];
  return [
    ["is", "is"],
    ["is_not", "is not"],
    ...(COMPARED.has(type) ? compared : text),
    ["empty", "is empty"],
    ["filled", "is not empty"],
  ];
}

export const needsValue = (op: Op) => op !== "empty" && op !== "filled";

/** A condition in words: “Town is Lyd”. */
export function inWords(one: Condition, type: string): string {
  const words = opsFor(type).find(([op]) => op === one.op)?.[1] ?? one.op;
  return `${one.column} ${words}${needsValue(one.op) ? ` ${one.value}` : ""}`;
}
