"""Gather: news or web search through a search service."""

from __future__ import annotations

import re
from typing import Literal

from pydantic import BaseModel, Field

from ...protocols import searches
from ..api import Context, Performs, Result, setting
from ..connections.search import searcher
from ..shared.lists import Listed, list_faults, listed

_DAYS = {"any": 0, "day": 1, "week": 7, "month": 31, "year": 366}


class SearchStepSettings(Listed):
    service: str = setting("Search with", control="connection", needs="search")
    query: str = setting(
        "Search for",
        "Words, or a question; slots may stand in it.",
        control="slots",
        takes="title|name",
        told="query",
        min_length=1,
        max_length=1000,
    )
    most: int = setting("At most", "Results.", control="number", default=10, ge=1, le=100)
    period: Literal["any", "day", "week", "month", "year"] = setting(
        "How recent",
        control="choice",
        default="any",
        labels={
            "any": "any time",
            "day": "the last day",
            "week": "the last week",
            "month": "the last month",
            "year": "the last year",
        },
    )
    language: str = setting("Language", "Such as en; empty for any.", control="text", default="", max_length=10)
    sites: str = setting("Only from these sites", "Parted by commas.", control="slots", default="", max_length=2000, more=True)
    not_sites: str = setting("Not from these sites", "Parted by commas.", control="slots", default="", max_length=2000, more=True)


class Found(BaseModel):
    title: str = Field("", description="Its headline.")
    link: str = Field("", description="Where it stands.")
    summary: str = Field("", description="What the service says of it.")
    date: str = Field("", description="When it was published (ISO 8601).")
    source: str = Field("", description="The site it is from.")


class SearchOutput(BaseModel):
    items: list[Found] = Field([], description="The results.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many the service gave.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: SearchStepSettings, context: Context) -> Result:
    """Search."""
    query = searches.Query(
        settings.query.strip(),
        settings.most if settings.repeats == "keep" and not settings.keep else min(200, settings.most * 2),
        _DAYS[settings.period],
        settings.language.strip(),
        _names(settings.sites),
        _names(settings.not_sites),
    )
    hits = searches.search(context.web, searcher(context.connect(settings.service, "search")), query)
    found = [searches.as_item(hit) for hit in hits]
    return Result(listed(found, settings, context, key="link", text="title summary", most=settings.most))


def _names(text: str) -> tuple[str, ...]:
    return tuple(part.removeprefix("www.").lower() for part in re.split(r"[,\s]+", text) if part)


KIND = Performs(
    name="search",
    stage="gather",
    title="Search",
    about="Searches the news or the web: how many, how recent, in which language, from which sites; as one list.",
    sentence="Search {service} for “{query}”, at most {most}",
    offer="Search with {service}",
    words="news web find look up research results query internet online engine",
    called="search",
    common=0.2,
    settings=SearchStepSettings,
    output=SearchOutput,
    perform=perform,
    faults=list_faults(Found),
    gives_outside=True,
    finds_links=True,
    brief="{count} results",
)
