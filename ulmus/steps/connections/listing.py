"""Connection: a business listing that takes what is listed as JSON by POST, described here."""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import Field, field_validator

from ...core.pieces import Counting, Takes
from ...core.slots import parse, render
from ...protocols import services
from ...protocols.jsonpath import check
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted, Numbered
from .numbers import asked

MARKS = ("text", "photo", "photo_words", "button", "link", "place", "key")


class ListingSettings(Granted, Numbered):
    base_url: str = Field(title="Address", description="What all its addresses begin with.", min_length=1, max_length=500)
    header: str = Field("Authorization", title="Header for the key", max_length=60)
    before: str = Field("Bearer ", title="Words before the key", description="Such as “Bearer ”; may be empty.", max_length=40)
    path: str = Field("/", title="Where listings go", description="By POST, such as /posts.", min_length=1, max_length=500)
    shape: str = Field(
        '{"text": <<text>>, "photo": <<photo>>, "button": <<button>>, "link": <<link>>, "place": <<place>>}',
        title="What is sent",
        description="JSON, as the service wants it, with <<text>>, <<photo>>, <<photo_words>>, <<button>>, <<link>>, <<place>> and "
        "<<key>>, without quotation marks of their own. What is empty is left out.",
        min_length=2,
        max_length=8000,
    )
    places: str = Field(
        "",
        title="Places",
        description="A line for each: its name, and behind = what the service calls it. Empty: any.",
        max_length=5000,
    )
    buttons: str = Field(
        "",
        title="Buttons",
        description="A line for each: its words, and behind = what the service calls it. Empty: any words.",
        max_length=2000,
    )
    button_length: int | None = Field(None, title="Greatest length of a button’s words", ge=1, le=200)
    limit: int | None = Field(
        None, title="Greatest length of the text (characters)", description="Empty where there is none.", ge=1, le=1_000_000
    )
    counted: Literal["characters", "graphemes", "bytes"] = Field("characters", title="Counted as")
    photos: str = Field(
        "",
        title="Where photos go",
        description="The address that keeps a photo sent by POST. Empty: photos go by their address on the web only.",
        max_length=500,
    )
    photo_in: str = Field(
        "$.url", title="Of its answer the photo’s address is", description="A JSONPath (RFC 9535).", max_length=200
    )
    photo_size: float | None = Field(None, title="Largest photo (MB)", gt=0, le=100)
    link_in: str = Field(
        "$.link", title="Of the answer the listing’s address is", description="A JSONPath (RFC 9535).", max_length=200
    )
    knows_key: bool = Field(
        False,
        title="Takes an Idempotency-Key",
        description="It knows the same listing again, so that it may be sent once more after a lost answer.",
    )
    seen_at: str = Field(
        "", title="Where listings are shown", description="By GET, such as /posts; asked after a lost answer.", max_length=500
    )
    seen_in: str = Field(
        "", title="Their <<key>> is at", description="A JSONPath (RFC 9535), such as $.posts[*].reference.", max_length=200
    )
    shows_within: float | None = Field(
        None, title="Shows new listings within (seconds)", description="Empty where it is not known.", ge=0, le=86_400
    )

    @field_validator("shape")
    @classmethod
    def _holds_the_text(cls, shape: str) -> str:
        if "<<text>>" not in shape:
            raise ValueError("write <<text>> where the text goes")
        try:
            written(shape, dict.fromkeys(MARKS, "x"))
        except ValueError:
            raise ValueError("this is no JSON; the marks stand without quotation marks of their own") from None
        return shape

    @field_validator("photo_in", "link_in", "seen_in")
    @classmethod
    def _paths(cls, path: str) -> str:
        if path.strip() and (words := check(path.strip())):
            raise ValueError(words)
        return path.strip()

    @field_validator("places", "buttons")
    @classmethod
    def _names(cls, text: str) -> str:
        if any("=" not in line for line in text.splitlines() if line.strip()):
            raise ValueError("write each line as name = what the service calls it")
        return text


def written(shape: str, values: dict[str, str]) -> Any:
    """What is sent; values that are empty are left out. Raises `ValueError` where the shape is no JSON."""
    return _filled(json.loads(render(parse(shape), values, "json").text))


def _filled(value: Any) -> Any:
    if isinstance(value, dict):
        inner = {name: _filled(one) for name, one in value.items()}
        return {name: one for name, one in inner.items() if one not in ("", None, {}, [])}
    if isinstance(value, list):
        return [one for one in map(_filled, value) if one not in ("", None, {}, [])]
    return value


def named(text: str) -> dict[str, str]:
    """Names with what the service calls them, a line each."""
    pairs = (line.partition("=") for line in text.splitlines() if line.strip())
    return {name.strip(): called.strip() for name, _, called in pairs}


def headers(connection: Connection) -> dict[str, str]:
    """The headers that let one in."""
    s, key = connection.settings, connection.secrets.get("key", "")
    return {s.header: f"{s.before}{key}"} if key and s.header else {}


def numbers(web: Web, connection: Connection, link: str) -> dict[str, float]:
    """What the service says of a listing."""
    return asked(web, connection.settings, link, headers(connection), connection.settings.base_url)


def address(connection: Connection, path: str) -> str:
    """An address of the service."""
    return f"{connection.settings.base_url.rstrip('/')}/{path.lstrip('/')}"


def takes(settings: ListingSettings) -> Takes:
    return Takes(
        length=settings.limit,
        counting=Counting(unit=settings.counted),
        pictures=1,
        picture_size=int(settings.photo_size * 1_000_000) if settings.photo_size else None,
        buttons=tuple(named(settings.buttons)),
        button_length=settings.button_length,
    )


def probe(web: Web, connection: Connection) -> str:
    place = connection.settings.seen_at or connection.settings.path
    said = services.ask(web, services.Question(address(connection, place), headers=headers(connection)))
    return f"Answered with {said.status}. Nothing was listed."


KIND = ConnectionKind(
    name="listing",
    title="Business listing",
    about="A service that shows what a business offers: a text, a photo, a button with a link, at one of its places.",
    settings=ListingSettings,
    secrets={"key": "Key"},
    leads=("base_url",),
    probe=probe,
    bearer="key",
    numbers=numbers,
    summary=lambda s: s.base_url + (f", {len(named(s.places))} places" if s.places.strip() else ""),
    takes=takes,
)
