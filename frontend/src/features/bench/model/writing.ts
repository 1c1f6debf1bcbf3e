/** Writing with keys, menu and mouse: one set of commands for the chosen line, and the keys that call them. */
import { useEffect, useRef, useState } from "react";
import type { Bench, Schemas } from "../../../api/client";
import { typing, useKeys } from "../../../components/keys";
import { say, sayError } from "../../../components/Toast";
import { giveKeys, holdKeys } from "./ahead";
import { linesOf } from "./document";
import type { Change, usePage } from "./page";

export type Commands = {
  find: () => unknown;
  anotherStart: () => void;
  shift: (way: "up" | "down" | "in" | "out") => unknown;
  duplicate: () => unknown;
  /** Let the chosen line go out in another place too: the finder asks where. */
  alsoTo: () => unknown;
  copy: () => void;
  remove: () => void;
  rename: (name: string) => unknown;
  /** Make a change and choose the line it leads to. */
  make: (change: Change) => Promise<unknown>;
};

type Props = {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  maker: boolean;
  /** The chosen line, or none. */
  step: string | null;
  choose: (line: string | null) => void;
  /** A line was put in by the finder. */
  onMade: (line: string) => void;
};

/** What stands below the whole page. */
export const END = "-";

/** Where the finder stands open: below a line, or (empty) at the start; `null` where it is closed. */
export function useWriting({ bench, page, maker, step, choose, onMade }: Props) {
  const [finding, setFinding] = useState<string | null>(null);
  const start = bench.lines[0]!.id;

  // Keys may be quicker than answers: commands wait for those before them, and then act on the line these led to.
  const here = useRef(step);
  here.current = step;
  const queue = useRef<Promise<unknown>>(Promise.resolve());
  const inTurn = (act: () => unknown) => {
    queue.current = queue.current.then(act).catch(sayError);
    return queue.current;
  };
  const make = (change: Change | (() => Change | null), onLine?: (line: string) => void) =>
    inTurn(async () => {
      const made = typeof change === "function" ? change() : change;
      if (!made) return;
      const line = await page.change(made);
      here.current = line;
      onLine?.(line);
      choose(line);
    });
  /** A change of the chosen line, where one is chosen that is not the start. */
  const ofLine = (what: Change["what"]) => () => {
    if (here.current?.includes("~")) say("This is a take of a draft. Keep or remove it on the bench.");
    else if (here.current && here.current !== start) return { what, line: here.current };
    return null;
  };
  async function take(offer: Schemas["OfferView"]) {
    const line = finding ?? "";
    setFinding(null);
    holdKeys();
    const { kind, settings } = offer;
    let made = false;
    await make(line ? { what: "add", line, kind, settings } : { what: "start", kind, settings }, (id) => {
      made = true;
      onMade(id);
    });
    if (!made) giveKeys(null);
  }
  const text = () => {
    const line = linesOf(page.doc).find((l) => l.id === step);
    return line ? JSON.stringify({ format: "ulmus-lines", version: 1, lines: [line] }, null, 2) : "";
  };
  const commands: Commands = {
    make,
    find: () => inTurn(() => setFinding(here.current?.split("~")[0] ?? END)),
    anotherStart: () => setFinding(""),
    shift: (way) => make(ofLine(way)),
    duplicate: () => make(ofLine("duplicate")),
    alsoTo: () => make(ofLine("spread")).then(() => setFinding(here.current)),
    copy: () => {
      navigator.clipboard.writeText(text()).then(
        () => say("Copied. Paste it on any workflow’s page."),
        () => say("The browser does not let this page copy. Use Ctrl C."),
      );
    },
    remove: () => {
      if (ofLine("remove")()) make(ofLine("remove")).then(() => say("Deleted. Ctrl Z brings it back."));
    },
    rename: (name) => make(() => (here.current ? { what: "rename", line: here.current, name } : null)),
  };
  const undo = () => inTurn(() => page.undo() || say("There is nothing to undo."));
  const redo = () => inTurn(() => page.redo() || say("There is nothing to do again."));
  const keys: Record<string, () => unknown> = {
    n: commands.find,
    d: commands.duplicate,
    Delete: commands.remove,
    "Alt+ArrowUp": () => commands.shift("up"),
    "Alt+ArrowDown": () => commands.shift("down"),
    "Alt+ArrowRight": () => commands.shift("in"),
    "Alt+ArrowLeft": () => commands.shift("out"),
    "Mod+z": (event?: KeyboardEvent) => (event?.shiftKey ? redo() : undo()),
    "Mod+y": redo,
  };
  useKeys(maker ? keys : {});

  // The clipboard's own events, so that copying and pasting need no leave and selected text is copied as usual.
  const now = useRef({ text, make, step, maker });
  now.current = { text, make, step, maker };
  useEffect(() => {
    const copy = (event: ClipboardEvent) => {
      if (typing(event.target) || !now.current.step || window.getSelection()?.toString()) return;
      event.clipboardData?.setData("text/plain", now.current.text());
      event.preventDefault();
      say("Copied. Paste it on any workflow’s page.");
    };
    const paste = (event: ClipboardEvent) => {
      if (typing(event.target) || !now.current.maker) return;
      try {
        const lines = JSON.parse(event.clipboardData?.getData("text/plain") ?? "");
        if (lines?.format !== "ulmus-lines") return;
        event.preventDefault();
        now.current.make({ what: "paste", line: now.current.step ?? END, lines });
      } catch {
        // Something else is on the clipboard: nothing to paste here.
      }
    };
    document.addEventListener("copy", copy);
    document.addEventListener("paste", paste);
    return () => {
      document.removeEventListener("copy", copy);
      document.removeEventListener("paste", paste);
    };
  }, []);

  return { commands, finding, setFinding, take, undo, redo };
}
