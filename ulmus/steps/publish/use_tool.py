"""Publish: a tool of a tool server is used (Model Context Protocol). What it does there is the server's affair, so it counts as an act:
it goes through the outbox, once, and after a lost answer a person says whether it happened."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field

from ...core.flow import GIVEN
from ...core.pieces import Act
from ...core.values import NotPlain, read_json
from ...protocols import toolserver
from ...protocols.errors import NotFound
from ...protocols.net import Web
from ..api import Connection, Context, Outgoing, Sends, Sighting, Sought, Timely, Tool, setting
from ..connections.tool_server import headers_of


class ToolSettings(Timely):
    server: str = setting("Tool server", control="connection", needs="tool_server")
    tool: str = setting("Tool", "Its name there. The server’s test lists them all.", control="text", min_length=1, max_length=200)
    give: dict[str, str] = setting(
        "Give it",
        "What it is given, by name. In an assignment it may be left empty: then the assignment fills in what the tool asks for.",
        control="fields",
        default={},
        max_length=60,
    )
    unasked: bool = setting(
        "Nobody need be asked first",
        "Else a line above must put a draft or a question before a person.",
        control="switch",
        default=False,
    )
    played: str = setting(
        "In proofs it gives",
        "What stands for the answer in proofs, as text or JSON. A proof uses nothing.",
        control="longtext",
        default="",
        max_length=10_000,
        more=True,
    )


class ToolOutput(BaseModel):
    text: str = Field("", description="What it answered, as a text.")
    values: dict[str, Any] = Field({}, description="What it answered as values, where it gives any.")


def piece(settings: ToolSettings, context: Context) -> Outgoing:
    """The use as it will be made. Raises `OutsideError` where the tool is not there or what it is given does not fit."""
    connection = context.connect(settings.server, "tool_server")
    given: Mapping[str, Any] = settings.give or context.values.get(GIVEN) or {}
    fitting = toolserver.fitting(_tool(settings, context, connection), dict(given))
    act = Act(method="POST", url=connection.settings.url, body={"tool": settings.tool.strip(), "given": fitting})
    return Outgoing(settings.server, {**act.model_dump(mode="json"), "played": settings.played})


def _tool(settings: ToolSettings, context: Context, connection: Connection) -> toolserver.Offered:
    name = settings.tool.strip()
    found = toolserver.offered(context.web, connection.settings.url, headers_of(connection))
    tool = next((one for one in found if one.name == name), None)
    if tool is None:
        raise NotFound(
            f"{connection.name} offers no tool “{name}”; it offers {', '.join(one.name for one in found[:20]) or 'none'}."
        )
    return tool


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Use it, once."""
    body = content["body"]
    used = toolserver.use(web, connection.settings.url, headers_of(connection), body["tool"], body["given"])
    return {"text": used.text, "values": used.values}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """After a lost answer nobody can be asked."""
    return Sighting(why="A tool server cannot be asked whether a tool was used.")


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """What proofs go on with: what was typed in."""
    text = str(content.get("played", "")).strip()
    try:
        values = read_json(text) if text else {}
    except NotPlain:
        values = {}
    return {"text": text, "values": values if isinstance(values, dict) else {}}


def as_tool(settings: ToolSettings, context: Context, name: str) -> Tool | None:
    """The tool as its server tells of it; where the line says what it is given, as the line says."""
    if settings.give:
        return None
    tool = _tool(settings, context, context.connect(settings.server, "tool_server"))
    wanted = [
        (one.name, " ".join(part for part in (one.about, f"({one.type})" if one.type else "") if part), one.needed)
        for one in tool.wanted
    ]
    return Tool(
        name,
        tool.about or f"The tool “{tool.name}”.",
        tuple((what, about) for what, about, needed in wanted if needed),
        tuple((what, about) for what, about, needed in wanted if not needed),
    )


KIND = Sends(
    name="use_tool",
    stage="publish",
    title="Use a tool",
    about="Uses a tool of a tool server: whatever that does there. Done once; a proof only shows it.",
    sentence="Use {tool} of {server}",
    offer="Use a tool of {server}",
    words="tool server protocol model context assistant function call plug",
    called="tool",
    settings=ToolSettings,
    output=ToolOutput,
    form="act",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    gives_outside=True,
    fixed_as_tool=("tool",),
    lets_go="unasked",
    as_tool=as_tool,
    brief="{text}",
)
