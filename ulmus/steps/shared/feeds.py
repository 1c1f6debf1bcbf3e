"""Items of feeds, as lines give them."""

from __future__ import annotations

from pydantic import BaseModel, Field


class PictureOutput(BaseModel):
    link: str = Field("", description="Its address.")
    width: int = Field(0, description="In pixels; 0 where the feed says nothing.")
    height: int = Field(0, description="In pixels; 0 where the feed says nothing.")


class FileOutput(BaseModel):
    link: str = Field("", description="Its address.")
    type: str = Field("", description="Its media type, such as audio/mpeg.")
    bytes: int = Field(0, description="How large it is, where the feed says so.")
    seconds: int = Field(0, description="How long it is, where the feed says so.")


class FeedOutput(BaseModel):
    title: str = Field("", description="The item’s headline.")
    link: str = Field("", description="The address of the page the item is about.")
    summary: str = Field("", description="The item’s own short text.")
    author: str = Field("", description="Who wrote it, where the feed says so.")
    published: str = Field("", description="When it was published (ISO 8601, UTC).")
    updated: str = Field("", description="When it was last changed, where the feed says so (ISO 8601, UTC).")
    image: str = Field("", description="The address of its picture, the largest there is, if any.")
    images: list[PictureOutput] = Field([], description="Its pictures by size, the largest first.")
    enclosure: str = Field("", description="The address of its recording, if it brings one.")
    transcript: str = Field("", description="The address of its transcript, where the feed names one.")
    enclosures: list[FileOutput] = Field([], description="The files it brings.")
    categories: list[str] = Field([], description="The feed’s own categories.")
    identity: str = Field("", description="What makes this item itself: its id or link.")
