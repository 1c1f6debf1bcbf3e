"""For each: the steps inside are carried out for every item of a list."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import EachPlan
from ..api import Holds, Settings, setting


class EachSettings(Settings):
    list: str = setting(
        "Go through",
        "A list: results, rows, links, or a text line by line.",
        control="value",
        takes="*list",
        min_length=1,
        max_length=2000,
    )
    item: str = setting(
        "Call each one", "Its name inside the block.", control="name", default="item", pattern=r"^[a-z][a-z0-9_]{0,39}$"
    )
    most: int | None = setting(
        "At most", "Items taken from the beginning; proofs keep to it too.", control="number", default=None, ge=1, le=100_000
    )
    parallel: int = setting(
        "Side by side", "How many items are under way at once.", control="number", default=8, ge=1, le=64, more=True
    )
    failing: Literal["leave_out", "stop"] = setting(
        "If an item fails",
        control="choice",
        default="leave_out",
        labels={"leave_out": "leave it out of the results", "stop": "stop once the others have ended"},
        more=True,
    )


class EachOutput(BaseModel):
    results: list[Any] = Field([], description="What the block gave for each item, in the order of the list.")
    count: int = Field(0, description="How many items were gone through.")
    found: int = Field(0, description="How many the list holds; more than were gone through where there is a limit.")
    failed: int = Field(0, description="How many failed.")
    passed_over: int = Field(0, description="How many were passed over or declined.")
    failures: list[Any] = Field([], description="The number of each failed item, and why.")


def says(output: Mapping[str, Any]) -> str:
    """How many items, of how many, and what became of those that did not go well."""
    count, found = output.get("count", 0), output.get("found", output.get("count", 0))
    gone = f"{count} of {found}" if found > count else str(count)
    words = [f"{gone} item{'s' if gone != '1' else ''}"]
    words += [f"{output[name]} {say}" for name, say in (("failed", "failed"), ("passed_over", "passed over")) if output.get(name)]
    return " · ".join(words)


KIND = Holds(
    name="for_each",
    stage="flow",
    title="For each",
    about="Carries out the steps inside for every item of a list. Each item fails, waits and is approved on its own.",
    sentence="For each {item} in {list}[, at most {most}]",
    offer="For each of a list",
    words="loop every repeat list items rows results links iterate each split parallel batch map",
    called="each_one",
    settings=EachSettings,
    output=EachOutput,
    plan=lambda s: EachPlan(s.list, s.item, s.most, s.parallel, s.failing == "stop"),
    says=says,
)
