"""A file store over WebDAV (RFC 4918): folders listed and made, files fetched and saved."""

from __future__ import annotations

from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from urllib.parse import quote, unquote, urljoin, urlsplit

from .errors import BadAnswer, Misconfigured, NotFound
from .net import Fetched, Web, status_error

LARGEST = 60_000_000
LARGEST_LIST = 8_000_000
MOST = 2000
_ASK = (
    '<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/>'
    "<getlastmodified/><getcontenttype/></prop></propfind>"
)


@dataclass(frozen=True)
class Folder:
    """A file store: the address of its root, and the headers that let one in."""

    url: str
    headers: dict[str, str] = field(default_factory=dict, repr=False)


@dataclass(frozen=True)
class Entry:
    """A file or folder: its name, its path from the root, size in bytes, when it was changed (ISO 8601), its type."""

    name: str
    path: str
    folder: bool
    size: int
    changed: str
    type: str


def address(store: Folder, path: str) -> str:
    """The address of a path in the store. Raises `OutsideError` for a path that leads out of it."""
    parts = [part for part in path.replace("\\", "/").split("/") if part not in ("", ".")]
    if ".." in parts:
        raise Misconfigured(f"“{path}” leads out of the file store.")
    return store.url.rstrip("/") + "/" + "/".join(quote(part) for part in parts)


def fetch(web: Web, store: Folder, path: str) -> Fetched:
    """A file. Raises `OutsideError`."""
    got = web.fetch(address(store, path), headers=store.headers, max_bytes=LARGEST, max_seconds=120)
    if got.status == 404:
        raise NotFound(f"There is no file “{path}” in the file store.")
    if got.status != 200:
        raise status_error(got, "The file store")
    return got


def save(web: Web, store: Folder, path: str, content: bytes, kind: str) -> str:
    """Save a file, with the folders it stands in (RFC 4918 sections 9.3 and 9.7); gives its address. Raises `OutsideError`."""
    url = address(store, path)
    got = _put(web, store, url, content, kind)
    if got.status in (404, 409):
        # A folder above it is not there yet.
        parts = path.replace("\\", "/").strip("/").split("/")[:-1]
        for n in range(1, len(parts) + 1):
            made = web.fetch(address(store, "/".join(parts[:n])) + "/", method="MKCOL", headers=store.headers)
            if made.status not in (201, 405):  # 405: it is there already
                raise status_error(made, "The file store")
        got = _put(web, store, url, content, kind)
    if got.status not in (200, 201, 204):
        raise status_error(got, "The file store")
    return url


def _put(web: Web, store: Folder, url: str, content: bytes, kind: str) -> Fetched:
    return web.fetch(url, method="PUT", content=content, headers={"Content-Type": kind, **store.headers}, max_seconds=120)


def listing(web: Web, store: Folder, path: str = "") -> list[Entry]:
    """What a folder holds, folders first, by name. Raises `OutsideError`."""
    url = address(store, path).rstrip("/") + "/"
    headers = {"Depth": "1", "Content-Type": "application/xml", **store.headers}
    got = web.fetch(url, method="PROPFIND", headers=headers, content=_ASK.encode(), max_bytes=LARGEST_LIST)
    if got.status == 404:
        raise NotFound(f"There is no folder “{path}” in the file store.")
    if got.status != 207:
        raise status_error(got, "The file store")
    entries = [entry for entry in _entries(got.body, store) if entry.path.strip("/") != path.strip("/")]
    return sorted(entries, key=lambda one: (not one.folder, one.name.casefold()))[:MOST]


def probe(web: Web, store: Folder) -> str:
    """List the root. Raises `OutsideError`."""
    entries = listing(web, store)
    files = sum(not entry.folder for entry in entries)
    return f"Holds {files} file{'s' if files != 1 else ''} and {len(entries) - files} folders."


def _entries(body: bytes, store: Folder) -> list[Entry]:
    from lxml import etree

    try:
        root = etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True))
    except (etree.XMLSyntaxError, ValueError):
        raise BadAnswer("The file store answered with something that is no list of files.") from None
    base = unquote(urlsplit(store.url.rstrip("/") + "/").path)
    out = []
    for one in root.iter("{DAV:}response"):
        place = unquote(urlsplit(urljoin(store.url, (one.findtext("{DAV:}href") or "").strip())).path)
        if not place.startswith(base.rstrip("/")):
            continue
        path = place[len(base) :].strip("/")
        found = {etree.QName(p).localname: p for p in one.iter() if isinstance(p.tag, str)}
        length = (found["getcontentlength"].text or "0") if "getcontentlength" in found else "0"
        out.append(
            Entry(
                name=path.rsplit("/", 1)[-1],
                path=path,
                folder=one.find(".//{DAV:}collection") is not None,
                size=int(length) if length.isdigit() else 0,
                changed=_moment(found["getlastmodified"].text if "getlastmodified" in found else ""),
                type=((found["getcontenttype"].text or "") if "getcontenttype" in found else "").split(";")[0],
            )
        )
    return out


def _moment(text: str | None) -> str:
    try:
        return parsedate_to_datetime(text or "").isoformat()
    except (ValueError, TypeError):
        return ""
