"""Links as they are compared: without what only tells where a reader came from."""

from __future__ import annotations

import re
from urllib.parse import parse_qsl, urlencode, urlsplit, urlunsplit

_TRACKING = re.compile(r"^(?:utm_\w+|mtm_\w+|pk_\w+|ref|ref_src|cmp|campaign|clickid|sessionid|[a-z]{1,5}clid)$", re.IGNORECASE)


def clean(link: str) -> str:
    """An address without what only tracks its reader, and without its fragment; one that cannot be read stays as it is."""
    try:
        parts = urlsplit(link)
        query = parts.query
        if query:
            given = parse_qsl(query, keep_blank_values=True)
            kept = [(k, v) for k, v in given if not _TRACKING.match(k)]
            query = urlencode(kept) if len(kept) < len(given) else query
        return urlunsplit((parts.scheme, parts.netloc, parts.path or "/", query, ""))
    except ValueError:
        return link


def same(value: str) -> str:
    """What makes a value the same as another: for a link its address without tracking, letters of the host in one case; for any
    other text its words."""
    plain = value.strip()
    if not re.match(r"https?://\S+\Z", plain, re.IGNORECASE):
        return plain.casefold()
    _, _, rest = clean(plain).partition("://")
    host, slash, path = rest.partition("/")
    return f"{host.casefold().removeprefix('www.')}{slash}{path}".removesuffix("/")
