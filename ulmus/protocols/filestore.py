"""A file store over WebDAV (RFC 4918): folders listed and made, files fetched and saved."""

from __future__ import annotations

import mimetypes
import re
import time
import unicodedata
from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from urllib.parse import quote, unquote, urljoin, urlsplit

from .errors import BadAnswer, Misconfigured, NotFound, OutsideError, Refused, TooLarge
from .net import Fetched, Web, status_error

LARGEST = 60_000_000
LARGEST_LIST = 8_000_000
MOST = 2000
MOST_ALIKE = 200
LONGEST_NAME = 200
"""Bytes of a name; systems keep at most 255, some of which they want for themselves."""
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


def safe_name(name: str) -> str:
    """A name as every store can keep it: no folder in it, no way out, no signs that systems refuse, at most 200 bytes with its
    ending."""
    clean = "".join(" " if unicodedata.category(sign) in ("Cc", "Cs", "Cf") else sign for sign in name)
    clean = " ".join(re.sub(r'[/\\<>:"|?*]+', "-", clean).split()).strip(". ")
    stem, dot, ending = clean.rpartition(".")
    if not dot or len(ending) > 10:
        stem, dot, ending = clean, "", ""
    room = LONGEST_NAME - len(f"{dot}{ending}".encode())
    return stem.encode()[:room].decode("utf-8", "ignore").rstrip() + dot + ending


def numbered(path: str, number: int) -> str:
    """A path beside another: “report.pdf”, “report 2.pdf”."""
    if number == 1:
        return path
    folder, slash, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    if not stem or len(ending) > 10:
        stem, dot, ending = name, "", ""
    return f"{folder}{slash}{stem} {number}{dot}{ending}"


def save(web: Web, store: Folder, path: str, content: bytes, kind: str) -> str:
    """Save a file in the place of what stands there, if anything does, with the folders it stands in (RFC 4918, sections 9.3 and
    9.7); gives its address. What is changed between the look and the saving is not overwritten (RFC 9110, section 13.1.1). Raises
    `OutsideError`."""
    url = address(store, path)
    there = web.fetch(url, method="HEAD", headers=store.headers)
    tag = there.headers.get("etag", "") if there.status == 200 else ""
    condition = {"If-Match": tag} if tag and not tag.startswith("W/") else {}
    got = _put(web, store, path, content, kind, condition)
    if got.status == 412:
        raise Refused(f"“{path}” was changed by somebody at this moment.", retryable=True)
    return _saved(web, store, path, got)


def replace(web: Web, store: Folder, path: str, content: bytes, tag: str) -> str:
    """Save a file over the version that was read, told by its `tag` (RFC 9110, section 13.1.1); gives the new one, which may be
    empty. Raises `OutsideError`, and a `Refused` that may be tried again where it was changed meanwhile."""
    kind = mimetypes.guess_type(path)[0] or "application/octet-stream"
    condition = {"If-Match": tag} if tag and not tag.startswith("W/") else {}
    got = _put(web, store, path, content, kind, condition)
    if got.status == 412:
        raise Refused(f"“{path}” was changed by somebody at this moment.", retryable=True)
    _saved(web, store, path, got)
    return got.headers.get("etag", "")


def save_beside(web: Web, store: Folder, path: str, content: bytes, kind: str) -> tuple[str, str]:
    """Save a file under the next free name, never over another; gives its path and its address. Raises `OutsideError`."""
    for number in range(1, MOST_ALIKE + 1):
        here = numbered(path, number)
        if web.fetch(address(store, here), method="HEAD", headers=store.headers).status == 200:
            continue
        # It may have come to be there since; a store that knows no conditions was at least looked at.
        got = _put(web, store, here, content, kind, {"If-None-Match": "*"})
        if got.status != 412:
            return here, _saved(web, store, here, got)
    raise Refused(f"There are {MOST_ALIKE} files called “{path}” already.")


def make_folder_beside(web: Web, store: Folder, path: str) -> str:
    """Make a folder under the next free name; gives its path. Raises `OutsideError`."""
    parent = path.rpartition("/")[0]
    if parent:
        _make_folders(web, store, parent)
    for number in range(1, MOST_ALIKE + 1):
        here = numbered(path, number)
        made = web.fetch(address(store, here) + "/", method="MKCOL", headers=store.headers)
        if made.status == 201:
            return here
        if made.status != 405:
            raise _refusal(web, store, made, here)
    raise Refused(f"There are {MOST_ALIKE} folders called “{path}” already.")


