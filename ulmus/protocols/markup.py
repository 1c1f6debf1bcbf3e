"""Markdown (CommonMark 0.31) and HTML: one made from the other, and HTML cleaned of all that could act."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from html import escape
from typing import Any

import nh3
from markdown_it import MarkdownIt

ATTRIBUTES = {"a": {"href", "title"}, "img": {"src", "alt", "title", "width", "height"}, "ol": {"start"}}


def cleaned(html: str, elements: Iterable[str]) -> str:
    """HTML with no element but these, no scripts, styles or handlers, and only links of http, https and mailto."""
    return nh3.clean(
        html,
        tags=set(elements),
        attributes=ATTRIBUTES,
        url_schemes={"http", "https", "mailto"},
        link_rel=None,
        clean_content_tags={"script", "style"},
    ).strip()


def from_markdown(text: str, elements: Iterable[str], breaks: bool = False) -> str:
    """Markdown as clean HTML; HTML inside it is taken as text. With `breaks` the end of a line stays one."""
    return cleaned(_markdown(breaks).render(text), elements)


@lru_cache(maxsize=2)
def _markdown(breaks: bool) -> MarkdownIt:
    return MarkdownIt("commonmark", {"html": False, "breaks": breaks})


def picture(place: str, words: str) -> str:
    """A picture at an address as HTML, in a paragraph of its own."""
    return f'<p><img src="{escape(place)}" alt="{escape(words)}"></p>'


def first_of(numbered: Any) -> int:
    """The number a numbered list (an element) begins with."""
    told = str(numbered.get("start") or "1")
    return int(told) if told.isdecimal() and len(told) < 7 else 1
