"""Gather: the few links worth reading, chosen by a model for a purpose; what it invents is refused."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...core.drafting.prompts import as_material, material_note
from ...core.drafting.shapes import Shape, ShapeField
from ...core.gather.links import same
from ...core.slots import items_of, parse, render, value_in
from ...protocols.errors import BadAnswer, NothingToDo
from ..api import Context, Performs, Result, Settings, setting
from ..shared.models import ask

MOST_OFFERED = 300


class ChooseSettings(Settings):
    links: str = setting(
        "From these links",
        "A list with links, such as <<links.items>>.",
        control="value",
        takes="items|links",
        min_length=1,
        max_length=2000,
    )
    purpose: str = setting(
        "What for", "What you want to know from the pages.", control="longslots", default="", min_length=1, max_length=10_000
    )
    most: int = setting("At most", "Pages.", control="number", default=3, ge=1, le=50)
    model: str = setting("Model", control="connection", needs="model", default="")


class Chosen(BaseModel):
    link: str = Field("", description="Where it leads.")
    words: str = Field("", description="Its words on the page.")
    reason: str = Field("", description="Why it was chosen.")


class ChooseOutput(BaseModel):
    items: list[Chosen] = Field([], description="The pages chosen, the most useful first.")
    count: int = Field(0, description="How many were chosen.")
    refused: int = Field(0, description="How many links the model made up.")


def perform(settings: ChooseSettings, context: Context) -> Result:
    """Have the model choose by number; a number or link that was not offered is refused."""
    offered = [one for one in map(_link, items_of(value_in(settings.links, context.values))) if one["link"]][:MOST_OFFERED]
    if not offered:
        raise NothingToDo("There are no links to choose from.")
    purpose = render(parse(settings.purpose), context.values).text.strip()
    listing = "\n".join(f"{n}. {one['words'] or '(no words)'} — {one['link']}" for n, one in enumerate(offered, start=1))
    system = f"You choose which pages of a list are worth reading for a purpose. Choose only from the list, by its numbers. {material_note()}"
    user = f"Purpose: {purpose}\n\nChoose at most {settings.most}, the most useful first.\n\n{as_material('links', listing)}"
    shape = Shape("list", (ShapeField(name="number", type="number"), ShapeField(name="reason", required=False)))
    values, usage, messages = ask(context, settings.model, system, user, shape)
    chosen: dict[str, dict[str, str]] = {}
    refused = 0
    for value in values["items"]:
        number = value["number"]
        if not isinstance(number, int) or not 1 <= number <= len(offered):
            refused += 1
            continue
        link = offered[number - 1]
        chosen.setdefault(same(link["link"]), {**link, "reason": str(value["reason"])})
    if not chosen:
        raise BadAnswer("The model chose no page that was offered." if refused else "The model chose no page.")
    items = list(chosen.values())[: settings.most]
    return Result({"items": items, "count": len(items), "refused": refused}, {"messages": messages}, usage)


def _link(one: Any) -> dict[str, str]:
    if isinstance(one, dict):
        return {"link": str(one.get("link") or one.get("url") or ""), "words": str(one.get("words") or one.get("title") or "")}
    return {"link": str(one), "words": ""}


KIND = Performs(
    name="choose_pages",
    stage="gather",
    title="Choose pages",
    about="Has a model choose the few links most worth reading for a purpose. Links it makes up are refused.",
    sentence="Choose at most {most} of {links} to read",
    offer="Choose the pages worth reading",
    words="select pick best links useful which model",
    called="chosen",
    settings=ChooseSettings,
    output=ChooseOutput,
    perform=perform,
    gives_outside=True,
    brief="{count} pages chosen",
)
