"""Connection: a chat room by XMPP."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ...core.pieces import Counting, Takes
from ...protocols import xmpp
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Limited

JID = r"^[^@/\s]+@[^@/\s]+$"


class ChatroomSettings(Limited):
    room: str = Field(title="Room", description="Such as team@rooms.example.", pattern=JID, max_length=500)
    jid: str = Field(title="Account", description="Who speaks there, such as ulmus@example.", pattern=JID, max_length=500)
    nick: str = Field("Ulmus", title="Called there", min_length=1, max_length=60)
    host: str = Field("", title="Server", description="Empty where it is found from the account.", max_length=200)
    port: int = Field(5222, title="Port", ge=1, le=65535)
    starttls: bool = Field(True, title="Encrypt with STARTTLS")
    limit: int | None = Field(
        None, title="Greatest length (characters)", description="Empty where there is none.", ge=20, le=100_000
    )
    counted: Literal["characters", "graphemes", "bytes"] = Field("characters", title="Counted as")


def room_of(web: Web, connection: Connection) -> xmpp.Room:
    """The client's view of a chat room connection."""
    s = connection.settings
    return xmpp.Room(s.jid, connection.secrets.get("password", ""), s.room, s.nick, s.host, s.port, s.starttls, web.reach)


def probe(web: Web, connection: Connection) -> str:
    return xmpp.probe(room_of(web, connection))


KIND = ConnectionKind(
    name="chatroom",
    title="Chat room (XMPP)",
    about="A room of a chat server that speaks XMPP, where people work together.",
    settings=ChatroomSettings,
    secrets={"password": "Password"},
    leads=("jid", "host", "port", "starttls"),
    probe=probe,
    summary=lambda s: s.room,
    takes=lambda s: Takes(length=s.limit, counting=Counting(unit=s.counted)),
)
