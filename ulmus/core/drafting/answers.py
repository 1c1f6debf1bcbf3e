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


_THOUGHT = re.compile(r"\A\s*<(think|thinking|thought|reasoning|scratchpad)>.*?</\1>\s*(?=\S)", re.DOTALL | re.IGNORECASE)


def unthought(text: str) -> str:
    """A text without the thoughts a model wrote down before its answer, between tags."""
    return _THOUGHT.sub("", text)


class AnswerError(ValueError):
    """The answer is not of the shape that was asked for; the words say why."""


_IN_PYTHON = re.compile(r"""("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')|\b(True|False|None)\b""")
_PLAIN = {"True": "true", "False": "false", "None": "null"}
LONGEST_MENDED, MOST_BRACKETS = 50_000, 500


def _meant(text: str) -> Any | None:
    """An object or list written as JSON5 has it (commas at the end, single quotes, names without quotes, comments) or as Python
    has it; ``None`` where it is neither, and where it is broken off."""
    bare = text.strip()
    ends = bare[:1] in ("{", "[") and bare[-1:] in ("}", "]")
    if not ends or len(bare) > LONGEST_MENDED or bare.count("[") + bare.count("{") > MOST_BRACKETS:
        return None
    import json5  # loaded when it is needed: it makes its grammar then

    try:
        found = json5.loads(_IN_PYTHON.sub(lambda m: m.group(1) or _PLAIN[m.group(2)], bare))
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict | list) else None


def read_json(text: str) -> Any:
    """The JSON value in an answer, also one in a code fence or with words around it. Raises `AnswerError`."""
    if len(text) > LONGEST:
        raise AnswerError("the answer is too long")
    bare = text.strip().lstrip("\ufeff")
    inside = [m.strip() for m in _FENCE.findall(bare)]
    for one in [bare, *inside]:
        try:
            return json.loads(one, strict=False)  # a line end within a text can only be meant as one
        except (ValueError, RecursionError):
            continue
    begin = min((at for at in (bare.find("{"), bare.find("[")) if at >= 0), default=-1)
    between = bare[begin : max(bare.rfind("}"), bare.rfind("]")) + 1] if begin >= 0 else ""
    for one in [bare, *inside, between]:
        if (found := _meant(one)) is not None:
            return found
    # Words before or after: from the first bracket on, as far as it reads.
    decoder = json.JSONDecoder()
    for found in list(re.finditer(r"[{\[]", bare))[:50]:
        try:
            return decoder.raw_decode(bare, found.start())[0]
        except (ValueError, RecursionError):
            continue
    raise AnswerError("it holds no JSON that can be read")
