"""Pick one: one item of a list, by chance, in turn, or not repeating the last ones."""

from __future__ import annotations

import random
from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.slots import items_of, value_in
from ...core.slots.filters import as_text
from ...protocols.errors import NothingToDo
from ..api import Computes, Settings, setting


class PickSettings(Settings):
    list: str = setting(
        "From",
        "A list, or a text with one choice on each line.",
        control="longvalue",
        takes="*list",
        min_length=1,
        max_length=20_000,
    )
    how: Literal["chance", "turn", "fresh"] = setting(
        "How",
        control="choice",
        default="fresh",
        labels={"chance": "by chance", "turn": "each in turn", "fresh": "by chance, not repeating the last ones"},
    )
    apart: int = setting("Not repeating the last", "Picks.", control="number", default=3, ge=1, le=1000, when="how=fresh")
    seed: str = setting(
        "Seed",
        "The same seed picks the same; empty is different in each run.",
        control="text",
        default="",
        max_length=80,
        more=True,
    )


class PickOutput(BaseModel):
    picked: Any = Field("", description="What was picked.")
    number: int = Field(0, description="Its place in the list, from 1.")


def work(
    settings: PickSettings, values: Mapping[str, Any], memory: dict[str, Any], seed: str
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Pick, and remember what was picked. Raises `OutsideError` where there is nothing to pick from."""
    items = items_of(value_in(settings.list, values))
    if not items:
        raise NothingToDo("There is nothing to pick from: the list is empty.")
    chance = random.Random(f"{settings.seed}/{memory.get('turn', 0)}" if settings.seed else seed)
    last = [str(one) for one in memory.get("last", [])]
    turn = int(memory.get("turn", 0))
    if settings.how == "turn":
        at = turn % len(items)
    elif settings.how == "chance":
        at = chance.randrange(len(items))
    else:
        # With fewer choices than picks to stay apart, the longest unused comes first.
        apart = min(settings.apart, len(items) - 1)
        recent = set(last[-apart:]) if apart else set()
        open_ = [i for i, one in enumerate(items) if as_text(one) not in recent] or list(range(len(items)))
        at = chance.choice(open_)
    remembered = [*last, as_text(items[at])][-max(settings.apart, 1) :]
    return {"picked": items[at], "number": at + 1}, {"turn": turn + 1, "last": remembered}


KIND = Computes(
    name="pick_one",
    stage="flow",
    title="Pick one",
    about="Picks one item of a list: by chance, each in turn, or not repeating the last ones.",
    sentence="Pick one of {list}, {how}",
    offer="Pick one of a list",
    words="random choose draw rotate topic turn variants subject lines a b test split",
    called="pick",
    settings=PickSettings,
    output=PickOutput,
    work=work,
    brief="{picked}",
)
