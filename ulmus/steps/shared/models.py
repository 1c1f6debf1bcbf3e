"""Asking a model for something other than a draft: with a shape, counted and paid like everything else."""

from __future__ import annotations

from typing import Any

from ...core import cost
from ...core.cost import Usage
from ...core.drafting.answers import AnswerError
from ...core.drafting.prompts import fitted, with_demand
from ...core.drafting.shapes import Shape, conform, demand_of, schema_of
from ...protocols import chat
from ...protocols.errors import BadAnswer, OutsideError
from ..api import Connection, Context, StepFailed

TRIES = 3


def server_of(connection: Connection) -> chat.Server:
    """The model client's view of a model connection."""
    s = connection.settings
    return chat.Server(s.base_url, connection.secrets.get("key", ""), s.model, s.max_seconds)


def ask(
    context: Context, key: str, system: str, user: str, shape: Shape, *, max_tokens: int = 2000
) -> tuple[dict[str, Any], Usage, list[dict[str, str]]]:
    """The values a model answers with, what it used, and the messages. What does not fit is asked for again with the
    reasons. Raises `StepFailed`."""
    connection = context.connect(key, "model")
    messages = list(with_demand([{"role": "system", "content": system}, {"role": "user", "content": user}], demand_of(shape)))
    if most := connection.settings.context:
        messages = list(fitted(messages, max(most - max_tokens, most // 2), "importance")[0])
    usage = Usage()
    for left in reversed(range(TRIES)):
        try:
            answer = chat.complete(
                context.web,
                server_of(connection),
                messages,
                temperature=0,
                max_tokens=max_tokens,
                schema=schema_of(shape),
                cancelled=context.cancelled,
            )
        except OutsideError as error:
            raise StepFailed(error, usage, {"messages": messages}) from error
        spent = cost.price(answer.tokens_in, answer.tokens_out, connection.settings.prices)
        usage += Usage(calls=1, tokens_in=answer.tokens_in, tokens_out=answer.tokens_out, cost=spent, seconds=answer.seconds)
        try:
            return conform(answer.text, shape), usage, messages
        except AnswerError as error:
            if not left:
                raise StepFailed(BadAnswer(f"The model’s answer does not fit: {error}."), usage, {"messages": messages}) from None
            messages += [
                {"role": "assistant", "content": answer.text},
                {"role": "user", "content": f"Your answer does not fit: {error}. Answer again with the JSON alone."},
            ]
    raise AssertionError
