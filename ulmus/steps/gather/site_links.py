"""Gather: the links of a page, or the pages a site lists of itself."""

from __future__ import annotations

import dataclasses
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...protocols import pages, sitemaps
from ..api import Context, Performs, Result, setting
from ..shared.lists import Listed, list_faults, listed


class LinksSettings(Listed):
    url: str = setting("Page or site", control="slots", takes="link|url|site", min_length=1, max_length=2000, told="address")
    source: Literal["page", "map"] = setting(
        "Take them from",
        control="choice",
        default="page",
        labels={"page": "the links of this page", "map": "the site’s own map (sitemap)"},
    )
    which: Literal["all", "same", "other"] = setting(
        "Which links",
        control="choice",
        default="same",
        labels={"same": "those on the same site", "other": "those that lead elsewhere", "all": "all"},
        when="source=page",
    )
    most: int = setting("At most", "Links.", control="number", default=50, ge=1, le=5000)


class SiteLink(BaseModel):
    link: str = Field("", description="Where it leads, without what only tracks its reader.")
    words: str = Field("", description="Its words.")
    same_site: bool = Field(True, description="Whether it stays on the site.")
    changed: str = Field("", description="When the page was changed, where the site’s map says so.")


class LinksOutput(BaseModel):
    items: list[SiteLink] = Field([], description="The links.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many were found before the list was made smaller.")
    title: str = Field("", description="The page’s title.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: LinksSettings, context: Context) -> Result:
    """Find the links."""
    url = settings.url.strip()
    title = ""
    if settings.source == "map":
        found: list[dict[str, Any]] = [
            {"link": one.link, "words": "", "same_site": True, "changed": one.changed} for one in sitemaps.read(context.web, url)
        ]
    else:
        title, links = pages.links(context.web, url)
        wanted = {"all": (True, False), "same": (True,), "other": (False,)}[settings.which]
        found = [{**dataclasses.asdict(link), "changed": ""} for link in links if link.same_site in wanted]
    return Result({**listed(found, settings, context, key="link", text="words link", most=settings.most), "title": title})


KIND = Performs(
    name="site_links",
    stage="gather",
    title="Find a site’s links",
    about="The links of a page with their words, or the pages a site lists in its map; cleaned of tracking, without repeats.",
    sentence="Find the links of {url}",
    offer="Find the links of a page",
    words="links list pages sitemap site navigation crawl",
    called="links",
    settings=LinksSettings,
    output=LinksOutput,
    perform=perform,
    faults=list_faults(SiteLink),
    gives_outside=True,
    reaches="url",
    brief="{count} links",
)
