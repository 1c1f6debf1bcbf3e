"""How near texts are in meaning, by the vectors a model gives them. What a text means is asked once and kept."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any

from ...core.cost import Usage, price
from ...protocols import chat, embeddings
from ...protocols.errors import BadAnswer, Misconfigured
from ..api import Context
from .models import server_of

MOST_KEPT = 20_000


def nearness(context: Context, key: str, text: str, others: Sequence[str]) -> tuple[list[float], Usage]:
    """The nearness of `text` to each of `others`, from 0 to 1, by the model connection called `key`, and what asking cost.
    Raises `OutsideError`."""
    connection = context.connect(key, "model")
    if not connection.settings.meanings:
        raise Misconfigured(f"“{connection.name}” has no model for meanings. Name one under Connections, or compare words.")
    server = chat.Server(**{**vars(server_of(connection)), "model": connection.settings.meanings})
    names = [(server.base_url, server.model, hashlib.sha256(one.encode()).hexdigest()) for one in (text, *others)]
    memory = context.web.memory("meanings", MOST_KEPT)
    known = {name: vector for name in names if (vector := memory.get(name)) is not None}
    wanted = {name: one for name, one in zip(names, (text, *others), strict=True) if name not in known}
    usage = Usage()
    if wanted:
        found, tokens = embeddings.vectors(context.web, server, list(wanted.values()))
        usage = Usage(calls=1, tokens_in=tokens, cost=price(tokens, 0, connection.settings.prices))
        known |= {name: _of_length_one(one) for name, one in zip(wanted, found, strict=True)}
    for name in names:
        memory.put(name, known[name])
    here, *rest = (known[name] for name in names)
    if any(one.shape != here.shape for one in rest):
        raise BadAnswer("The model’s server sent vectors of several lengths.", retryable=True)
    return [min(1.0, max(0.0, float(here @ one))) for one in rest], usage


def _of_length_one(vector: list[float]) -> Any:
    """A vector (NumPy, float32) of length one."""
    import numpy as np  # loaded on first use: it is large

    row = np.array(vector, dtype=np.float32)
    return row / (float(np.linalg.norm(row)) or 1.0)
