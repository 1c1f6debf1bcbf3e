/** HTML written as its readers see it, or as its source. */
import { useEffect, useRef, useState } from "react";
import { Area } from "../../../components/Field";

const DROPPED = "script, style, iframe, object, embed, template, noscript, form, input, button, link, meta";

/** The HTML as a page may show it: nothing in it can act, and no picture is fetched from elsewhere. */
function harmless(html: string): DocumentFragment {
  const page = new DOMParser().parseFromString(html, "text/html");
  for (const element of page.body.querySelectorAll(DROPPED)) element.remove();
  for (const element of page.body.querySelectorAll("*"))
    for (const { name, value } of [...element.attributes])
      if (name.startsWith("on") || (["href", "src"].includes(name) && /^\s*(javascript|data|vbscript):/i.test(value)))
        element.removeAttribute(name);
  const fragment = document.createDocumentFragment();
  fragment.append(...page.body.childNodes);
  return fragment;
}

export function RichText({ label, html, set }: { label: string; html: string; set: (html: string) => void }) {
  const [source, setSource] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const own = useRef<string | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: also shown anew when the source was looked at
  useEffect(() => {
    if (!box.current || own.current === html) return;
    own.current = html;
    box.current.replaceChildren(harmless(html));
  }, [html, source]);
  const written = () => {
    own.current = box.current!.innerHTML;
    set(own.current);
  };
  const mark = (what: string) => {
    box.current?.focus();
    document.execCommand(what);
    written();
  };
  return (
    <div>
      <div className="mb-1 flex gap-3 text-xs text-soft">
        <span className="flex-1">{label}</span>
        {!source && (
          <>
            <button type="button" className="underline underline-offset-2" onClick={() => mark("bold")}>
              <strong>Bold</strong>
            </button>
            <button type="button" className="underline underline-offset-2" onClick={() => mark("italic")}>
              <em>Italic</em>
            </button>
          </>
        )}
        <button
          type="button"
          aria-pressed={source}
          className="underline underline-offset-2"
          onClick={() => {
            own.current = null;
            setSource(!source);
          }}
        >
          {source ? "As it reads" : "Source"}
        </button>
      </div>
      {source ? (
        <Area
          aria-label={`${label}, source`}
          rows={14}
          className="font-mono"
          value={html}
          onChange={(e) => set(e.target.value)}
        />
      ) : (
        // biome-ignore lint/a11y/useSemanticElements: a text area holds no marked-up text
        <div
          ref={box}
          role="textbox"
          tabIndex={0}
          aria-multiline="true"
          aria-label={label}
          contentEditable
          suppressContentEditableWarning
          className="prose piece min-h-16 rounded border border-transparent px-3 py-1 leading-relaxed hover:border-line focus:border-rule focus:bg-sheet"
          onInput={written}
          onPaste={(e) => {
            e.preventDefault();
            document.execCommand("insertText", false, e.clipboardData.getData("text/plain"));
          }}
        />
      )}
    </div>
  );
}
