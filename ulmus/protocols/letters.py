"""A letter's HTML: made of Markdown or of HTML, cleaned, set in type, its styles written into the elements, as mail programs want."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from html import escape
from typing import Any

import css_inline
from lxml import html as lxml_html

from . import markup

ELEMENTS = (
    "p", "br", "hr", "h1", "h2", "h3", "strong", "em", "b", "i", "u", "s", "code", "pre", "blockquote", "ul", "ol", "li", "a", "img",
    "table", "thead", "tbody", "tr", "th", "td", "span", "div",
)  # fmt: skip
_BLOCKS = frozenset({"p", "h1", "h2", "h3", "blockquote", "ul", "ol", "table", "pre", "div"})
STYLE = """
body { margin: 0; padding: 0; background: #ffffff; }
.letter { max-width: 600px; padding: 16px; font: 16px/1.5 Georgia, 'Times New Roman', serif; color: #1d1c19; }
p, ul, ol, blockquote, table, pre { margin: 0 0 16px; }
h1 { font-size: 26px; line-height: 1.25; margin: 0 0 16px; }
h2 { font-size: 21px; line-height: 1.3; margin: 24px 0 12px; }
h3 { font-size: 17px; margin: 20px 0 8px; }
a { color: #2f5a28; }
img { max-width: 100%; height: auto; border: 0; }
blockquote { border-left: 3px solid #c9c2b2; padding: 0 0 0 14px; color: #55524a; }
td, th { padding: 4px 10px 4px 0; text-align: left; vertical-align: top; }
"""


def page(text: str, title: str, written: str) -> str:
    """A whole page of a letter's text, ``markdown`` or ``html``, with its styles inlined. Anything that could act is left out."""
    body = markup.from_markdown(text, ELEMENTS, breaks=True) if written == "markdown" else markup.cleaned(text, ELEMENTS)
    inlined: str = _inliner().inline(
        f'<!DOCTYPE html><html><head><meta charset="utf-8"><title>{escape(title)}</title><style>{STYLE}</style></head>'
        f'<body><div class="letter">{body}</div></body></html>'
    )
    return inlined


@lru_cache(maxsize=1)
def _inliner() -> css_inline.CSSInliner:
    # Nothing is fetched for it: what a letter looks like stands here.
    return css_inline.CSSInliner(load_remote_stylesheets=False, keep_style_tags=False)


_MARKS, _ESCAPED = re.compile(r"([\\`*_<>\[\]#])"), r"\\\1"


def way_out(mailing: str, place: str, written: str, counted: bool = False) -> str:
    """What stands at the end of a letter of a mailing, in the way its text is written: why one gets it, whether presses of its links
    are counted, and how to leave."""
    words = f"You get this because you are on the list “{mailing}”."
    words += " It is counted which of its links are pressed." if counted else ""
    if written == "html":
        return f'<hr><p>{escape(words)} <a href="{escape(place)}">Leave the list</a></p>'
    if written == "markdown":
        return f"\n\n---\n\n{_MARKS.sub(_ESCAPED, words)} [Leave the list]({place})"
    return f"\n\n-- \n{words}\nTo leave the list: {place}"


def in_plain(page: str) -> str:
    """A page as plain text, for mail programs that show no HTML: lists with dashes, links with their address behind them."""
    lines = "".join(_spoken(lxml_html.document_fromstring(page).find(".//body"))).splitlines()
    text = "\n".join(" ".join(line.split()) if not line.startswith("  ") else line.rstrip() for line in lines)
    return re.sub(r"\n{3,}", "\n\n", text).strip()


def _spoken(element: Any) -> Iterator[str]:
    tag = element.tag if isinstance(element.tag, str) else ""
    if tag == "br":
        yield "\n"
    elif tag == "hr":
        yield "\n\n-- \n\n"
    elif tag == "img":
        yield str(element.get("alt") or "")
    else:
        if tag in _BLOCKS:
            yield "\n\n"
        if tag == "li":
            around = element.getparent()
            yield f"\n{f'{markup.first_of(around) + around.index(element)}.' if around.tag == 'ol' else '-'} "
        yield _flat(element.text, tag)
        for inner in element:
            yield from _spoken(inner)
            yield _flat(inner.tail, tag)
        href = str(element.get("href") or "").removeprefix("mailto:")
        if tag == "a" and href and href != "".join(element.itertext()).strip():
            yield f" ({href})"
        if tag in ("td", "th"):
            yield "  "
        if tag in _BLOCKS or tag == "tr":
            yield "\n"


def _flat(text: str | None, tag: str) -> str:
    return (text or "") if tag in ("pre", "code") else re.sub(r"\s+", " ", text or "")


def pictures(page: str) -> list[str]:
    """The addresses of the pictures a page shows, in their order."""
    if not page:
        return []
    return [str(src) for src in lxml_html.document_fromstring(page).xpath("//img/@src")]
