"""Tool servers (Model Context Protocol, streamable HTTP): what they offer, and using it.

The protocol's library is an extra of the distribution (``assistants``). What it sends goes through the client that all protocols
share, so that addresses are guarded and answers limited as everywhere; nothing is taken from a server that it was not asked for.
"""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from ..core.values import text as valid
from .errors import BadAnswer, Misconfigured, NotFound, OutsideError, Refused, Unreachable
from .net import Web

T = TypeVar("T")
FRESH = 300.0
"""Seconds for which what a server offers is taken to be the same."""
MOST_TOOLS, MOST_PAGES = 200, 10
LONGEST_ABOUT = 1000
LONGEST_TEXT = 200_000
EXTRA = "Tool servers need a part of Ulmus that is not installed here: pip install 'ulmus[assistants]'."


@dataclass(frozen=True)
class Wanted:
    """What a tool is given: its name, words on it, its JSON type (empty where any will do), and whether it is needed."""

    name: str
    about: str
    type: str
    needed: bool


@dataclass(frozen=True)
class Offered:
    """A tool: its name, what the server says it does, and what it is given."""

    name: str
    about: str
    wanted: tuple[Wanted, ...]


@dataclass(frozen=True)
class Used:
    """What a tool gave: its text, and its values where it has any."""

    text: str
    values: dict[str, Any]


def offered(web: Web, url: str, headers: Mapping[str, str]) -> tuple[Offered, ...]:
    """The tools of a server, as they were lately. Raises `OutsideError`."""
    memory = web.memory("tool servers", 50, FRESH)
    known: tuple[Offered, ...] = memory.get_or((url, tuple(sorted(headers.items()))), lambda: look(web, url, headers))
    return known


def look(web: Web, url: str, headers: Mapping[str, str]) -> tuple[Offered, ...]:
    """The tools of a server as they are now. Raises `OutsideError`."""

    async def pages(client: Any) -> tuple[Offered, ...]:
        tools: list[Any] = []
        cursor: str | None = None
        for _ in range(MOST_PAGES):
            page = await client.list_tools(cursor=cursor)
            tools += page.tools
            cursor = page.next_cursor
            if cursor is None or len(tools) >= MOST_TOOLS:
                break
        return tuple(_offered(tool) for tool in tools[:MOST_TOOLS])

    return _talk(web, url, headers, 30.0, pages)


def use(web: Web, url: str, headers: Mapping[str, str], tool: str, given: Mapping[str, Any], seconds: float = 60.0) -> Used:
    """Use a tool, once. Raises `OutsideError`: ambiguous where it may have been used although no answer came."""
    began = False

    async def call(client: Any) -> Any:
        nonlocal began
        began = True
        return await client.call_tool(tool, dict(given))

    try:
        answer = _talk(web, url, headers, seconds, call)
    except Refused:
        raise
    except OutsideError as error:
        error.ambiguous = began
        raise
    told = "\n\n".join(str(part.text) for part in answer.content if getattr(part, "type", "") == "text")
    told = valid(told[:LONGEST_TEXT])
    if answer.is_error:
        raise Refused(f"“{tool}” was not done: {told[:500] or 'the server does not say why'}.")
    values = answer.structured_content
    return Used(told, dict(values) if isinstance(values, dict) else {})


def fitting(tool: Offered, given: Mapping[str, Any]) -> dict[str, Any]:
    """What a tool is given, each of the type it wants where that can only be meant one way. Raises `Misconfigured` with words."""
    known = {one.name: one for one in tool.wanted}
    out: dict[str, Any] = {}
    for name, value in given.items():
        if name not in known:
            raise Misconfigured(f"“{tool.name}” takes no “{name}”; it takes {', '.join(known) or 'nothing'}.")
        if value not in ("", None):
            out[name] = _typed(known[name], value)
    if lacking := [one.name for one in tool.wanted if one.needed and one.name not in out]:
        raise Misconfigured(f"“{tool.name}” must be given {', '.join(lacking)}.")
    return out


def _typed(wanted: Wanted, value: Any) -> Any:
    if not isinstance(value, str) or wanted.type in ("", "string"):
        return value if wanted.type != "string" or isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    try:
        found = json.loads(value.strip() if wanted.type != "boolean" else value.strip().lower())
    except ValueError:
        found = value
    types: dict[str, Any] = {"integer": int, "number": int | float, "boolean": bool, "array": list, "object": dict}
    kind = types.get(wanted.type)
    if kind is None or (isinstance(found, kind) and isinstance(found, bool) == (wanted.type == "boolean")):
        return found
    raise Misconfigured(f"“{wanted.name}” is to be of the type {wanted.type}, not “{value[:60]}”.")


