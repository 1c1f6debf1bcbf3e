"""Connection: network or blog."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ...core.pieces import Counting, Takes
from ...protocols import micropub
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted, Numbered
from .numbers import asked


class PostingSettings(Granted, Numbered):
    endpoint: str = Field(
        title="Micropub address", description="Or the address of the site, which names it.", min_length=1, max_length=500
    )
    limit: int | None = Field(
        None, title="Greatest length (characters)", description="Empty where there is none.", ge=1, le=1_000_000
    )
    counted: Literal["characters", "graphemes", "bytes"] = Field(
        "characters", title="Counted as", description="What the network counts: code points, signs as one sees them, or bytes."
    )
    link_counts: int | None = Field(
        None, title="A link counts as", description="Empty where each counts with all its characters.", ge=1, le=1000
    )
    wide_counts_double: bool = Field(False, title="Wide characters and emoji count double")
    pictures: int | None = Field(None, title="Pictures at most", description="Empty where there is no limit.", ge=0, le=100)
    lists_within: float | None = Field(
        None,
        title="Lists new posts within (seconds)",
        description="How late its list of posts may be. Empty: it is seen from the posts that go out.",
        ge=0,
        le=86_400,
    )


def takes(settings: PostingSettings) -> Takes:
    """What the network takes, as it is set here."""
    counting = Counting(unit=settings.counted, link=settings.link_counts, wide=2 if settings.wide_counts_double else 1)
    return Takes(length=settings.limit, counting=counting, pictures=settings.pictures)


def endpoint(connection: Connection) -> micropub.Endpoint:
    """The client's view of a posting connection."""
    return micropub.Endpoint(connection.settings.endpoint, connection.secrets.get("token", ""))


def numbers(web: Web, connection: Connection, link: str) -> dict[str, float]:
    """What the network says of a post."""
    key = connection.secrets.get("token", "")
    headers = {"Authorization": f"Bearer {key}"} if key else {}
    return asked(web, connection.settings, link, headers, connection.settings.endpoint)


def probe(web: Web, connection: Connection) -> str:
    place = endpoint(connection)
    destinations = micropub.config(web, place).get("destination")
    name = destinations[0].get("name", "") if isinstance(destinations, list) and destinations else ""
    further = ", ".join(one.name for one in micropub.targets(web, place))
    return f"Ready to post{f' as {name}' if name else ''}{f', and on to {further}' if further else ''}. Nothing was posted."


KIND = ConnectionKind(
    name="posting",
    title="Network or blog",
    about="Anything that takes posts by Micropub (W3C).",
    settings=PostingSettings,
    secrets={"token": "Access token"},
    leads=("endpoint",),
    probe=probe,
    bearer="token",
    common=2.0,
    summary=lambda s: s.endpoint + (f", up to {s.limit} characters" if s.limit else ""),
    takes=takes,
    numbers=numbers,
)
