import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from "react";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Input } from "../../../components/Field";
import { Shown } from "../../../components/Values";
import { branches, brief, flat, type Node, type Value } from "./valuetree";

type Props = { values: Value[]; onTake: (path: string) => void; onClose: () => void };
type Seen = { node: Node; depth: number; open: boolean };

/** The tree of earlier values with the chosen sample's real content; the one under the mark is read in full beside it. */
export default function ValuePicker({ values, onTake, onClose }: Props) {
  const tree = useMemo(() => branches(values), [values]);
  const [words, setWords] = useState("");
  const [open, setOpen] = useState(() => new Set(tree.slice(0, 3).map((one) => one.path)));
  const seen = useMemo(() => (words.trim() ? found(tree, words) : rows(tree, open)), [tree, open, words]);
  const [at, setAt] = useState<string | null>(null);
  const here = Math.max(
    0,
    seen.findIndex((one) => one.node.path === at && pickable(one)),
  );
  const now = seen[here];
  const list = useRef<HTMLDivElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is chosen is kept in sight
  useEffect(() => {
    list.current?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" });
  }, [now?.node.path]);

  const turn = (path: string, to?: boolean) =>
    setOpen((before) => {
      const after = new Set(before);
      if (to ?? !before.has(path)) after.add(path);
      else after.delete(path);
      return after;
    });
  const go = (by: number) => setAt(seen[Math.min(seen.length - 1, Math.max(0, here + by))]?.node.path ?? null);
  const keys: Record<string, () => void> = {
    ArrowDown: () => go(1),
    ArrowUp: () => go(-1),
    PageDown: () => go(10),
    PageUp: () => go(-10),
    Enter: () => now && (now.depth === 0 && now.node.inside.length ? turn(now.node.path) : onTake(now.node.path)),
  };
  const sideways: Record<string, () => void> = {
    ArrowRight: () => now && turn(now.node.path, true),
    ArrowLeft: () => now && turn(now.node.path, false),
  };
  const press = (event: KeyboardEvent) => {
    const act = keys[event.key] ?? (words ? undefined : sideways[event.key]);
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  };
  return (
    <Dialog open onClose={onClose} title="Put in a value" wide>
      <div>
        <Input
          autoFocus
          aria-label="Find a value by its name or its content"
          placeholder="Find by name or content"
          value={words}
          onChange={(event) => setWords(event.target.value)}
          onKeyDown={press}
          aria-activedescendant={now ? "value-under-the-mark" : undefined}
          aria-controls="values-of-earlier-lines"
        />
        <div className="mt-3 grid h-[52vh] grid-cols-1 gap-4 sm:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
          <div
            ref={list}
            id="values-of-earlier-lines"
            role="tree"
            aria-label="Values of earlier lines"
            className="overflow-y-auto border-y border-line py-1"
          >
            {seen.map(({ node, depth, open: unfolded }) => (
              <div
                key={node.path}
                id={node === now?.node ? "value-under-the-mark" : undefined}
                role="treeitem"
                tabIndex={-1}
                onKeyDown={press}
                aria-level={depth + 1}
                aria-expanded={node.inside.length ? unfolded : undefined}
                aria-selected={node === now?.node}
                className={`flex cursor-pointer items-baseline gap-1.5 py-[3px] pr-2 text-sm ${node === now?.node ? "bg-leafwash" : "hover:bg-shade"}`}
                style={{ paddingLeft: `${depth * 1.1 + 0.3}rem` }}
                onClick={() => {
                  setAt(node.path);
                  if (node.inside.length) turn(node.path);
                }}
                onDoubleClick={() => depth > 0 && onTake(node.path)}
              >
                <span aria-hidden className="w-3 shrink-0 text-soft">
                  {node.inside.length ? (unfolded ? "▾" : "▸") : ""}
                </span>
                <span className={depth ? "shrink-0 text-leaf" : "shrink-0 font-medium"}>
                  {words ? node.path : node.name}
                </span>
                <span className="min-w-0 truncate text-xs text-soft">{depth ? brief(node) : node.about}</span>
              </div>
            ))}
            {seen.length === 0 && <p className="px-2 py-2 text-sm text-soft">No value is called or holds that.</p>}
          </div>
          <div
            className="overflow-y-auto border-y border-line py-2 text-sm"
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keys
            tabIndex={0}
            role="region"
            aria-label="The value in full"
          >
            {now && (
              <>
                <p className="mb-2">
                  <span className="slot">{now.node.path}</span>{" "}
                  <span className="text-xs text-soft">{now.node.about}</span>
                </p>
                {now.depth === 0 && now.node.value === undefined ? (
                  <p className="text-soft">Choose one of its values.</p>
                ) : now.node.known ? (
                  <Shown value={now.node.value} />
                ) : (
                  <p className="text-soft">Run that line on this sample to see its real value.</p>
                )}
              </>
            )}
          </div>
        </div>
        <div className="mt-4 flex items-center gap-2">
          <Button
            look="main"
            disabled={!now || !pickable(now)}
            onClick={() => now && onTake(now.node.path)}
            hint="Enter"
          >
            Put it in
          </Button>
          <Button look="quiet" onClick={onClose}>
            Close
          </Button>
          <span className="ml-auto text-xs text-soft">↑ ↓ move · → ← unfold, fold</span>
        </div>
      </div>
    </Dialog>
  );
}

const pickable = (one: Seen) => one.depth > 0 || !one.node.inside.length;

function rows(nodes: Node[], open: Set<string>, depth = 0): Seen[] {
  return nodes.flatMap((node) => {
    // A line that gives one value of its own name stands for that value.
    if (depth === 0 && node.inside.length === 1 && node.inside[0]!.path === node.path) {
      return rows([{ ...node.inside[0]!, about: node.about }], open, depth);
    }
    const unfolded = open.has(node.path);
    return [{ node, depth, open: unfolded }, ...(unfolded ? rows(node.inside, open, depth + 1) : [])];
  });
}

function found(tree: Node[], words: string): Seen[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return flat(tree.flatMap((branch) => branch.inside))
    .filter((node) => {
      const text =
        `${node.path} ${node.about} ${typeof node.value === "string" ? node.value : brief(node)}`.toLowerCase();
      return wanted.every((word) => text.includes(word));
    })
    .slice(0, 200)
    .map((node) => ({ node, depth: 1, open: false }));
}
