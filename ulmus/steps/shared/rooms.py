"""Saying something in a team's room, whichever kind of connection leads there."""

from __future__ import annotations

from collections.abc import Sequence

from ...core import pieces
from ...protocols import xmpp
from ...protocols.errors import OutsideError
from ...protocols.net import Web
from ..api import Connection
from ..connections import chatroom, room

KINDS = f"{room.KIND.name} {chatroom.KIND.name}"
"""The kinds of connection that lead to a room."""


def say(web: Web, connection: Connection, text: str, key: str) -> None:
    """Say a text under a key, in parts where the room takes no more at once. Raises `OutsideError`, ambiguous where it may have been
    said in part or whole."""
    limit = connection.settings.limit
    counting = pieces.Counting(unit=connection.settings.counted)
    parts = pieces.parted(text, limit, counting) if limit and pieces.length(text, counting) > limit else [text]
    say_parts(web, connection, parts, key)


def say_parts(web: Web, connection: Connection, parts: Sequence[str], key: str) -> None:
    """Say it, part after part. What fails after the first was said leaves doubt, and names how far it came."""
    if isinstance(connection.settings, chatroom.ChatroomSettings):
        xmpp.say(chatroom.room_of(web, connection), parts, key)
        return
    for n, part in enumerate(parts):
        try:
            room.say(web, connection, part)
        except OutsideError as error:
            if n:
                error.message = f"{n} of {len(parts)} parts were said, then: {error.message}"
                error.retryable, error.ambiguous = False, True
            raise