def _offered(tool: Any) -> Offered:
    schema: dict[str, Any] = tool.input_schema if isinstance(tool.input_schema, dict) else {}
    parts, needed = schema.get("properties"), schema.get("required")
    parts = parts if isinstance(parts, dict) else {}
    needed = needed if isinstance(needed, list) else []
    wanted = tuple(
        Wanted(str(name)[:80], _words(part), _type(part), name in needed)
        for name, part in list(parts.items())[:60]
        if isinstance(part, dict)
    )
    return Offered(str(tool.name)[:200], valid(str(tool.description or tool.title or ""))[:LONGEST_ABOUT], wanted)


def _words(part: Mapping[str, Any]) -> str:
    said = valid(str(part.get("description") or part.get("title") or ""))[:300]
    choices = part.get("enum")
    return f"{said} One of: {', '.join(map(str, choices[:30]))}.".strip() if isinstance(choices, list) else said


def _type(part: Mapping[str, Any]) -> str:
    """The one type a value may have; empty where there are several, or none is told."""
    told = part.get("type")
    if told is None and isinstance(part.get("anyOf"), list):
        several = [one.get("type") for one in part["anyOf"] if isinstance(one, dict) and one.get("type") != "null"]
        told = several[0] if len(several) == 1 else None
    return told if isinstance(told, str) else ""


def _talk(web: Web, url: str, headers: Mapping[str, str], seconds: float, do: Callable[[Any], Awaitable[T]]) -> T:
    """Open a line to a server, do one thing there, and close it. Raises `OutsideError`."""
    try:
        import anyio
        import httpx2
        from mcp import Client, MCPError
        from mcp.client.streamable_http import streamable_http_client
    except ImportError:
        raise Misconfigured(EXTRA) from None

    met: list[OutsideError] = []

    class Through(httpx2.AsyncBaseTransport):
        """What the library sends, sent by our own client."""

        async def handle_async_request(self, request: Any) -> Any:
            if request.method == "GET":  # a line on which the server would speak by itself
                return httpx2.Response(405, request=request)
            body = await request.aread()
            sent = {
                name: value for name, value in request.headers.items() if name not in ("host", "content-length", "accept-encoding")
            }
            try:
                answer = await anyio.to_thread.run_sync(
                    lambda: web.fetch(
                        str(request.url), method=request.method, headers=sent, content=body, max_seconds=seconds, follow=()
                    ),
                    abandon_on_cancel=True,
                )
            except OutsideError as error:
                met.append(error)
                raise httpx2.ConnectError(error.message, request=request) from error
            kept = {name: value for name, value in answer.headers.items() if name not in ("content-encoding", "content-length")}
            return httpx2.Response(answer.status, headers=kept, content=answer.body, request=request)

    async def one() -> T:
        async with httpx2.AsyncClient(transport=Through(), headers=dict(headers), timeout=None) as http:
            line = streamable_http_client(url, http_client=http, terminate_on_close=False)
            with anyio.fail_after(seconds + 5):
                async with Client(line, read_timeout_seconds=seconds, cache=None) as client:
                    return await do(client)

    try:
        return anyio.run(one)
    except BaseException as error:
        first = _first(error)
        if isinstance(first, KeyboardInterrupt | SystemExit):
            raise
        if met:
            raise met[-1] from error
        if isinstance(first, TimeoutError):
            raise Unreachable(f"The tool server did not answer within {seconds:g} seconds.", retryable=True) from error
        if isinstance(first, MCPError):
            words = valid(str(first.message))[:300]
            if "not found" in words.lower() or "unknown tool" in words.lower():
                raise NotFound(f"The tool server says: {words}") from error
            if "401" in words or "403" in words or "unauthorized" in words.lower():
                raise Refused("The tool server does not accept the key.") from error
            raise BadAnswer(f"The tool server says: {words}") from error
        if isinstance(first, OutsideError):
            raise first from error
        raise BadAnswer(f"This is no tool server, or it does not keep to the protocol ({type(first).__name__}).") from error


def _first(error: BaseException) -> BaseException:
    """The first fault of a group."""
    while isinstance(error, BaseExceptionGroup):
        error = error.exceptions[0]
    return error
