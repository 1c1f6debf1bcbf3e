"""Web pages: the main text of an HTML page, with its title, author and date. Plain text is taken as it is."""

from __future__ import annotations

import re
from dataclasses import dataclass

from .aside import aside
from .errors import OutsideError
from .net import Fetched, Web, status_error
from .text import decode

MAX_BYTES = 5_000_000
LONGEST_TEXT = 500_000
_HTML = ("text/html", "application/xhtml+xml", "")


@dataclass(frozen=True)
class Page:
    """A page as a reader would have it. `date` is ISO 8601 or empty; `words` counts the text's words."""

    url: str
    title: str
    author: str
    date: str
    text: str

    @property
    def words(self) -> int:
        return len(self.text.split())


def read(web: Web, url: str) -> Page:
    """Fetch `url` and give its main text. Raises `OutsideError` with a reason in words."""
    got = web.fetch(url, headers={"Accept": "text/html, text/plain;q=0.8, */*;q=0.1"}, max_bytes=MAX_BYTES)
    if got.status != 200:
        raise status_error(got, "The page’s server")
    return from_response(got)


def from_response(got: Fetched) -> Page:
    """The page in a response. Raises `OutsideError` where it is none."""
    kind = got.content_type
    if got.body[:5] == b"%PDF-" or kind == "application/pdf":
        raise OutsideError("This is a PDF, not a web page. Reading PDFs is a step of its own.")
    if not got.body.strip():
        raise OutsideError("The page is empty.")
    if kind == "text/plain":
        text = decode(got.body, got.charset).strip()
        return Page(got.url, text.splitlines()[0][:120] if text else "", "", "", text[:LONGEST_TEXT])
    if kind not in _HTML:
        raise OutsideError(f"This is not a web page but {kind}.")
    return aside(from_html, decode(got.body, got.charset), got.url)


def load() -> None:
    """Load what reading pages needs."""
    import trafilatura

    trafilatura.bare_extraction("<p>Warm.</p>")


def from_html(source: str, url: str = "") -> Page:
    """The main text of an HTML page. Raises `OutsideError` where it has none."""
    import trafilatura  # loaded on first use: it is large

    if not re.search(r"<\w+", source):
        raise OutsideError("This is not a web page.")
    try:
        found = trafilatura.bare_extraction(source, url=url or None, with_metadata=True, include_comments=False, favor_recall=True)
    except Exception as error:  # hostile markup must fail this page alone
        raise OutsideError(f"The page’s markup cannot be read ({type(error).__name__}).") from None
    text = (getattr(found, "text", None) or "").strip()
    if not text:
        raise OutsideError("No running text was found on this page. It may be drawn by a program in the browser.")
    title = getattr(found, "title", None) or ""
    if text.startswith(title + "\n"):
        text = text[len(title) :].strip() or text
    return Page(url, title, getattr(found, "author", None) or "", getattr(found, "date", None) or "", text[:LONGEST_TEXT])
