"""Picking values out of JSON by JSONPath (RFC 9535)."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from .errors import Misconfigured, OutsideError, TooLarge

MOST = 10_000


def pick(data: Any, path: str) -> list[Any]:
    """The values `path` selects, in order; at most `MOST`. Raises `OutsideError` where it is no JSONPath."""
    try:
        return [node.value for _, node in zip(range(MOST), _compiled(path).finditer(data), strict=False)]
    except RecursionError:
        raise TooLarge("The answer is nested too deep.") from None


def check(path: str) -> str:
    """What is wrong with a path, in words; empty where it can be read."""
    try:
        _compiled(path)
    except OutsideError as error:
        return error.message
    return ""


@lru_cache(maxsize=512)
def _compiled(path: str) -> Any:
    from jsonpath_rfc9535 import JSONPathEnvironment
    from jsonpath_rfc9535.exceptions import JSONPathError

    try:
        return JSONPathEnvironment().compile(path)
    except (JSONPathError, RecursionError) as error:
        raise Misconfigured(f"“{path[:60]}” is no JSONPath: {str(error)[:120]}.") from None
