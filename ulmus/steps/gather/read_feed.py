"""Gather: the items of one or several feeds, as one list."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

from pydantic import BaseModel, Field

from ...protocols import feeds, opml
from ...protocols.errors import OutsideError
from ...protocols.net import Web, status_error
from ..api import Context, Performs, Result, setting
from ..shared.feeds import FeedOutput
from ..shared.lists import Listed, list_faults, listed

MOST_FEEDS = 100


class FeedListSettings(Listed):
    url: str = setting(
        "Feed address",
        "One, or several parted by spaces or lines; or a list of feeds (OPML).",
        control="longslots",
        min_length=1,
        max_length=20_000,
        told="address",
    )
    days: int = setting("From the last days", "0 for any time.", control="number", default=0, ge=0, le=3650)
    by: str = setting(
        "In the order of", "A value of each, such as published.", control="text", default="published", max_length=60, more=True
    )
    most: int = setting("At most", "Items.", control="number", default=20, ge=1, le=500)


class FeedListOutput(BaseModel):
    items: list[FeedOutput] = Field([], description="The items, the newest first.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many were found.")
    feeds: int = Field(0, description="How many feeds were read.")
    problems: list[str] = Field([], description="Feeds that could not be read, and why.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: FeedListSettings, context: Context) -> Result:
    """Read every feed; one that fails leaves the others unharmed."""
    from ...core.slots import parse, render

    addresses = re.split(r"[\s,]+", render(parse(settings.url), context.values).text.strip())
    found: list[dict[str, Any]] = []
    problems: list[str] = []
    read = 0
    for address in list(dict.fromkeys(a for a in addresses if a))[:MOST_FEEDS]:
        try:
            for feed in _feeds(context.web, address):
                found += [dict(vars(item)) for item in feed.items]
                read += 1
        except OutsideError as error:
            problems.append(f"{address}: {error.message}")
    if not read:
        raise OutsideError(
            problems[0].partition(": ")[2] if len(problems) == 1 else "; ".join(problems[:5]) or "There is no feed to read."
        )
    if settings.days:
        since = (dt.datetime.now(dt.UTC) - dt.timedelta(days=settings.days)).isoformat()
        found = [one for one in found if not one["published"] or one["published"] >= since]
    output = listed(found, settings, context, key="identity", text="title summary", most=settings.most)
    return Result({**output, "feeds": read, "problems": problems})


def _feeds(web: Web, address: str) -> list[feeds.Feed]:
    """The feed at an address, or those of a list. Raises `OutsideError`."""
    got = web.fetch(address, max_bytes=feeds.MAX_BYTES)
    if got.status != 200:
        raise status_error(got, "The feed’s server")
    if b"<opml" not in got.body[:2000].lower():
        return [feeds.parse(got.body, got.charset, got.url)]
    out = []
    for outline in opml.parse(got.body)[:MOST_FEEDS]:
        try:
            seen = feeds.poll(web, outline.feed)
        except OutsideError:
            continue
        if seen.feed is not None:
            out.append(seen.feed)
    return out


KIND = Performs(
    name="read_feed",
    stage="gather",
    title="Read feeds",
    about="The items of one or several feeds, or of all feeds in an OPML list, as one list without repeats.",
    sentence="Read the feeds {url}, at most {most} items",
    offer="Read a feed as a list",
    words="rss atom news items list podcast opml articles",
    called="feeds",
    settings=FeedListSettings,
    output=FeedListOutput,
    perform=perform,
    faults=list_faults(FeedOutput),
    gives_outside=True,
    names_feeds="url",
    finds_links=True,
    reaches="url",
    brief="{count} items from {feeds} feeds",
)