def find_saved(web: Web, store: Folder, path: str, content: bytes, since: float) -> tuple[str, str] | None:
    """A file that was saved beside others at `since` (seconds since the epoch), if it was: its path and address. Raises
    `OutsideError`."""
    for number in range(1, MOST_ALIKE + 1):
        here = numbered(path, number)
        got = web.fetch(address(store, here), headers=store.headers, max_bytes=LARGEST, max_seconds=120)
        if got.status == 404:
            return None
        if got.status != 200:
            raise status_error(got, "The file store")
        changed, now = (_seconds(got.headers.get(name, "")) for name in ("last-modified", "date"))
        ahead = now - time.time() if now else 0.0
        if got.body == content and (not changed or changed >= since + ahead - 2):
            return here, address(store, here)
    return None


def _put(web: Web, store: Folder, path: str, content: bytes, kind: str, condition: dict[str, str]) -> Fetched:
    """PUT a file, with the folders it stands in."""
    url, headers = address(store, path), {"Content-Type": kind, **condition, **store.headers}
    got = web.fetch(url, method="PUT", content=content, headers=headers, max_seconds=120)
    if got.status in (404, 409):
        # A folder above it is not there yet.
        _make_folders(web, store, path.replace("\\", "/").strip("/").rpartition("/")[0])
        got = web.fetch(url, method="PUT", content=content, headers=headers, max_seconds=120)
    return got


def _make_folders(web: Web, store: Folder, path: str) -> None:
    parts = [part for part in path.split("/") if part]
    for n in range(1, len(parts) + 1):
        here = "/".join(parts[:n])
        made = web.fetch(address(store, here) + "/", method="MKCOL", headers=store.headers)
        if made.status not in (201, 405):  # 405: it is there already
            raise _refusal(web, store, made, here)


def _saved(web: Web, store: Folder, path: str, got: Fetched) -> str:
    if got.status not in (200, 201, 204):
        raise _refusal(web, store, got, path)
    return address(store, path)


def _refusal(web: Web, store: Folder, got: Fetched, path: str) -> OutsideError:
    """Why the store did not save, in words of its own for each reason. Stores give different numbers where something stands in the
    way, so that it is looked for."""
    name = path.rsplit("/", 1)[-1]
    if got.status == 423:
        return Refused(f"“{path}” is locked: somebody has it open there.", retryable=True)
    if got.status == 507:
        return Refused("The file store is full; nothing was saved.")
    if got.status == 413:
        return TooLarge(f"“{name}” is larger than the file store takes.")
    if got.status in (400, 403, 404, 405, 409, 414):
        if _is_folder(web, store, path):
            return Refused(f"A folder is called “{path}” already, so that no file can be.")
        parts = path.split("/")
        for n in range(1, len(parts)):
            if _is_folder(web, store, above := "/".join(parts[:n])) is False:
                return Refused(f"“{path}” cannot stand there: “{above}” is a file and no folder.")
        if got.status == 414 or len(name.encode()) > LONGEST_NAME:
            return Refused(f"The name “{name[:60]}…” is too long for the file store.")
    error = status_error(got, "The file store")
    # 503 says that the request was not handled; any other fault may have come after the effect.
    error.ambiguous = got.status >= 500 and got.status != 503
    return error


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


def _is_folder(web: Web, store: Folder, path: str) -> bool | None:
    """Whether a folder stands at a path, or a file; ``None`` where nothing does, or it cannot be seen."""
    headers = {"Depth": "0", "Content-Type": "application/xml", **store.headers}
    try:
        got = web.fetch(address(store, path), method="PROPFIND", headers=headers, content=_ASK.encode(), max_bytes=LARGEST_LIST)
        if got.status in (301, 302, 308):
            return True  # a folder's address ends in a slash
        found = _entries(got.body, store) if got.status == 207 else []
    except OutsideError:
        return None
    return found[0].folder if found else None


def _seconds(text: str) -> float:
    try:
        return parsedate_to_datetime(text).timestamp()
    except (ValueError, TypeError):
        return 0.0


def _moment(text: str | None) -> str:
    try:
        return parsedate_to_datetime(text or "").isoformat()
    except (ValueError, TypeError):
        return ""
