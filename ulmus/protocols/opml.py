"""Lists of feeds in OPML 2.0, in and out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from .errors import BadAnswer

MOST = 1000


@dataclass(frozen=True)
class Outline:
    """One feed of a list: its title, its address, the site it belongs to, the folder it stands in."""

    title: str
    feed: str
    site: str = ""
    folder: str = ""


def parse(body: bytes) -> list[Outline]:
    """The feeds an OPML file lists. Raises `OutsideError` where it is none."""
    from lxml import etree

    try:
        root = etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True, recover=True))
    except (etree.XMLSyntaxError, ValueError):
        root = None
    if root is None or _name(root) != "opml":
        raise BadAnswer("This is no list of feeds (OPML).")
    out: dict[str, Outline] = {}
    for one in root.iter():
        if _name(one) != "outline":
            continue
        told = _attributes(one)
        feed = told.get("xmlurl", "").strip()
        if feed and feed not in out and len(out) < MOST:
            parent = one.getparent()
            around = _attributes(parent) if parent is not None and _name(parent) == "outline" else {}
            folder = around.get("text") or around.get("title") or ""
            out[feed] = Outline(told.get("title") or told.get("text") or feed, feed, told.get("htmlurl", ""), folder)
    return list(out.values())


def _name(element: Any) -> str:
    """An element's name in small letters, whatever namespace it is in."""
    return element.tag.rpartition("}")[2].lower() if isinstance(element.tag, str) else ""


def _attributes(element: Any) -> dict[str, str]:
    return {name.rpartition("}")[2].lower(): value for name, value in element.attrib.items()}


def write(feeds: list[Outline], title: str) -> bytes:
    """An OPML file of these feeds."""
    from lxml import etree

    root: Any = etree.Element("opml", version="2.0")
    head = etree.SubElement(root, "head")
    etree.SubElement(head, "title").text = title
    body = etree.SubElement(root, "body")
    folders: dict[str, Any] = {"": body}
    for feed in feeds:
        if feed.folder not in folders:
            folders[feed.folder] = etree.SubElement(body, "outline", text=feed.folder)
        told = {"type": "rss", "text": feed.title, "title": feed.title, "xmlUrl": feed.feed}
        etree.SubElement(folders[feed.folder], "outline", {**told, **({"htmlUrl": feed.site} if feed.site else {})})
    out: bytes = etree.tostring(root, xml_declaration=True, encoding="utf-8", pretty_print=True)
    return out
