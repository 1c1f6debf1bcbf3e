"""Connection: a team's room that takes messages as JSON by POST."""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import Field, field_validator

from ...core.pieces import Counting, Takes
from ...core.slots import parse, render
from ...protocols import services
from ...protocols.errors import Misconfigured
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Limited

MARK = "<<message>>"


class RoomSettings(Limited):
    shape: str = Field(
        '{"text": <<message>>}',
        title="What is sent",
        description="JSON, as the room wants it; <<message>> stands for the text, without quotation marks of its own.",
        min_length=2,
        max_length=4000,
    )
    limit: int | None = Field(
        None, title="Greatest length (characters)", description="Empty where there is none.", ge=20, le=100_000
    )
    counted: Literal["characters", "graphemes", "bytes"] = Field("characters", title="Counted as")

    @field_validator("shape")
    @classmethod
    def _holds_the_message(cls, shape: str) -> str:
        if MARK not in shape:
            raise ValueError(f"write {MARK} where the text goes")
        try:
            json.loads(render(parse(shape), {"message": "x"}, "json").text)
        except ValueError:
            raise ValueError("this is no JSON; the mark stands without quotation marks of its own") from None
        return shape


def body_of(settings: RoomSettings, text: str) -> Any:
    """A message as the room wants it."""
    return json.loads(render(parse(settings.shape), {"message": text}, "json").text)


def address_of(connection: Connection) -> str:
    """Where messages go. Raises `Misconfigured` where it is not put in."""
    if address := connection.secrets.get("address", "").strip():
        return address
    raise Misconfigured(f"The address of “{connection.name}” is missing. Put it in under Connections.")


def probe(web: Web, connection: Connection) -> str:
    """Whoever answers anything but “there is nothing here” is there; nothing is said."""
    got = web.fetch(address_of(connection), method="OPTIONS", max_seconds=15)
    if got.status in (404, 410):
        raise Misconfigured(f"There is no room at this address ({got.status}).")
    return f"The room is there ({got.status}). Nothing was said."


def say(web: Web, connection: Connection, text: str) -> services.Said:
    """Say one thing. Raises `OutsideError`, ambiguous where it may have been said."""
    return services.act(web, services.Question(address_of(connection), "POST", body=body_of(connection.settings, text), seconds=30))


KIND = ConnectionKind(
    name="room",
    title="Team’s room",
    about="An address that takes messages for people who work together, as JSON by POST.",
    settings=RoomSettings,
    secrets={"address": "Address that takes messages"},
    leads=(),
    probe=probe,
    summary=lambda s: f"up to {s.limit} characters" if s.limit else "messages of any length",
    takes=lambda s: Takes(length=s.limit, counting=Counting(unit=s.counted)),
)
