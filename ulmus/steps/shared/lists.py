"""What all steps that give a list have in common: the list is kept small and in order where it is made."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

from pydantic import BaseModel

from ...core.gather.lists import HEADS, Repeats, Shaping, shaped
from ...core.slots import SlotError, parse_condition
from ...core.slots.tree import condition_values
from ...core.workflow.kinds import type_word
from ..api import Context, Settings, setting

"""What an element of a list is called by, the first of these it has."""
_INWARD = frozenset(("row", "nearness", "identity", "message_id"))


class Listed(Settings):
    """How a list is to be. `most` is set by each kind anew, with the words that fit it."""

    keep: str = setting(
        "Keep only",
        "A condition on each, by its own values. Empty keeps all.",
        control="filter",
        default="",
        max_length=2000,
        more=True,
    )
    repeats: Repeats = setting(
        "Repeats",
        control="choice",
        default="same",
        labels={"keep": "keep them", "same": "leave out the same again", "near": "leave out what nearly repeats another"},
        more=True,
    )
    by: str = setting(
        "In the order of",
        "A value of each, such as date. Empty leaves the order.",
        control="text",
        default="",
        max_length=60,
        more=True,
    )
    order: Literal["up", "down"] = setting(
        "From", control="choice", default="down", labels={"down": "the newest or greatest", "up": "the oldest or least"}, more=True
    )
    choose: Literal["first", "random"] = setting(
        "If there are more",
        control="choice",
        default="first",
        labels={"first": "take the first", "random": "pick at random"},
        more=True,
    )


def listed(
    items: Sequence[BaseModel | dict[str, Any]], settings: Listed, context: Context, *, key: str, text: str, most: int | None
) -> dict[str, Any]:
    """The output of a list: ``items``, ``count``, ``found`` (before it was made smaller), and ``text``, all in one to be put
    into a prompt. `key` and `text` as for `shaped`."""
    found = [item.model_dump() if isinstance(item, BaseModel) else item for item in items]
    how = Shaping(settings.keep, settings.repeats, settings.by, settings.order == "down", most, settings.choose == "random")
    kept = shaped(found, how, key, text, context.seed)
    return {"items": kept, "count": len(kept), "found": len(found), "text": as_text(kept)}


def as_text(items: Sequence[dict[str, Any]]) -> str:
    """A list as text: each with a number, its first value, and the others under it."""
    blocks = []
    for n, one in enumerate(items, start=1):
        told = {
            name: str(v)
            for name, v in one.items()
            if name not in _INWARD and not isinstance(v, bool) and v not in ("", None, [], {})
        }
        first = next((name for name in HEADS if name in told), next(iter(told), ""))
        rest = (f"   {name}: {value}" for name, value in told.items() if name != first)
        blocks.append("\n".join([f"{n}. {told.get(first, '')}", *rest]))
    return "\n\n".join(blocks)


def list_faults(model: type[BaseModel]) -> Any:
    """What is wrong with the shaping of a list whose elements are of `model`."""
    scope = {name: type_word(field) for name, field in model.model_fields.items()} | {"it": "any"}

    def faults(settings: Listed) -> list[tuple[str, str]]:
        out = [("keep", wrong)] if (wrong := _wrong(settings.keep, scope)) else []
        if settings.by and settings.by not in scope:
            out.append(("by", _unknown(settings.by, scope)))
        return out

    return faults


def _wrong(condition: str, scope: dict[str, Any]) -> str:
    """What is wrong with a condition on elements, in words; empty where nothing is."""
    found = parse_condition(condition) if condition.strip() else None
    if isinstance(found, SlotError):
        return found.message
    roots = [value.path.root for value in condition_values(found)] if found else []
    return next((_unknown(root, scope) for root in roots if root not in scope), "")


def _unknown(name: str, scope: dict[str, Any]) -> str:
    return f"The elements have no “{name}”, but {', '.join(n for n in scope if n != 'it')}."
