"""Kept files over HTTP: pictures to be looked at, anything else to be saved and not shown."""

from __future__ import annotations

from flask import Response

from ...runtime import files
from .base import Refusal, house

SHOWN = frozenset({"image/png", "image/jpeg", "image/webp", "image/gif"})
"""Kept files that are shown: pictures that hold nothing that could act."""


def send_kept(sha: str) -> Response:
    """A kept file by its hash. Raises `Refusal` (404) where it is not here."""
    found = files.fetch(house().services, sha)
    if found is None:
        raise Refusal("This file is not here.", 404)
    record, content = found
    name = record.name.encode("ascii", "replace").decode().replace('"', "'")
    shown = record.type in SHOWN
    way = "inline" if shown else "attachment"
    headers = {"Content-Disposition": f'{way}; filename="{name}"', "Content-Security-Policy": "sandbox"}
    if shown:
        headers["Cache-Control"] = "private, max-age=86400, immutable"
    return Response(content, mimetype=record.type if shown else "application/octet-stream", headers=headers)
