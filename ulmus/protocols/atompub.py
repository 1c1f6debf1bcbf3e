"""Articles on a blog by the Atom Publishing Protocol (RFC 5023), in the Atom format (RFC 4287).

A service document names collections; an entry is posted to one that takes entries, a picture to one that takes pictures, and
what is there is changed by PUT at its edit address, under its entity tag. The protocol has no key that makes a post twice the same
post: after a lost answer the collection, which lists what was edited last first (section 10), is read back to before the
attempt and the entry is looked for by what it says.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote, urljoin

from lxml import etree
from lxml import html as lxml_html

from .errors import BadAnswer, Misconfigured, NotFound, OutsideError, Refused
from .net import Fetched, Web, clock_ahead, retry_after, status_error
from .text import for_xml

ATOM, APP = "{http://www.w3.org/2005/Atom}", "{http://www.w3.org/2007/app}"
LARGEST = 8_000_000
MOST_PAGES = 50
LEEWAY = 5.0
"""Seconds by which an entry may seem older than the attempt that made it."""
OLDER = 600.0
"""Seconds by which an entry must be older than the attempt for the list to reach back behind it."""
KNOWN_FOR, MOST_KNOWN = 600.0, 1000


@dataclass(frozen=True)
class Blog:
    """The address of a service document, or of a collection itself; the headers that let one in; the collection's title where
    there are several."""

    url: str
    headers: Mapping[str, str] = field(default_factory=dict, repr=False)
    collection: str = ""


@dataclass(frozen=True)
class Collection:
    """A collection: its address, its title, the media types it takes, and whether that is entries."""

    url: str
    title: str
    accepts: tuple[str, ...] = ()

    @property
    def takes_entries(self) -> bool:
        # Without an app:accept element it takes entries (section 8.3.4).
        return not self.accepts or any(kind.startswith("application/atom+xml") for kind in self.accepts)

    @property
    def takes_pictures(self) -> bool:
        return any(kind.startswith(("image/", "*/*")) for kind in self.accepts)


@dataclass(frozen=True)
class Article:
    """An entry as it is sent: HTML under a title, with a summary and categories. One that is `held_back` is a draft
    (section 13). `key` identifies it here."""

    title: str
    html: str
    key: str
    summary: str = ""
    categories: tuple[str, ...] = ()
    held_back: bool = False


def collections(web: Web, blog: Blog) -> list[Collection]:
    """The collections of a blog. Raises `OutsideError`."""
    known = web.memory("atompub: collections", MOST_KNOWN, KNOWN_FOR)
    place = (blog.url, tuple(sorted(blog.headers.items())))
    kept: list[Collection] | None = known.get(place)
    if kept is not None:
        return kept
    got = _fetch(web, blog, blog.url, "application/atomsvc+xml, application/atom+xml;q=0.9")
    root = _read(got)
    if root.tag == f"{ATOM}feed":
        found = [Collection(got.url, root.findtext(f"{ATOM}title") or "")]
    elif root.tag == f"{APP}service":
        found = [
            Collection(
                urljoin(got.url, one.get("href", "")),
                (one.findtext(f"{ATOM}title") or "").strip(),
                tuple((kind.text or "").strip() for kind in one.iter(f"{APP}accept")),
            )
            for one in root.iter(f"{APP}collection")
        ]
    else:
        raise BadAnswer("At this address is neither a service document nor a collection of the Atom Publishing Protocol.")
    known.put(place, found)
    return found


def entries_of(web: Web, blog: Blog) -> Collection:
    """The collection that articles go to. Raises `OutsideError` where there is none."""
    found = [one for one in collections(web, blog) if one.takes_entries]
    wanted = [one for one in found if not blog.collection or one.title.casefold() == blog.collection.casefold()]
    if not wanted:
        named = ", ".join(f"“{one.title}”" for one in found)
        raise Misconfigured(
            f"The blog has no collection “{blog.collection}”; it has {named}." if found else "The blog takes no articles."
        )
    return wanted[0]


def upload(web: Web, blog: Blog, picture: tuple[str, str, bytes]) -> str:
    """Put a picture (name, type, content) into the blog's collection of pictures (section 9.6); gives its address. One that is
    there twice harms nobody. Raises `OutsideError`."""
    name, kind, content = picture
    store = next((one for one in collections(web, blog) if one.takes_pictures), None)
    if store is None:
        raise Refused("The blog takes no pictures; give the picture as an address on the web.")
    headers = {**blog.headers, "Content-Type": kind, "Slug": quote(for_xml(name))}
    got = web.fetch(store.url, method="POST", content=content, headers=headers, max_seconds=120)
    if got.status != 201:
        error = _refusal(got)
        raise OutsideError(error.message, retryable=error.retryable, retry_after=error.retry_after)
    entry = _read(got) if got.body.strip() else _read(_fetch(web, blog, urljoin(store.url, got.headers.get("location", ""))))
    place = next((str(one.get("src")) for one in entry.iter(f"{ATOM}content") if one.get("src")), "")
    if not place:
        raise BadAnswer("The blog took the picture and does not say where it stands.")
    return urljoin(store.url, place)


def create(web: Web, blog: Blog, article: Article) -> str:
    """Publish an article; gives its address. Raises `OutsideError`, `ambiguous` where it may be there although no answer said so."""
    collection = entries_of(web, blog)
    entry = etree.Element(f"{ATOM}entry", nsmap={None: ATOM[1:-1], "app": APP[1:-1]})
    _put(entry, article)
    headers = {
        **blog.headers,
        "Content-Type": "application/atom+xml;type=entry;charset=utf-8",
        "Slug": quote(for_xml(article.title)[:100]),
    }
    got = web.fetch(collection.url, method="POST", content=_written(entry), headers=headers, max_seconds=60)
    if got.status not in (200, 201):
        raise _refusal(got)
    place = urljoin(collection.url, got.headers.get("location", ""))
    return _address(got.body, place)


def update(web: Web, blog: Blog, place: str, article: Article) -> str:
    """Put an article in the place of the one at an address, what else is in its entry left as it is (section 9.3); gives its
    address. The same again changes nothing. Raises `OutsideError`, also where somebody changed it meanwhile."""
    edit = _edit_address(web, blog, place)
    got = _fetch(web, blog, edit)
    entry = _read(got)
    if entry.tag != f"{ATOM}entry":
        raise BadAnswer("The blog shows no entry where this article is to be changed.")
    _put(entry, article)
    match = {"If-Match": got.headers["etag"]} if got.headers.get("etag") else {}
    headers = {**blog.headers, **match, "Content-Type": "application/atom+xml;type=entry;charset=utf-8"}
    done = web.fetch(edit, method="PUT", content=_written(entry), headers=headers, max_seconds=60)
    if done.status == 412:
        raise OutsideError("Somebody changed the article at this moment.", retryable=True)
    if done.status not in (200, 204):
        raise _refusal(done)
    return _address(done.body, place)


def find(web: Web, blog: Blog, article: Article, since: float) -> tuple[str | None, bool]:
    """An article that was sent at `since` (seconds since the epoch), if at all: its address where it is there, and where it is
    not, whether the list could have shown it. Raises `OutsideError`."""
    wanted = _said(article.title, article.html)
    edited: list[float | None] = []
    for entry, base, ahead in _listed(web, blog):
        at = _moment(entry.findtext(f"{APP}edited") or "")
        edited.append(at)
        if entry.findtext(f"{ATOM}id") == _identity(article.key):
            return _link(entry, base, "alternate") or base, True
        if (at is None or at >= since + ahead - LEEWAY) and _same(web, blog, entry, base, wanted):
            return _link(entry, base, "alternate") or base, True
        known = [one for one in edited if one is not None]
        in_order = len(known) == len(edited) and known == sorted(known, reverse=True)
        if in_order and known[-1] < since + ahead - OLDER:
            return None, True
    return None, True


# -- entries --------------------------------------------------------------------------------------------


def _put(entry: Any, article: Article) -> None:
    """Write an article into an entry; what else stands there stays."""
    kept = {f"{ATOM}{name}" for name in ("title", "summary", "content", "category", "updated")} | {f"{APP}control"}
    for child in [one for one in entry if one.tag in kept]:
        entry.remove(child)
    if entry.find(f"{ATOM}id") is None:
        etree.SubElement(entry, f"{ATOM}id").text = _identity(article.key)
        author = etree.SubElement(entry, f"{ATOM}author")
        etree.SubElement(author, f"{ATOM}name").text = "Ulmus"
    etree.SubElement(entry, f"{ATOM}title").text = for_xml(article.title)
    etree.SubElement(entry, f"{ATOM}updated").text = datetime.now(UTC).isoformat(timespec="seconds")
    if article.summary:
        etree.SubElement(entry, f"{ATOM}summary").text = for_xml(article.summary)
    for category in article.categories:
        etree.SubElement(entry, f"{ATOM}category").set("term", for_xml(category))
    etree.SubElement(entry, f"{ATOM}content", type="html").text = for_xml(article.html)
    if article.held_back:
        control = etree.SubElement(entry, f"{APP}control")
        etree.SubElement(control, f"{APP}draft").text = "yes"


def _identity(key: str) -> str:
    return uuid.uuid5(uuid.NAMESPACE_OID, key).urn


def _written(entry: Any) -> bytes:
    return bytes(etree.tostring(entry, xml_declaration=True, encoding="utf-8"))


def _address(body: bytes, place: str) -> str:
    """Where readers find an entry that was answered; else its own address."""
    try:
        return _link(_parsed(body), place, "alternate") or place
    except (etree.XMLSyntaxError, ValueError):
        return place


def _link(entry: Any, base: str, rel: str) -> str:
    for one in entry.iter(f"{ATOM}link"):
        if (one.get("rel") or "alternate") == rel and one.get("href"):
            return urljoin(base, str(one.get("href")))
    return ""


def _said(title: str, page: str) -> tuple[str, str]:
    """What an article says, as far as servers leave it as it was."""
    words = " ".join(lxml_html.fromstring(f"<div>{page}</div>").text_content().split()) if page.strip() else ""
    return " ".join(title.split()), words


def _same(web: Web, blog: Blog, entry: Any, base: str, wanted: tuple[str, str]) -> bool:
    if " ".join((entry.findtext(f"{ATOM}title") or "").split()) != wanted[0]:
        return False
    content = entry.find(f"{ATOM}content")
    if content is None or (content.text is None and len(content) == 0):
        # Lists may show entries in part (section 10); the entry itself is whole.
        edit = _link(entry, base, "edit")
        content = _read(_fetch(web, blog, edit)).find(f"{ATOM}content") if edit else None
    if content is None:
        return True
    inner = content.text or "" if len(content) == 0 else "".join(etree.tostring(child, encoding="unicode") for child in content)
    return _said(wanted[0], inner) == wanted


def _edit_address(web: Web, blog: Blog, place: str) -> str:
    for entry, base, _ in _listed(web, blog):
        known = {_link(entry, base, rel) for rel in ("alternate", "self", "edit")} | {entry.findtext(f"{ATOM}id") or ""}
        if place in known and (edit := _link(entry, base, "edit")):
            return edit
    raise NotFound(f"The blog has no article at {place[:200]} that can be changed.")


def _listed(web: Web, blog: Blog) -> Iterator[tuple[Any, str, float]]:
    """The entries of the collection, page after page, each with its page's address and by how many seconds that server's clock
    is ahead."""
    place, asked = entries_of(web, blog).url, set[str]()
    while place and place not in asked:
        if len(asked) == MOST_PAGES:
            raise OutsideError("The blog’s list of articles is too long to be read to its end.")
        asked.add(place)
        got = _fetch(web, blog, place)
        feed = _read(got)
        for entry in feed.findall(f"{ATOM}entry"):
            yield entry, got.url, clock_ahead(got)
        following = [one.get("href") for one in feed.findall(f"{ATOM}link") if one.get("rel") == "next"]
        place = urljoin(got.url, following[0]) if following and following[0] else ""


# -- over the wire --------------------------------------------------------------------------------------


def _fetch(web: Web, blog: Blog, place: str, kinds: str = "application/atom+xml") -> Fetched:
    got = web.fetch(place, headers={**blog.headers, "Accept": kinds}, max_bytes=LARGEST, max_seconds=30)
    if got.status == 404:
        raise NotFound("The blog has nothing at this address (404).")
    if got.status != 200:
        raise status_error(got, "The blog")
    return got


def _parsed(body: bytes) -> Any:
    return etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False))


def _read(got: Fetched) -> Any:
    try:
        return _parsed(got.body)
    except (etree.XMLSyntaxError, ValueError):
        raise BadAnswer("The blog’s answer is not one of the Atom Publishing Protocol; check the address.") from None


def _refusal(got: Fetched) -> OutsideError:
    error = status_error(got, "The blog")
    if got.status < 400:
        words = f"The blog answered with {got.status}, which does not say whether the article was taken."
        return OutsideError(words, retryable=True, ambiguous=True)
    error.ambiguous = got.status >= 500 and got.status != 503
    error.retry_after = retry_after(got.headers.get("retry-after"))
    return error


def _moment(text: str) -> float | None:
    try:
        moment = datetime.fromisoformat(text.strip().replace("Z", "+00:00"))
    except ValueError:
        return None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()
