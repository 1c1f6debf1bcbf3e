/** A text with slots: drawn as quiet marks, checked as typed, with the values of earlier steps at `<<`. */
import { autocompletion, type Completion, type CompletionContext } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { Compartment, EditorState, type Range, StateEffect, StateField } from "@codemirror/state";
import {
  Decoration,
  type DecorationSet,
  EditorView,
  keymap,
  MatchDecorator,
  ViewPlugin,
  type ViewUpdate,
} from "@codemirror/view";
import { lazy, Suspense, useEffect, useRef, useState } from "react";
import type { SlotProblem } from "../../../api/client";
import { typed } from "../model/typing";
import { brief, type Node, offered, type Value } from "./valuetree";

const ValuePicker = lazy(() => import("./ValuePicker"));

type Props = {
  label: string;
  value: string;
  values: Value[];
  problems: SlotProblem[];
  /** A text of several paragraphs, with room for them. */
  long?: boolean;
  /** Whether it may have several lines. */
  lines?: boolean;
  disabled: boolean;
  /** Whether it has the cursor from the beginning, behind what stands in it. */
  focus?: boolean;
  onChange: (text: string) => void;
  onRun?: () => void;
};

/** How long after the last key what was typed is handed on. */
const PAUSE = 150;

const slots = new MatchDecorator({
  regexp: /<<[^\W\d](?:[^<>\n]|[<>](?![<>]))*>>/g,
  decoration: Decoration.mark({ class: "slot" }),
});

const slotMarks = ViewPlugin.fromClass(
  class {
    marks: DecorationSet;
    constructor(view: EditorView) {
      this.marks = slots.createDeco(view);
    }
    update(update: ViewUpdate) {
      this.marks = slots.updateDeco(update, this.marks);
    }
  },
  { decorations: (plugin) => plugin.marks },
);

const setProblems = StateEffect.define<SlotProblem[]>();
const problemMarks = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, change) {
    let now = marks.map(change.changes);
    for (const effect of change.effects) {
      if (!effect.is(setProblems)) continue;
      const length = change.state.doc.length;
      const found: Range<Decoration>[] = effect.value
        .filter((p) => p.start !== null && p.end !== null && p.start < p.end && p.end <= length)
        .sort((a, b) => a.start! - b.start!)
        .map((p) =>
          Decoration.mark({ class: `cm-${p.severity}`, attributes: { title: p.message } }).range(p.start!, p.end!),
        );
      now = Decoration.set(found, true);
    }
    return now;
  },
  provide: (field) => EditorView.decorations.from(field),
});

const theme = EditorView.theme({
  "&": {
    fontSize: "0.92rem",
    background: "var(--sheet)",
    color: "var(--ink)",
    border: "1px solid var(--rule)",
    borderRadius: "4px",
  },
  "&.cm-focused": { outline: "2px solid var(--leaf)", outlineOffset: "0" },
  ".cm-content": { fontFamily: "var(--font-sans)", padding: "5px 0", caretColor: "var(--ink)" },
  // A long paragraph is broken into lines a third faster than with the editor's own, which breaks anywhere.
  "&.cm-editor .cm-lineWrapping": { overflowWrap: "break-word", wordBreak: "normal", minWidth: "0" },
  ".cm-line": { padding: "0 8px" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-error": { textDecoration: "underline wavy var(--brick)", textUnderlineOffset: "3px" },
  ".cm-warning": { textDecoration: "underline wavy var(--ochre)", textUnderlineOffset: "3px" },
  ".cm-tooltip": {
    background: "var(--sheet)",
    border: "1px solid var(--rule)",
    borderRadius: "5px",
    color: "var(--ink)",
    boxShadow: "0 6px 20px rgba(0,0,0,.18)",
  },
  ".cm-tooltip.cm-tooltip-autocomplete > ul": {
    fontFamily: "var(--font-sans)",
    fontSize: "0.86rem",
    maxHeight: "17rem",
    minWidth: "22rem",
    maxWidth: "34rem",
  },
  ".cm-tooltip.cm-tooltip-autocomplete > ul > li": { padding: "3px 9px", display: "flex", gap: "10px" },
  ".cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]": {
    background: "var(--leafwash)",
    color: "var(--ink)",
  },
  ".cm-completionLabel": { color: "var(--leaf)", flexShrink: "0" },
  ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "600" },
  ".cm-completionDetail": {
    color: "var(--soft)",
    fontStyle: "normal",
    overflow: "hidden",
    textOverflow: "ellipsis",
    marginLeft: "auto",
  },
  ".cm-tooltip.cm-tooltip-autocomplete > ul > completion-section": {
    display: "block",
    padding: "4px 9px 2px",
    fontSize: "0.76rem",
    color: "var(--soft)",
    opacity: "1",
    borderBottom: "1px solid var(--line)",
  },
  ".cm-tooltip.cm-completionInfo": {
    padding: "8px 12px",
    maxWidth: "24rem",
    maxHeight: "17rem",
    overflowY: "auto",
    fontSize: "0.86rem",
    whiteSpace: "pre-wrap",
  },
});

