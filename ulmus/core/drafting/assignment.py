"""Assignments: what a model is told that works towards a goal with tools, and how its answers are read.

Two ways of talking: tools of the chat-completions protocol where the server has them, and JSON in plain words where it
does not. What a tool gave is marked off as material.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from .answers import AnswerError, read_json
from .prompts import as_material, marked, material_note
from .turns import Turn

LONGEST_RESULT = 8000
MOST_SOURCES = 60
Messages = tuple[dict[str, Any], ...]


class Tool(Protocol):
    """A tool as the model is told of it."""

    @property
    def name(self) -> str: ...

    @property
    def about(self) -> str: ...

    @property
    def given(self) -> tuple[tuple[str, str], ...]: ...

    @property
    def besides(self) -> tuple[tuple[str, str], ...]: ...


def function_of(tool: Tool) -> dict[str, Any]:
    """A tool as a function of the protocol; whatever it is given is a text."""
    parts = {name: {"type": "string", "description": about} for name, about in (*tool.given, *tool.besides)}
    needed = [name for name, _ in tool.given]
    schema = {"type": "object", "properties": parts, "required": needed, "additionalProperties": False}
    return {"name": tool.name, "description": tool.about, "parameters": schema}


def conversation(
    standing: str, goal: str, tools: Sequence[Tool], talk: Sequence[Turn], demand: str, *, in_words: bool, last: str = ""
) -> Messages:
    """The messages of the next round. `demand` says what the answer must be; `last` why no tool can be used any more."""
    parts = [
        standing.strip(),
        "You are given a goal, and tools to reach it with. Use one tool at a time, and only as often as needed.",
    ]
    parts.append("Say only what the tools’ results bear out; where they say nothing, say “not stated”.")
    if in_words and tools and not last:
        lines = [f"- {tool.name}: {tool.about} Give: {_wants(tool)}." for tool in tools]
        parts.append("The tools:\n" + "\n".join(lines))
        parts.append('To use one, answer with nothing but JSON such as {"tool": "name", "given": {"what": "…"}}.')
    parts.append(f"When you have what you need, answer without using a tool. {demand}".strip())
    parts.append(material_note())
    messages: list[dict[str, Any]] = [
        {"role": "system", "content": "\n\n".join(p for p in parts if p)},
        {"role": "user", "content": f"The goal:\n{goal.strip()}"},
    ]
    for n, turn in enumerate(talk, 1):
        messages += _told_in_words(turn) if in_words else _told(turn, f"use_{n}")
    if last:
        messages.append({"role": "user", "content": f"{last} Give your answer now, from what you have."})
    return tuple(messages)


def _told(turn: Turn, name: str) -> list[dict[str, Any]]:
    call = {
        "id": name,
        "type": "function",
        "function": {"name": turn.tool, "arguments": json.dumps(turn.given, ensure_ascii=False)},
    }
    return [
        {"role": "assistant", "content": turn.said, "tool_calls": [call]},
        {"role": "tool", "tool_call_id": name, "content": told_result(turn)},
    ]


def _told_in_words(turn: Turn) -> list[dict[str, Any]]:
    used = json.dumps({"tool": turn.tool, "given": turn.given}, ensure_ascii=False)
    return [
        {"role": "assistant", "content": f"{turn.said}\n{used}".strip()},
        {"role": "user", "content": f"What {turn.tool} gave:\n{told_result(turn)}"},
    ]


def told_result(turn: Turn) -> str:
    """What a tool gave, for the model: its text where it has one, with its title or name and the reason given for it, else its
    values; long ones are cut."""
    if turn.result is None:
        return f"It failed. {marked(turn.tool, turn.failed)}"
    text = str(turn.result.get("text") or "")
    links = str(turn.result.get("link") or "")
    if not text:
        text = json.dumps({k: v for k, v in turn.result.items() if v not in ("", None, [], {})}, ensure_ascii=False)
    elif headed := turn.result.get("title") or turn.result.get("name"):
        text = "\n".join(one for one in (str(headed), links, text) if one)
    if reason := turn.result.get("reason"):
        text = f"{text}\nReason: {reason}"
    cut = text if len(text) <= LONGEST_RESULT else text[:LONGEST_RESULT].rsplit(" ", 1)[0] + " …"
    return as_material(turn.tool, cut)


def read_use(text: str, tools: Sequence[Tool]) -> dict[str, Any] | None:
    """The tool an answer in words wants to use, or ``None`` where it is the answer itself. Raises `AnswerError`."""
    try:
        found = read_json(text)
    except AnswerError:
        return None
    if not isinstance(found, dict) or not isinstance(found.get("tool"), str):
        return None
    given = found.get("given")
    return checked(found["tool"], given if isinstance(given, dict) else {}, tools)


def checked(name: str, given: Mapping[str, Any], tools: Sequence[Tool]) -> dict[str, Any]:
    """A use of a tool as it is carried out. Raises `AnswerError` where there is no such tool or it lacks something."""
    tool = next((one for one in tools if one.name == name), None)
    if tool is None:
        raise AnswerError(f"there is no tool “{name[:60]}”; there are {', '.join(one.name for one in tools)}")
    lacking = [what for what, _ in tool.given if given.get(what) in (None, "")]
    if lacking:
        raise AnswerError(f"“{name}” must be given {', '.join(lacking)}")
    told = [what for what, _ in tool.given] + [what for what, _ in tool.besides if given.get(what) not in (None, "")]
    return {"tool": name, "given": {what: given[what] for what in told}}


def _wants(tool: Tool) -> str:
    names = [name for name, _ in tool.given] + [f"{name} (if you like)" for name, _ in tool.besides]
    return ", ".join(names) or "nothing"


def sources_of(talk: Sequence[Turn]) -> list[dict[str, str]]:
    """The pages and other things with a link that the tools gave, each once: title and link."""
    found: dict[str, str] = {}
    for turn in talk:
        for one in _linked(turn.result or {}, 0):
            found.setdefault(one["link"], one["title"])
    return [{"title": title, "link": link} for link, title in list(found.items())[:MOST_SOURCES]]


def _linked(value: Any, depth: int) -> list[dict[str, str]]:
    if isinstance(value, list):
        return [one for part in value for one in _linked(part, depth + 1)] if depth < 4 else []
    if not isinstance(value, dict):
        return []
    link = value.get("link")
    own = [{"title": str(value.get("title") or link), "link": link}] if isinstance(link, str) and link.startswith("http") else []
    return own + [one for name in ("items", "results") for one in _linked(value.get(name), depth + 1)]


def brief_of(turn: Turn) -> dict[str, Any]:
    """A use of a tool for readers of the journal."""
    result = turn.result or {}
    text = str(result.get("text") or result.get("title") or "") or json.dumps(result, ensure_ascii=False)
    return {
        "round": turn.round,
        "said": turn.said,
        "tool": turn.tool,
        "given": turn.given,
        "gave": text[:LONGEST_RESULT] if turn.result is not None else "",
        "failed": turn.failed,
    }
