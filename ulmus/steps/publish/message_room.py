"""Publish: a message to a team's room. One that is too long goes in parts, or not at all."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Message
from ...protocols import xmpp
from ...protocols.errors import NothingToDo, TooLarge
from ...protocols.net import Web
from ..api import Connection, Context, Outgoing, Sends, Sighting, Sought, Timely, setting
from ..connections.chatroom import ChatroomSettings, room_of
from ..shared import rooms

MOST = 20


class MessageSettings(Timely):
    room: str = setting("Room", control="connection", needs="room chatroom")
    text: str = setting("Text", control="slots", takes="text@draft|text", min_length=1, max_length=100_000)
    long: Literal["parts", "refuse"] = setting(
        "Where it is too long for the room",
        control="choice",
        default="parts",
        labels={"parts": "in parts, at the ends of sentences", "refuse": "not at all"},
        more=True,
    )


class MessageOutput(BaseModel):
    text: str = Field("", description="What was said.")
    parts: int = Field(0, description="In how many parts.")


def piece(settings: MessageSettings, context: Context) -> Outgoing:
    """The message as it will be said. Raises `OutsideError` where there is none, or more parts than anybody reads."""
    text = settings.text.strip()
    if not text:
        raise NothingToDo("There is nothing to say: the text is empty.")
    connection = context.connect(settings.room, "room chatroom")
    limit = connection.settings.limit
    parts: list[str] = []
    if limit and settings.long == "parts":
        parts = pieces.parted(text, limit, pieces.Counting(unit=connection.settings.counted))
        if len(parts) > MOST:
            raise TooLarge(f"This would be {len(parts)} messages; at most {MOST} are said at once.")
    return Outgoing(settings.room, Message(text=text, parts=tuple(parts) if len(parts) > 1 else ()).model_dump(mode="json"))


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Say it, part after part. What fails after the first was said leaves doubt, and names how far it came."""
    message = pieces.read("message", content)
    assert isinstance(message, Message)
    rooms.say_parts(web, connection, message.parts or (message.text,), key)
    return foretold(content)


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the message tells it."""
    message = pieces.read("message", content)
    assert isinstance(message, Message)
    return {"text": message.text, "parts": len(message.parts) or 1}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """A chat room shows what was said; an address that only takes does not, and a person looks."""
    if isinstance(connection.settings, ChatroomSettings):
        message = pieces.read("message", sought.content)
        assert isinstance(message, Message)
        count = len(message.parts) or 1
        said, tells = xmpp.find(room_of(web, connection), count, sought.key, sought.since)
        if said == count:
            return Sighting(foretold(dict(sought.content)))
        return Sighting(
            tells=tells and not said, why=f"The room shows {said} of {count} parts." if said else "The room does not show it."
        )
    return Sighting(why="The room cannot be asked what was said in it.")


KIND = Sends(
    name="message_room",
    stage="publish",
    title="Message a team’s room",
    about="Says something in a room where people work together. One that is too long goes in parts.",
    sentence="Tell {room}: {text}",
    offer="Tell {room}",
    words="team chat channel room message notify tell announce webhook digest teams notification alert ping",
    called="message",
    common=0.1,
    settings=MessageSettings,
    output=MessageOutput,
    form="message",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    lists_within=lambda connection: 1.0 if isinstance(connection.settings, ChatroomSettings) else None,
    brief="{text}",
)
