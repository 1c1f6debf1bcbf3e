"""What is written in the town: its sites and their articles, read from `articles/`.

An article file holds articles one after another: ``# Title``, ``By:`` and ``Tags:`` lines, paragraphs.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

ARTICLES = Path(__file__).with_name("articles")


@dataclass(frozen=True)
class Article:
    """One article; `number` is its place in its site's file, from 1."""

    site: str
    number: int
    slug: str
    title: str
    author: str
    tags: tuple[str, ...]
    paragraphs: tuple[str, ...]


@dataclass(frozen=True)
class Site:
    """A news site; the last `held_back` articles wait for the control page's button."""

    slug: str
    name: str
    tagline: str
    held_back: int


SITES = {
    s.slug: s
    for s in (
        Site("furrow-letter", "The Furrow Letter", "Seed, soil and kitchen gardens of the Wend valley", 6),
        Site("cutside-courier", "The Cutside Courier", "News from the Ostrey Cut and its boats", 6),
    )
}


@lru_cache
def articles(site: str) -> tuple[Article, ...]:
    """The site's articles in order."""
    text = (ARTICLES / f"{site}.md").read_text("utf-8")
    chunks = re.split(r"^# ", text, flags=re.MULTILINE)[1:]
    return tuple(_article(site, n, chunk) for n, chunk in enumerate(chunks, start=1))


def _article(site: str, number: int, chunk: str) -> Article:
    title, author, tags, *rest = chunk.split("\n", 3)
    paragraphs = tuple(p.strip() for p in "\n".join(rest).split("\n\n") if p.strip())
    names = tuple(t.strip() for t in tags.removeprefix("Tags:").split(","))
    return Article(site, number, slug_of(title), title.strip(), author.removeprefix("By:").strip(), names, paragraphs)


def slug_of(title: str) -> str:
    """An address's last part from a title: its first five words."""
    plain = unicodedata.normalize("NFKD", title.lower()).encode("ascii", "ignore").decode()
    return "-".join(re.sub(r"[^a-z0-9]+", "-", plain).strip("-").split("-")[:5]) or "untitled"


def paragraphs_of(text: str) -> tuple[str, ...]:
    """A text's paragraphs, as somebody typed them: what stands between empty lines."""
    return tuple(" ".join(p.split()) for p in re.split(r"\n\s*\n", text.replace("\r", "")) if p.strip())
