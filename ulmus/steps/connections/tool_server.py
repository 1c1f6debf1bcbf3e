"""Connection: a tool server, whose tools are used by lines and by assignments (Model Context Protocol)."""

from __future__ import annotations

from pydantic import Field

from ...protocols import toolserver
from ...protocols.net import Web
from ..api import Asked, Connection, ConnectionKind, Granted

MOST_NAMED = 12


class ToolServerSettings(Granted, Asked):
    url: str = Field(
        title="Address", description="Where it is spoken to, such as https://tools.example/mcp.", min_length=1, max_length=500
    )
    header: str = Field("Authorization", title="Header for the key", max_length=60)
    before: str = Field("Bearer ", title="Words before the key", description="Such as “Bearer ”; may be empty.", max_length=40)


def headers_of(connection: Connection) -> dict[str, str]:
    """The headers that let one in."""
    s, key = connection.settings, connection.secrets.get("key", "")
    return {s.header: f"{s.before}{key}"} if key and s.header else {}


def probe(web: Web, connection: Connection) -> str:
    found = toolserver.look(web, connection.settings.url, headers_of(connection))
    names = [tool.name for tool in found]
    more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
    tools = f"{len(names)} tool{'s' if len(names) != 1 else ''}"
    return f"Offers {tools}: {', '.join(names[:MOST_NAMED])}{more}." if names else "Offers no tool."


KIND = ConnectionKind(
    name="tool_server",
    title="Tool server",
    about="Tools that others offer over the Model Context Protocol. A line uses one of them; an assignment may be given several.",
    settings=ToolServerSettings,
    secrets={"key": "Key"},
    leads=("url",),
    probe=probe,
    bearer="key",
    summary=lambda s: s.url,
)
