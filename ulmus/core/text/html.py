"""HTML as it is read: the text one sees, where its links lead, and what is wrong with it (HTML Living Standard, by html5lib)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from html.parser import HTMLParser

_ELEMENTS = (
    "a abbr article b blockquote br button code dd div dl dt em figcaption figure footer form h1 h2 h3 h4 h5 h6 header hr html head"
    " body i iframe img li link main meta ol p pre s script section small span strong style sub sup table tbody td th thead title tr"
    " u ul video"
)
_ELEMENT = re.compile(rf"</?(?:{'|'.join(_ELEMENTS.split())})(?:\s[^<>]*)?/?>", re.I)
_BLOCKS = frozenset(
    [
        "article",
        "blockquote",
        "body",
        "dd",
        "div",
        "dl",
        "dt",
        "figcaption",
        "figure",
        "footer",
        "form",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "header",
        "hr",
        "li",
        "main",
        "ol",
        "p",
        "pre",
        "section",
        "table",
        "tr",
        "ul",
    ]
)
_UNSEEN = frozenset(("script", "style", "title", "head", "template"))
_VOID = frozenset(("br", "img", "hr", "input", "meta", "link", "wbr", "source", "col", "area", "base", "embed", "track"))
_WORDS = {
    "expected-tag-name": "a “<” stands bare; write “&lt;”",
    "expected-closing-tag-but-got-eof": "an element is not closed",
    "unexpected-end-tag": "an element is closed that is not open there",
    "unexpected-end-tag-implies-table-voodoo": "an element is closed that is not open there",
    "unexpected-cell-end-tag": "a cell is closed that is not open there",
    "end-tag-too-early": "an element is closed before what is in it",
    "end-tag-too-early-named": "an element is closed before what is in it",
    "unexpected-start-tag-implies-end-tag": "an element stands in one of its own kind",
    "adoption-agency-1.2": "elements cross each other",
    "adoption-agency-1.3": "elements cross each other",
    "adoption-agency-4.4": "elements cross each other",
    "duplicate-attribute": "an attribute stands twice",
}
_KIND = ("expected-doctype", "unexpected-doctype", "non-void-element-with-trailing-solidus", "named-entity-without-semicolon")
_SAFE = re.compile(r"(?:https?:|mailto:|tel:|#|/|\?|\.|[^:]*(?:$|[/?#]))", re.I)


@dataclass(frozen=True)
class Page:
    """HTML as it is read: its visible text, a line for each block, and the addresses of its links in order."""

    text: str
    hrefs: tuple[str, ...]


def is_html(text: str) -> bool:
    """Whether a text is written in HTML: an element stands in it."""
    return "<" in text and _ELEMENT.search(text) is not None


def read(text: str) -> Page:
    """HTML as a person reads it. What is no HTML is read as it stands."""
    reader = _Reader()
    reader.feed(text)
    reader.close()
    lines = (" ".join(line.split()) for line in "".join(reader.out).split("\n"))
    seen = re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()
    return Page(seen, tuple(reader.hrefs))


class _Reader(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.out: list[str] = []
        self.hrefs: list[str] = []
        self.unseen = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in _UNSEEN:
            self.unseen += 1
        elif tag == "br":
            self.out.append("\n")
        elif tag in _BLOCKS:
            self.out.append("\n\n" if tag not in ("li", "tr") else "\n")
        elif tag in ("td", "th"):
            self.out.append(" ")
        elif tag == "a":
            self.hrefs += [(value or "").strip() for name, value in attrs if name == "href" and value]

    def handle_endtag(self, tag: str) -> None:
        if tag in _UNSEEN:
            self.unseen = max(0, self.unseen - 1)
        elif tag in _BLOCKS:
            self.out.append("\n\n" if tag not in ("li", "tr") else "\n")

    def handle_data(self, data: str) -> None:
        if not self.unseen:
            self.out.append(re.sub(r"\s+", " ", data))


def faults(text: str, allowed: Sequence[str]) -> list[str]:
    """What is wrong with a piece of HTML, in words; each fault once: elements that are not `allowed`, scripts, styles, links that
    are none, and whatever a parser that keeps to the standard stumbles over."""
    names = {name.lower() for name in allowed}
    reader = _Elements(names)
    reader.feed(text)
    reader.close()
    wrong = [] if reader.seen else ["there is no HTML"]
    wrong += reader.wrong
    wrong += [f"<{tag}> is not closed" for tag in reader.open]
    if reader.seen:
        import html5lib  # loaded on first use: it is large

        parser = html5lib.HTMLParser()
        parser.parseFragment(text)
        found = [code for _, code, _ in parser.errors if not code.startswith(_KIND)]
        told = [_WORDS.get(code, "it is broken off" if "eof" in code else code.replace("-", " ")) for code in found]
        wrong += [words for words in told if not (reader.wrong or reader.open) or words not in _DOUBLE]
    return list(dict.fromkeys(wrong))


_DOUBLE = {_WORDS["unexpected-end-tag"], _WORDS["expected-closing-tag-but-got-eof"], _WORDS["end-tag-too-early"]}
_DOUBLE |= {_WORDS["end-tag-too-early-named"], _WORDS["adoption-agency-1.3"]}


class _Elements(HTMLParser):
    """Follows the elements and notes what is wrong with them."""

    def __init__(self, allowed: set[str]) -> None:
        super().__init__()
        self.allowed = allowed
        self.open: list[str] = []
        self.wrong: list[str] = []
        self.seen = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.seen += 1
        if tag not in self.allowed:
            self.wrong.append(f"<{tag}> is not allowed")
        for name, value in attrs:
            address = re.sub(r"[\x00-\x20]", "", value or "")
            if name.startswith("on"):
                self.wrong.append(f"<{tag}> holds a script")
            elif name == "style":
                self.wrong.append(f"<{tag}> holds a style")
            elif name in ("href", "src", "action", "formaction", "srcdoc", "data") and not _SAFE.match(address):
                self.wrong.append(f"<{tag}> leads to “{address[:30]}”")
        if tag not in _VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.handle_starttag(tag, attrs)

    def handle_endtag(self, tag: str) -> None:
        if tag in _VOID:
            return
        if tag not in self.open:
            self.wrong.append(f"</{tag}> closes nothing that is open")
        elif self.open[-1] == tag:
            self.open.pop()
        else:
            self.wrong.append(f"<{self.open[-1]}> is not closed before </{tag}>")
            del self.open[len(self.open) - 1 - self.open[::-1].index(tag) :]
