"""Start: a new item in a feed (RSS 2.0, RSS 1.0, Atom or JSON Feed)."""

from __future__ import annotations

from typing import Any

from ...core.gather import recurring
from ...core.workflow.kinds import type_word
from ...protocols import feeds
from ..api import HUB, Batched, Poll, PolledStart, PollResult, batched, setting
from ..shared.feeds import FeedOutput


class FeedSettings(Batched):
    url: str = setting(
        "Feed address", "The address of the feed, or of a site that names its feed.", control="url", min_length=1, max_length=2000
    )
    every: float = setting("Look every", "How often the feed is looked at.", control="duration", default=900, ge=2, le=604_800)


def poll(settings: FeedSettings, now: Poll) -> PollResult:
    """Look at the feed, conditionally if it was seen before."""
    memory = now.memory
    same = memory.get("url") == settings.url
    seen = feeds.poll(
        now.web, settings.url, memory.get("etag", "") if same else "", memory.get("last_modified", "") if same else ""
    )
    before = memory.get("items", []) if same else []
    remember: dict[str, Any] = {"url": settings.url, "etag": seen.etag, "last_modified": seen.last_modified, "items": before}
    if hub := (seen.feed.hub and [seen.feed.hub, seen.feed.topic]) if seen.feed is not None else same and memory.get(HUB):
        remember[HUB] = hub
    if seen.feed is None:
        return PollResult([], remember, "Nothing has changed.")
    listed = [recurring.Item(item.id, item.link, item.title, item.published, item.summary) for item in seen.feed.items]
    known_as, remember["items"] = recurring.names(listed, before)
    items = [
        (name[:500], {**{k: v for k, v in vars(one).items() if k != "id"}, "identity": name})
        for name, one in zip(reversed(known_as), reversed(seen.feed.items), strict=True)
    ]
    where = [f"Its feed is {seen.found_at}."] if seen.found_at else []
    says = " ".join([f"{len(items)} items in “{seen.feed.title or settings.url}”.", *where, *seen.feed.problems])
    return PollResult(items, remember, says)


KIND = PolledStart(
    name="feed_item",
    stage="start",
    title="New item in a feed",
    about="Starts one run for each new item. Items already there when the workflow goes live are passed over.",
    sentence="When a new item appears in {url}",
    offer="A new item in a feed",
    words="rss atom news podcast article published",
    called="feed",
    common=0.8,
    settings=FeedSettings,
    output=FeedOutput,
    plan=lambda s: s.polling(s.every),
    poll=poll,
    gives=lambda settings, world: batched({n: type_word(f) for n, f in FeedOutput.model_fields.items()}, settings),
    gives_outside=True,
    names_feeds="url",
    brief="{title}",
)
