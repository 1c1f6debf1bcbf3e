"""Gather: rows of a sheet, by conditions or by nearness in meaning."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.cost import Usage
from ...core.slots import SlotError, parse, parse_condition, render
from ...protocols.errors import NothingToDo
from ..api import Context, Performs, Result, setting
from ..shared.lists import Listed, listed
from ..shared.rows import columns_of


class FindSettings(Listed):
    sheet: str = setting("Sheet", control="sheet", min_length=1, max_length=60)
    how: Literal["all", "near"] = setting(
        "Which rows",
        control="choice",
        default="all",
        labels={"all": "those a condition keeps", "near": "those nearest in meaning to a text"},
    )
    near: str = setting(
        "Nearest to",
        "A text, usually a slot.",
        control="longslots",
        takes="text|title",
        default="",
        max_length=100_000,
        when="how=near",
    )
    judge: str = setting(
        "Judged by",
        "A model with embeddings knows what words mean; without one, words and parts of words are compared.",
        control="connection",
        needs="model",
        default="",
        labels={"": "their words"},
        when="how=near",
        more=True,
    )
    least: float = setting(
        "At least so near", "From 0 to 1.", control="number", default=0.05, ge=0, le=1, when="how=near", more=True
    )
    keep: str = setting(
        "Keep only",
        "A condition on each row, by its columns, such as Used is empty. Empty keeps all.",
        control="filter",
        default="",
        max_length=2000,
    )
    most: int = setting("At most", "Rows.", control="number", default=20, ge=1, le=2000)


class FindOutput(BaseModel):
    items: list[Any] = Field([], description="The rows, by their columns.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many rows the sheet has.")
    text: str = Field("", description="All of them as text, for a prompt.")
    first: Any = Field({}, description="The first of them.")


def perform(settings: FindSettings, context: Context) -> Result:
    """Find the rows."""
    rows = [{**row.cells, "row": row.id} for row in context.workspace.rows(settings.sheet)]
    held, usage = len(rows), Usage()
    if settings.how == "near":
        text = render(parse(settings.near), context.values).text.strip()
        if not text:
            raise NothingToDo("There is no text to find the nearest rows to.")
        rows, usage = _nearest(rows, text, settings, context)
    output = listed(
        rows,
        settings,
        context,
        key="row",
        text=" ".join(k for k in (rows[0] if rows else {}) if k not in ("row", "nearness")),
        most=settings.most,
    )
    return Result({**output, "found": held, "first": output["items"][0] if output["items"] else {}}, usage=usage)


def _nearest(rows: list[dict[str, Any]], text: str, settings: FindSettings, context: Context) -> tuple[list[dict[str, Any]], Usage]:
    """The rows by how near they are, the nearest first; and what it cost to know."""
    told = [" ".join(str(value) for name, value in row.items() if name != "row" and value) for row in rows]
    scores: list[float] = []
    usage, least = Usage(), settings.least
    if rows and settings.judge:
        from ..shared.meanings import nearness  # loaded on first use: it is large

        scores, usage = nearness(context, settings.judge, text, told)
    elif rows:
        from ...core.gather.nearness import Nearness  # loaded on first use: it is large

        scores = list(Nearness(told).to(text))
    near = sorted(zip(scores, range(len(rows)), strict=True), key=lambda one: (-one[0], one[1]))
    return [{**rows[i], "nearness": round(float(score), 3)} for score, i in near if score >= least], usage


def gives(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The rows with the sheet’s columns."""
    row = {**columns_of(settings, world), "row": "number"}
    return {"items": [row], "first": row}


def faults(settings: FindSettings) -> list[tuple[str, str]]:
    """What is wrong with the condition, and what is missing."""
    read = parse_condition(settings.keep) if settings.keep.strip() else None
    out = [("keep", read.message)] if isinstance(read, SlotError) else []
    return [
        *out,
        *([("near", "Say which text the rows should be near to.")] if settings.how == "near" and not settings.near.strip() else []),
    ]


KIND = Performs(
    name="find_rows",
    stage="gather",
    title="Find rows",
    about="Rows of a sheet: those a condition keeps, or those nearest in meaning to a text. For products, past successes, pieces that were liked.",
    sentence="Find rows of {sheet}, at most {most}",
    offer="Find rows of {sheet}",
    words="look up search sheet table similar nearest match products examples lookup filter crm vlookup find row",
    called="rows",
    settings=FindSettings,
    output=FindOutput,
    perform=perform,
    gives=gives,
    faults=faults,
    gives_outside=True,
    brief="{count} rows",
)
