"""Sitemaps (the sitemaps.org protocol): the pages a site lists of itself, with indexes followed, packed ones unpacked."""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from urllib.parse import urljoin, urlsplit

from . import robots
from .errors import BadAnswer, TooLarge
from .net import Web, status_error
from .text import decode

LARGEST = 10_000_000
UNPACKED = 50_000_000
MOST_FILES = 20
MOST = 20_000


@dataclass(frozen=True)
class Listed:
    """A page a sitemap lists; `changed` is a date (W3C Datetime) or empty."""

    link: str
    changed: str


def read(web: Web, site: str) -> list[Listed]:
    """The pages of a site, from the sitemaps its robots.txt names or from /sitemap.xml. Raises `OutsideError`."""
    root = "{0.scheme}://{0.netloc}".format(urlsplit(site))
    waiting = [site] if site.endswith((".xml", ".xml.gz", ".txt")) else robots.sitemaps(web, site) or [f"{root}/sitemap.xml"]
    out: dict[str, Listed] = {}
    done: set[str] = set()
    while waiting and len(done) < MOST_FILES and len(out) < MOST:
        url = waiting.pop(0)
        if url in done:
            continue
        done.add(url)
        got = web.fetch(url, max_bytes=LARGEST)
        if got.status != 200:
            if len(done) == 1 and not waiting:
                raise status_error(got, "The site’s map")
            continue
        maps, pages = parse(got.body, got.charset, got.url)
        waiting += maps
        out.update({page.link: page for page in pages})
    if not out:
        raise BadAnswer("The site’s map lists no pages.")
    return list(out.values())[:MOST]


def parse(body: bytes, charset: str | None, url: str) -> tuple[list[str], list[Listed]]:
    """The sitemaps an index names, and the pages a sitemap lists. Raises `OutsideError`."""
    if body[:2] == b"\x1f\x8b":
        body = _unpacked(body)
    if not body.lstrip()[:1]:
        raise BadAnswer("The site’s map is empty.")
    if body.lstrip()[:1] != b"<" and not body.lstrip().startswith(b"\xef\xbb\xbf<"):
        lines = [line.strip() for line in decode(body, charset).splitlines()]
        entries = [Listed(line, "") for line in lines if line.startswith(("http://", "https://"))]
        if not entries:
            raise BadAnswer("This is no map of a site.")
        return [], entries[:MOST]
    return _xml(body, url)


def _xml(body: bytes, url: str) -> tuple[list[str], list[Listed]]:
    from lxml import etree

    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False, recover=True)
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError):
        root = None
    kind = etree.QName(root).localname if root is not None else ""
    if kind not in ("urlset", "sitemapindex"):
        raise BadAnswer("This is no map of a site.")
    listed = list(_entries(root, url))
    return ([one.link for one in listed], []) if kind == "sitemapindex" else ([], listed)


def _entries(root: object, url: str) -> Iterator[Listed]:
    from lxml import etree

    for n, entry in enumerate(root):  # type: ignore[arg-type, var-annotated]
        if n >= MOST:
            return
        found = {etree.QName(part).localname: (part.text or "").strip() for part in entry if isinstance(part.tag, str)}
        if found.get("loc"):
            yield Listed(urljoin(url, found["loc"]), found.get("lastmod", ""))


def _unpacked(body: bytes) -> bytes:
    unpacker = zlib.decompressobj(zlib.MAX_WBITS | 16)
    try:
        out = unpacker.decompress(body, UNPACKED)
    except zlib.error:
        raise BadAnswer("The site’s map is packed and cannot be unpacked.") from None
    if unpacker.unconsumed_tail:
        raise TooLarge(f"The site’s map is more than {UNPACKED // 1_000_000} MB when unpacked.")
    return out
