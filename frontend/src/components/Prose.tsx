import { createElement, type ReactNode, useMemo } from "react";
import { KEPT, useKept } from "../api/files";

/** The elements that are shown; of others their words. */
const SHOWN = new Set(
  "p br hr h1 h2 h3 h4 strong em b i u s del sub sup code pre blockquote ul ol li table thead tbody tr th td figure figcaption".split(
    " ",
  ),
);
const DROPPED = new Set(["script", "style", "template", "iframe", "object", "noscript"]);

/** HTML set as a piece is: built anew element by element, so that nothing in it can act. */
export function Prose({ html }: { html: string }) {
  const kept = useKept();
  const shown = useMemo(() => {
    const page = new DOMParser().parseFromString(html, "text/html");
    return [...page.body.childNodes].map((node, n) => built(node, n, kept));
  }, [html, kept]);
  return <div className="prose mt-3 leading-relaxed">{shown}</div>;
}

function built(node: Node, key: number, kept: (link: string) => string): ReactNode {
  if (node.nodeType === Node.TEXT_NODE) return node.textContent;
  if (!(node instanceof Element)) return null;
  const tag = node.tagName.toLowerCase();
  if (DROPPED.has(tag)) return null;
  if (tag === "img") return <Picture key={key} element={node} kept={kept} />;
  const inner = [...node.childNodes].map((child, n) => built(child, n, kept));
  if (tag === "a") {
    const href = node.getAttribute("href") ?? "";
    return /^(https?:|mailto:)/.test(href) ? (
      <a key={key} href={href} target="_blank" rel="noreferrer" className="text-leaf underline underline-offset-2">
        {inner}
      </a>
    ) : (
      inner
    );
  }
  if (!SHOWN.has(tag)) return inner;
  return inner.length ? createElement(tag, { key }, ...inner) : createElement(tag, { key });
}

function Picture({ element, kept }: { element: Element; kept: (link: string) => string }) {
  const src = element.getAttribute("src") ?? "";
  const words = element.getAttribute("alt") ?? "";
  if (KEPT.test(src) || src.startsWith("/api/files/"))
    return <img src={kept(src)} alt={words} className="my-3 max-h-96 max-w-full border border-line" />;
  return <span className="text-sm text-soft">[picture{words && `: ${words}`}]</span>;
}
