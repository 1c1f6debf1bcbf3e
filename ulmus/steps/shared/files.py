"""Files from wherever they are: kept here, in a file store, at an address."""

from __future__ import annotations

from ...protocols import documents, filestore
from ...protocols.errors import Misconfigured
from ...protocols.net import status_error
from ..api import Context
from ..connections.files import folder


def fetch(place: str, store: str, context: Context) -> tuple[str, str, str | None, bytes]:
    """A file from wherever it is: name, type, charset, content. Raises `OutsideError`."""
    kept = context.workspace.file(place)
    if kept is not None:
        return kept[0], kept[1], None, kept[2]
    if store:
        got = filestore.fetch(context.web, folder(context.connect(store, "files")), place)
    elif place.startswith(("http://", "https://")):
        got = context.web.fetch(place, max_bytes=documents.LARGEST, max_seconds=120)
        if got.status != 200:
            raise status_error(got, "The file’s server")
    else:
        raise Misconfigured(f"“{place[:80]}” is no address. Choose a file store for a path.")
    name = got.url.split("?")[0].rstrip("/").rsplit("/", 1)[-1]
    return name, got.content_type, got.charset, got.body
