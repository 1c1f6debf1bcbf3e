"""Web pages: the main text of an HTML page, and what else it tells: title, author, date, language, links, images, data.

Plain text is taken as it is. A page is asked for again only with its validators (RFC 9110 section 13), and a site is asked
first whether it lets programs read (RFC 9309).
"""

from __future__ import annotations

import json
import re
import threading
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urljoin, urlsplit

from ..core.gather.links import clean
from . import robots
from .errors import BadAnswer
from .languages import language_of
from .net import Fetched, Web, status_error
from .text import decode
from .workers import in_worker

MAX_BYTES = 5_000_000
LONGEST_TEXT = 500_000
MOST_LINKS = 1000
MOST_IMAGES = 200
MOST_DATA = 40
LONGEST_BESIDE = 300
_BYLINE = frozenset(("by", "byline", "by-line", "author", "post-meta", "entry-meta", "article-meta", "dateline", "credit", "meta"))
LONGEST_WORDS = 300
_HTML = ("text/html", "application/xhtml+xml", "")


@dataclass(frozen=True)
class Link:
    """A link with its words; `same_site` where it stays on the host of the page, with or without ``www.``."""

    link: str
    words: str
    same_site: bool


@dataclass(frozen=True)
class Page:
    """A page as a reader would have it. `date` is ISO 8601 or empty; `language` a BCP 47 tag or empty; `words` counts.

    Where the page does not tell its language, its words do. `data` is what the page tells programs: JSON-LD objects, and Open Graph properties as one object.
    """

    url: str
    title: str
    author: str
    date: str
    text: str
    language: str = ""
    description: str = ""
    image: str = ""
    links: list[Link] = field(default_factory=list)
    images: list[dict[str, str]] = field(default_factory=list)
    data: list[dict[str, Any]] = field(default_factory=list)

    @property
    def words(self) -> int:
        return len(self.text.split())


class _Cache:
    """Pages as last read, with what the server needs to say that nothing has changed. Thread-safe."""

    MOST = 400
    LARGEST = 400_000

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pages: OrderedDict[str, tuple[str, str, Page]] = OrderedDict()

    def get(self, url: str) -> tuple[str, str, Page] | None:
        with self._lock:
            return self._pages.get(url)

    def keep(self, url: str, got: Fetched, page: Page) -> None:
        etag, modified = got.headers.get("etag", ""), got.headers.get("last-modified", "")
        private = "no-store" in got.headers.get("cache-control", "")
        if not (etag or modified) or private or len(got.body) > self.LARGEST:
            return
        with self._lock:
            self._pages[url] = (etag, modified, page)
            self._pages.move_to_end(url)
            while len(self._pages) > self.MOST:
                self._pages.popitem(last=False)


_cache = _Cache()


def read(web: Web, url: str) -> Page:
    """Fetch `url` and give its main text and the rest. Raises `OutsideError` with a reason in words."""
    robots.check(web, url)
    headers = {"Accept": "text/html, text/plain;q=0.8, */*;q=0.1"}
    known = _cache.get(url)
    if known is not None:
        headers |= {k: v for k, v in (("If-None-Match", known[0]), ("If-Modified-Since", known[1])) if v}
    with robots.turn(web, url):
        got = web.fetch(url, headers=headers, max_bytes=MAX_BYTES)
    if got.status == 304 and known is not None:
        return known[2]
    if got.status != 200:
        raise status_error(got, "The page’s server")
    page = from_response(got)
    _cache.keep(url, got, page)
    return page


def from_response(got: Fetched) -> Page:
    """The page in a response. Raises `OutsideError` where it is none."""
    return in_worker(from_html, _source(got), got.url) if _is_markup(got) else _plain(got)


def links(web: Web, url: str) -> tuple[str, list[Link]]:
    """The title and the links of a page, whether it has running text or not. Raises `OutsideError`."""
    robots.check(web, url)
    with robots.turn(web, url):
        got = web.fetch(url, headers={"Accept": "text/html, */*;q=0.1"}, max_bytes=MAX_BYTES)
    if got.status != 200:
        raise status_error(got, "The page’s server")
    if not _is_markup(got):
        raise BadAnswer("This is not a web page with links.")
    return in_worker(links_of, _source(got), got.url)


def _is_markup(got: Fetched) -> bool:
    kind = got.content_type
    if got.body[:5] == b"%PDF-" or kind == "application/pdf":
        raise BadAnswer("This is a PDF, not a web page. Use “Read a file” for it.")
    if not got.body.strip():
        raise BadAnswer("The page is empty.")
    if kind != "text/plain" and kind not in _HTML:
        raise BadAnswer(f"This is not a web page but {kind}.")
    return kind != "text/plain"


def _source(got: Fetched) -> str:
    return decode(got.body, got.charset)


def _plain(got: Fetched) -> Page:
    text = _source(got).strip()
    return Page(got.url, text.splitlines()[0][:120] if text else "", "", "", text[:LONGEST_TEXT], language_of(text))


def load() -> None:
    """Load what reading pages needs."""
    import trafilatura

    trafilatura.bare_extraction("<p>Warm.</p>")
    language_of("A page that says nothing of its language is told by its words.")


