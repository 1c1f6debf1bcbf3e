"""Start: a new item in a feed (RSS 2.0, RSS 1.0, Atom or JSON Feed)."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..core.workflow.kinds import type_word
from ..protocols import feeds
from .base import Batched, Found, Kind, Look, batched, setting


class FeedSettings(Batched):
    url: str = setting(
        "Feed address", "The address of the feed itself, not of the site.", control="url", min_length=1, max_length=2000
    )
    every: float = setting("Look every", "How often the feed is looked at.", control="duration", default=900, ge=2, le=604_800)


class FeedOutput(BaseModel):
    title: str = Field("", description="The item’s headline.")
    link: str = Field("", description="The address of the page the item is about.")
    summary: str = Field("", description="The item’s own short text.")
    author: str = Field("", description="Who wrote it, where the feed says so.")
    published: str = Field("", description="When it was published (ISO 8601, UTC).")
    image: str = Field("", description="The address of its picture, if any.")
    categories: list[str] = Field([], description="The feed’s own categories.")
    identity: str = Field("", description="What makes this item itself: its id or link.")


def look(settings: FeedSettings, now: Look) -> Found:
    """Look at the feed, conditionally if it was seen before."""
    memory = now.memory
    same = memory.get("url") == settings.url
    seen = feeds.look(
        now.web, settings.url, memory.get("etag", "") if same else "", memory.get("last_modified", "") if same else ""
    )
    remember = {"url": settings.url, "etag": seen.etag, "last_modified": seen.last_modified}
    if seen.feed is None:
        return Found([], remember, "Nothing has changed.")
    items = [(item.identity[:500], dict(vars(item))) for item in reversed(seen.feed.items)]
    says = " ".join([f"{len(items)} items in “{seen.feed.title or settings.url}”.", *seen.feed.problems])
    return Found(items, remember, says)


KIND = Kind(
    name="feed_item",
    stage="start",
    manner="start",
    title="New item in a feed",
    about="Starts one run for each new item. Items already there when the workflow goes live are passed over.",
    sentence="When a new item appears in {url}",
    offer="A new item in a feed",
    words="rss atom news podcast article published",
    called="feed",
    settings=FeedSettings,
    output=FeedOutput,
    look=look,
    listens="poll",
    gives=lambda settings, world: batched({n: type_word(f) for n, f in FeedOutput.model_fields.items()}, settings),
    gives_outside=True,
    brief="{title}",
)
