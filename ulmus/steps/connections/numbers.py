"""Shared by channels that tell in numbers what came of a piece: asked by GET, the numbers picked by JSONPath (RFC 9535)."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urljoin, urlsplit

from ...protocols import services
from ...protocols.errors import BadAnswer
from ...protocols.jsonpath import pick
from ...protocols.net import Web
from ..api import Numbered


def asked(web: Web, settings: Numbered, link: str, headers: Mapping[str, str], home: str) -> dict[str, float]:
    """What the channel says of the piece at `link`. `headers` let one in; they go to the host of `home` only. Raises
    `OutsideError`."""
    marks = {"<<link>>": quote(link, safe=""), "<<id>>": quote(urlsplit(link).path.rstrip("/").rpartition("/")[2], safe="")}
    url = settings.numbers_at.strip()
    for mark, value in marks.items():
        url = url.replace(mark, value)
    url = urljoin(home, url)
    told = headers if _origin(url) == _origin(home) else {}
    said = services.ask(web, services.Question(url, headers=told))
    return {name: _number(said.data, name, path) for name, path in settings.paths.items()}


def _origin(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return parts.scheme, parts.netloc.lower()


def _number(data: Any, name: str, path: str) -> float:
    """The number at a path: the first there is, also where it is written as text. Raises `BadAnswer`."""
    found = pick(data, path)
    if not found:
        raise BadAnswer(f"“{name}” ({path}) is not in what was answered.")
    value = found[0]
    try:
        number = float(value.replace(",", "").replace(" ", "")) if isinstance(value, str) else float(value)
    except (TypeError, ValueError):
        number = math.nan
    if isinstance(value, bool) or not math.isfinite(number):
        raise BadAnswer(f"“{name}” ({path}) is no number: {str(value)[:60]}.")
    return number