def from_html(source: str, url: str = "") -> Page:
    """The main text of an HTML page, and the rest. Raises `OutsideError` where it has none."""
    import trafilatura  # loaded on first use: it is large

    tree = tree_of(source)
    base = _base(tree, url)
    beside = _beside(tree)
    told: dict[str, Any] = {
        "links": list(_links(tree, base)),
        "images": list(_images(tree, base)),
        "data": _data(tree),
    }
    try:
        found = trafilatura.bare_extraction(tree, url=url or None, with_metadata=True, include_comments=False, favor_recall=True)
    except Exception as error:  # hostile markup must fail this page alone
        raise BadAnswer(f"The page’s markup cannot be read ({type(error).__name__}).") from None
    text = (getattr(found, "text", None) or "").strip()
    if not text:
        raise BadAnswer("No running text was found on this page. It may be drawn by a program in the browser.")
    title = getattr(found, "title", None) or ""
    if text.startswith(title + "\n"):
        text = text[len(title) :].strip() or text
    text = _without(text, beside, getattr(found, "author", None) or "") or text
    image = getattr(found, "image", None) or ""
    return Page(
        url,
        title,
        getattr(found, "author", None) or "",
        getattr(found, "date", None) or "",
        text[:LONGEST_TEXT],
        (tree.get("lang") or "").strip()[:20] or language_of(text),
        description=getattr(found, "description", None) or "",
        image=urljoin(base, image) if image else "",
        **told,
    )


def _beside(tree: Any) -> set[str]:
    """What stands beside the text and is none of it: who wrote it and when, and what is said under pictures."""
    found = tree.xpath("//figcaption | //*[@rel='author' or @itemprop='author' or contains(@class, 'caption')]") + [
        one for one in tree.xpath("//*[@class]") if _BYLINE & set(one.get("class", "").lower().split())
    ]
    said = (" ".join(one.text_content().split()) for one in found)
    return {words for words in said if 3 < len(words) <= LONGEST_BESIDE}


def _without(text: str, beside: set[str], author: str) -> str:
    """A text without the lines that stand beside it: all that is said of a picture, and what begins with the words of a byline."""
    by = re.compile(rf"(?:\w{{2,4}} )?{re.escape(author)}\W*", re.IGNORECASE) if author else None

    def stands_beside(line: str) -> bool:
        said = " ".join(line.split())
        if not said or len(said) > LONGEST_BESIDE:
            return False
        return bool(by and by.fullmatch(said)) or any(one == said or (len(said) > 5 and one.startswith(said)) for one in beside)

    return "\n".join(line for line in text.split("\n") if not stands_beside(line)).strip()


def links_of(source: str, url: str = "") -> tuple[str, list[Link]]:
    """The title and the links of an HTML page."""
    tree = tree_of(source)
    title = " ".join(tree.xpath("string(//title)").split())
    return title[:LONGEST_WORDS], list(_links(tree, _base(tree, url)))


def tree_of(source: str) -> Any:
    """An HTML page parsed. Raises `OutsideError` where it is none."""
    import trafilatura
    from lxml import html

    if not re.search(r"<\w+", source):
        raise BadAnswer("This is not a web page.")
    try:
        tree = trafilatura.load_html(source)
        if tree is None:
            # Pages may leave out the tags around them; the library holds such for broken.
            tree = html.document_fromstring(source)
    except Exception as error:  # hostile markup must fail this page alone
        raise BadAnswer(f"The page’s markup cannot be read ({type(error).__name__}).") from None
    if tree is None:
        raise BadAnswer("This is not a web page.")
    return tree


def _base(tree: Any, url: str) -> str:
    found = tree.xpath("//base/@href")
    try:
        return urljoin(url, str(found[0])) if found else url
    except ValueError:
        return url


def _host(url: str) -> str:
    return (urlsplit(url).hostname or "").removeprefix("www.")


def _links(tree: Any, base: str) -> Iterator[Link]:
    seen: set[str] = set()
    here = _host(base)
    for one in tree.iter("a"):
        href = (one.get("href") or "").strip()
        if not href or href.startswith(("#", "javascript:", "mailto:", "tel:", "data:")):
            continue
        try:
            link = clean(urljoin(base, href))
            same = _host(link) == here
        except ValueError:
            continue
        if not link.startswith(("http://", "https://")) or link in seen:
            continue
        seen.add(link)
        words = " ".join("".join(one.itertext()).split()) or str(one.get("title") or one.get("aria-label") or "")
        yield Link(link, words[:LONGEST_WORDS], same)
        if len(seen) >= MOST_LINKS:
            return


def _images(tree: Any, base: str) -> Iterator[dict[str, str]]:
    seen: set[str] = set()
    for one in tree.iter("img"):
        source = (one.get("src") or one.get("data-src") or "").strip()
        if not source or source.startswith("data:"):
            continue
        try:
            link = urljoin(base, source)
        except ValueError:
            continue
        if link in seen:
            continue
        seen.add(link)
        yield {"link": link, "words": " ".join(str(one.get("alt") or "").split())[:LONGEST_WORDS]}
        if len(seen) >= MOST_IMAGES:
            return


def _data(tree: Any) -> list[dict[str, Any]]:
    out: list[dict[str, Any]] = []
    for one in tree.xpath('//script[@type="application/ld+json"]')[:MOST_DATA]:
        try:
            found = json.loads(one.text or "")
        except (ValueError, RecursionError):
            continue
        graph = found.get("@graph") if isinstance(found, dict) else None
        many = graph if isinstance(graph, list) else found if isinstance(found, list) else [found]
        out += [part for part in many if isinstance(part, dict)]
    graph_tags: dict[str, Any] = {}
    for one in tree.iter("meta"):
        name = str(one.get("property") or "")
        if name.startswith(("og:", "article:", "product:")) and one.get("content"):
            graph_tags.setdefault(name, str(one.get("content"))[:2000])
    return [*out[:MOST_DATA], *([graph_tags] if graph_tags else [])]