/** Characters from which on a text is sure to be higher than the editor. */
const FILLS = 4000;
const HIGH = "22rem";

/** Room for a long text. Where it fills the editor, a key in it has nothing around it laid out again. */
const tall = [
  EditorView.editorAttributes.compute(["doc"], (state) => ({ class: state.doc.length > FILLS ? "full" : "" })),
  EditorView.theme({
    ".cm-content": { minHeight: "3.4rem" },
    ".cm-scroller": { maxHeight: HIGH, overflow: "auto" },
    "&.full .cm-scroller": { height: HIGH, contain: "strict" },
  }),
];

/** A text of one line: what is pasted becomes one. What has several already can be changed, and gets no more. */
const oneLine = [
  EditorView.clipboardInputFilter.of((text) => text.trim().replace(/\s*\n\s*/g, " ")),
  EditorState.transactionFilter.of((change) =>
    change.newDoc.lines <= Math.max(1, change.startState.doc.lines) ? change : [],
  ),
];

export default function SlotEditor({
  label,
  value,
  values,
  problems,
  long = false,
  lines = long,
  disabled,
  focus = false,
  onChange,
  onRun,
}: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const now = useRef({ values, onChange, onRun, told: value });
  now.current = { ...now.current, values, onChange, onRun };
  const locked = useRef(new Compartment());
  const [picking, setPicking] = useState(false);
  const pending = useRef<number | undefined>(undefined);

  /** Hand on what was typed. */
  const tell = () => {
    window.clearTimeout(pending.current);
    pending.current = undefined;
    hand();
  };
  const hand = () => {
    const text = view.current?.state.doc.toString();
    if (text === undefined || text === now.current.told) return;
    now.current.told = text;
    now.current.onChange(text);
  };

  // biome-ignore lint/correctness/useExhaustiveDependencies: the editor is made once; what changes reaches it by effects and `now`
  useEffect(() => {
    const source = (context: CompletionContext) => {
      const begun = context.matchBefore(/<<[\w.[\]]*$/);
      if (!begun) return null;
      // They are sought and put in order here: what is called just so comes first, wherever it stands.
      return { from: begun.from + 2, options: options(now.current.values, begun.text.slice(2)), filter: false };
    };
    const editor = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          history(),
          autocompletion({
            override: [source],
            icons: false,
            closeOnBlur: true,
            activateOnTypingDelay: 20,
            interactionDelay: 0,
          }),
          keymap.of([
            { key: "Mod-Enter", run: () => (tell(), now.current.onRun?.(), true) },
            { key: "Mod-i", run: () => (setPicking(true), true) },
            ...(lines ? [] : [{ key: "Enter", run: () => true }]),
            ...defaultKeymap.filter((k) => k.key !== "Mod-Enter"),
            ...historyKeymap,
          ]),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": label, spellcheck: "true" }),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            typed();
            // The first key after a pause is told once it is drawn, those that follow together: no key waits for the page.
            if (pending.current === undefined) requestAnimationFrame(() => window.setTimeout(hand));
            window.clearTimeout(pending.current);
            pending.current = window.setTimeout(tell, PAUSE);
          }),
          EditorView.domEventHandlers({ blur: () => tell() }),
          ...(lines ? [] : oneLine),
          slotMarks,
          problemMarks,
          theme,
          locked.current.of(EditorState.readOnly.of(disabled)),
          ...(long ? [tall] : []),
        ],
      }),
    });
    view.current = editor;
    if (focus) {
      editor.focus();
      editor.dispatch({ selection: { anchor: editor.state.doc.length } });
    }
    return () => {
      tell();
      editor.destroy();
    };
  }, []);

  useEffect(() => {
    const editor = view.current;
    if (editor && value !== now.current.told && value !== editor.state.doc.toString()) {
      window.clearTimeout(pending.current);
      pending.current = undefined;
      now.current.told = value;
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: value } });
    }
  }, [value]);

  useEffect(() => {
    view.current?.dispatch({ effects: setProblems.of(problems) });
  }, [problems]);

  useEffect(() => {
    view.current?.dispatch({ effects: locked.current.reconfigure(EditorState.readOnly.of(disabled)) });
  }, [disabled]);

  function put(path: string) {
    const editor = view.current;
    setPicking(false);
    if (!editor) return;
    // `<<` just typed before the mark is filled and not put in twice.
    const { from, to } = editor.state.selection.main;
    const begun = editor.state.sliceDoc(Math.max(0, from - 2), from) === "<<";
    const insert = `${begun ? "" : "<<"}${path}>>`;
    editor.dispatch({ changes: { from, to, insert }, selection: { anchor: from + insert.length }, userEvent: "input" });
    window.setTimeout(() => editor.focus());
  }

  return (
    <div>
      <div ref={host} />
      {long && !disabled && (
        <button
          type="button"
          onClick={() => setPicking(true)}
          className="mt-0.5 text-xs text-leaf underline underline-offset-2"
        >
          Put in a value <kbd className="font-sans text-soft no-underline">&lt;&lt; or Ctrl I</kbd>
        </button>
      )}
      {problems
        .filter((p) => p.start !== null)
        .map((p) => (
          <p key={p.message} className={`mt-0.5 text-xs ${p.severity === "error" ? "text-brick" : "text-ochre"}`}>
            {p.message}
          </p>
        ))}
      {picking && (
        <Suspense fallback={null}>
          <ValuePicker values={values} onTake={put} onClose={() => setPicking(false)} />
        </Suspense>
      )}
    </div>
  );
}

/** What can be completed after `<<`: every value above under the line that gives it, or those that fit what is typed. */
const options = (values: Value[], typed: string): Completion[] =>
  offered(values, typed).map(({ node, from, rank }) => option(node, typed ? undefined : { name: from, rank }));

function option(node: Node, section: { name: string; rank: number } | undefined): Completion {
  return {
    label: node.path,
    detail: brief(node).slice(0, 60),
    section,
    info: () => {
      const box = document.createElement("div");
      const about = box.appendChild(document.createElement("div"));
      about.textContent = node.about;
      about.style.color = "var(--soft)";
      const text = box.appendChild(document.createElement("div"));
      text.textContent = node.known
        ? whole(node.value) || "empty in this sample"
        : "Run the line to see its real value.";
      return box;
    },
    apply: (view, _completion, from, to) => {
      const after = view.state.sliceDoc(to, to + 2);
      const insert = after === ">>" ? node.path : `${node.path}>>`;
      view.dispatch({
        changes: { from, to, insert },
        selection: { anchor: from + node.path.length + 2 },
        userEvent: "input.complete",
      });
    },
  };
}

function whole(value: unknown): string {
  if (value === null || value === undefined) return "";
  return typeof value === "string" ? value : JSON.stringify(value, null, 1);
}
