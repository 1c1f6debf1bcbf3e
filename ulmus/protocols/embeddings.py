"""The embeddings JSON protocol that many model servers speak: texts in, vectors out, the nearer in meaning the smaller the angle.

Its common core: ``POST …/embeddings`` with ``model`` and ``input`` (a list of texts); answers hold ``data`` with an
``embedding`` and its ``index`` each, and ``usage``.
"""

from __future__ import annotations

import json
import math
from collections.abc import Sequence

from .chat import Server
from .errors import BadAnswer
from .net import Web, status_error

AT_ONCE = 64
LONGEST = 8000
LARGEST = 40_000_000
CHARACTERS_A_TOKEN = 4
NONE_HERE = "The model’s server has no embeddings. Compare words instead, or choose another model."


def vectors(web: Web, server: Server, texts: Sequence[str]) -> tuple[list[list[float]], int]:
    """A vector for each text (its first 8,000 characters), all of one length, and the tokens it took. Raises `OutsideError`."""
    out: list[list[float]] = []
    tokens = 0
    for at in range(0, len(texts), AT_ONCE):
        some = [text[:LONGEST] or " " for text in texts[at : at + AT_ONCE]]
        found, used = _some(web, server, some)
        out += found
        tokens += used
    if len({len(one) for one in out}) > 1:
        raise BadAnswer("The model’s server sent vectors of several lengths.", retryable=True)
    return out, tokens


def _some(web: Web, server: Server, texts: list[str]) -> tuple[list[list[float]], int]:
    got = web.fetch(
        server.base_url.rstrip("/") + "/embeddings",
        method="POST",
        json={"model": server.model, "input": texts},
        headers={"Authorization": f"Bearer {server.key}"} if server.key else {},
        max_bytes=LARGEST,
        max_seconds=server.max_seconds,
        again=True,
    )
    if got.status in (404, 405, 501):
        raise BadAnswer(NONE_HERE)
    if got.status != 200:
        raise status_error(got, "The model’s server")
    try:
        data = json.loads(got.body)
        rows = sorted(data["data"], key=lambda one: int(one.get("index", 0)))
        found = [[float(number) for number in row["embedding"]] for row in rows]
        used = (data.get("usage") or {}).get("prompt_tokens")
    except (ValueError, LookupError, TypeError, AttributeError, RecursionError):
        raise BadAnswer("The model’s server sent something that is no vector.", retryable=True) from None
    if len(found) != len(texts) or not all(one and all(map(math.isfinite, one)) for one in found):
        raise BadAnswer("The model’s server sent something that is no vector.", retryable=True)
    return found, used if isinstance(used, int) else sum(len(text) for text in texts) // CHARACTERS_A_TOKEN
