"""Reading what a model answered: whatever it wrapped round the answer is taken off."""

from __future__ import annotations

import json
import re
from typing import Any

_FENCE = re.compile(r"```[\w-]*[ \t]*\n(.*?)\n?[ \t]*```", re.DOTALL)
LONGEST = 1_000_000


_WHOLE = re.compile(r"\s*```[\w-]*[ \t]*\n(.*?)\n?[ \t]*```\s*\Z", re.DOTALL)


def unwrapped(text: str) -> str:
    """A text without the code fence a model put round the whole of it, and, with the fence, without the words before it."""
    whole = _WHOLE.match(text)
    if whole:
        return whole.group(1).strip()
    inside = _FENCE.findall(text)
    return str(inside[0]).strip() if len(inside) == 1 and len(inside[0]) > 0.7 * len(text) else text


class AnswerError(ValueError):
    """The answer is not of the shape that was asked for; the words say why."""


def read_json(text: str) -> Any:
    """The JSON value in an answer, also one in a code fence or with words around it. Raises `AnswerError`."""
    if len(text) > LONGEST:
        raise AnswerError("the answer is too long")
    bare = text.strip().lstrip("\ufeff")
    inside = [m.strip() for m in _FENCE.findall(bare)]
    for one in [bare, *inside]:
        try:
            return json.loads(one)
        except (ValueError, RecursionError):
            continue
    # Words before or after: from the first bracket on, as far as it reads.
    decoder = json.JSONDecoder()
    for found in list(re.finditer(r"[{\[]", bare))[:50]:
        try:
            return decoder.raw_decode(bare, found.start())[0]
        except (ValueError, RecursionError):
            continue
    raise AnswerError("it holds no JSON that can be read")
