/** The values a line can point at, as a tree: lines of the page, what they give, and what stands inside it. */
import type { Schemas } from "../../../api/client";

export type Value = Schemas["ValueView"];

export type Node = {
  path: string;
  name: string;
  about: string;
  value: unknown;
  /** Whether the value is known for the chosen sample. */
  known: boolean;
  inside: Node[];
};

const PLAIN = /^[^\W\d]\w*$/u;
const DEEPEST = 4;
const MOST_ITEMS = 5;

const step = (path: string, name: string) =>
  `${path}.${PLAIN.test(name) ? name : `"${name.replace(/(["\\])/g, "\\$1")}"`}`;

/** One branch for each line above, the nearest first; the brand and the run last. */
export function branches(values: Value[]): Node[] {
  const roots = new Map<string, Value[]>();
  for (const value of values) roots.set(value.root, [...(roots.get(value.root) ?? []), value]);
  const far = (root: string) => Number(root === "brand" || root === "run");
  return [...roots.entries()]
    .map(([root, list], at) => ({ root, list, at }))
    .sort((a, b) => far(a.root) - far(b.root) || b.at - a.at)
    .map(({ root, list }) => ({
      path: root,
      name: root,
      about: list[0]!.title,
      value: undefined,
      known: false,
      inside: list.map((one) => leaf(one)),
    }));
}

function leaf(one: Value): Node {
  const under = one.path.startsWith(`${one.root}.`) || one.path.startsWith(`${one.root}[`);
  const name = under ? one.path.slice(one.root.length).replace(/^\./, "") : one.path;
  return {
    path: one.path,
    name,
    about: one.about,
    value: one.value,
    known: one.known,
    inside: within(one.path, one.value, 1),
  };
}

function within(path: string, value: unknown, depth: number): Node[] {
  if (depth > DEEPEST || value === null || typeof value !== "object") return [];
  const entries: [string, string, unknown][] = Array.isArray(value)
    ? value.slice(0, MOST_ITEMS).map((one, i) => [`${path}[${i + 1}]`, `${i + 1}`, one])
    : Object.entries(value).map(([name, one]) => [step(path, name), name, one]);
  return entries.map(([at, name, one]) => ({
    path: at,
    name,
    about: "",
    value: one,
    known: true,
    inside: within(at, one, depth + 1),
  }));
}

/** Every node that stands for a value, from the first to the last. */
export function flat(nodes: Node[]): Node[] {
  return nodes.flatMap((node) => [node, ...flat(node.inside)]);
}

const MOST_OFFERED = 400;

/** What a value is called by some may be called otherwise by the line that gives it. */
const MEANS: Record<string, string[]> = {
  headline: ["title", "subject"],
  subject: ["title"],
  title: ["headline", "subject", "name"],
  site: ["website", "link"],
  website: ["site", "link"],
  url: ["link", "site"],
  address: ["link", "email"],
  link: ["url", "site"],
  body: ["text"],
  content: ["text"],
  article: ["text"],
  post: ["text"],
  day: ["date"],
  today: ["date"],
  now: ["time"],
  picture: ["image", "photo"],
  photo: ["image"],
  email: ["mail"],
  mail: ["email"],
  company: ["name"],
  author: ["by"],
  voice: ["about"],
};

export type Offered = { node: Node; from: string; rank: number };

/** Values to choose from once something was typed, the likeliest first: called just so, meaning so, beginning so, holding it; nothing
 * typed leaves them under their lines, the nearest first. */
export function offered(values: Value[], typed: string): Offered[] {
  const all = branches(values).flatMap((branch, rank) =>
    flat(branch.inside)
      .slice(0, MOST_OFFERED)
      .map((node) => ({ node, from: `${branch.name} · ${branch.about}`, rank })),
  );
  const wanted = typed.toLowerCase();
  if (!wanted) return all;
  return all
    .map((one) => ({ ...one, fits: fits(one.node, wanted) }))
    .filter((one) => one.fits > 0)
    .sort((a, b) => b.fits - a.fits || a.rank - b.rank)
    .map(({ node, from, rank }) => ({ node, from, rank }));
}

function fits(node: Node, wanted: string): number {
  const path = node.path.toLowerCase();
  const name = node.name.toLowerCase().replace(/^"|"$/g, "");
  const words = `${path} ${node.about.toLowerCase()}`.split(/[^\p{L}\p{N}]+/u);
  if (name === wanted || path === wanted) return 7;
  if (MEANS[wanted]?.includes(name)) return 6;
  if (name.startsWith(wanted)) return 5;
  if (path.startsWith(wanted)) return 4;
  if (words.some((word) => word === wanted)) return 3;
  if (words.some((word) => word.startsWith(wanted))) return 2;
  return path.includes(wanted) ? 1 : 0;
}

/** A value in one line of text. */
export function brief(node: Node): string {
  if (!node.known) return "not known yet";
  const { value } = node;
  if (value === null || value === undefined || value === "") return "empty";
  if (Array.isArray(value)) return value.length === 1 ? "1 item" : `${value.length} items`;
  if (typeof value === "object") return `${Object.keys(value).length} values`;
  return String(value).replace(/\s+/g, " ").slice(0, 120);
}
