"""Items of feeds, as lines give them."""

from __future__ import annotations

from pydantic import BaseModel, Field


class FeedOutput(BaseModel):
    title: str = Field("", description="The item’s headline.")
    link: str = Field("", description="The address of the page the item is about.")
    summary: str = Field("", description="The item’s own short text.")
    author: str = Field("", description="Who wrote it, where the feed says so.")
    published: str = Field("", description="When it was published (ISO 8601, UTC).")
    image: str = Field("", description="The address of its picture, if any.")
    categories: list[str] = Field([], description="The feed’s own categories.")
    identity: str = Field("", description="What makes this item itself: its id or link.")
