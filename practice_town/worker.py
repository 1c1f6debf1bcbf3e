"""Working with tools: which tool the practice model uses next for a goal, and what it gives it.

It looks something up with the words of the goal, reads what it found, does what the goal says should be done, and then
answers. Each tool is known by what it says of itself, as a model would know it.
"""

from __future__ import annotations

import json
import re
from typing import Any

from .words import ASKING

_URL = re.compile(r"https?://[^\s<>\"”’)\]]+")
_WORD = re.compile(r"[A-Za-z][a-z]{3,}")
_QUOTED = re.compile(r"[“\"]([^”\"]{3,80})[”\"]")
_NUMBER = {"one": 1, "two": 2, "three": 3, "four": 4, "five": 5}
_LOOKS = ("search", "find", "look up")
_READS = ("read the page", "read a page", "main text", "read_page")
_ACTS = {
    "post": ("post", "publish"),
    "publish": ("post", "publish"),
    "send": ("send", "mail", "message"),
    "mail": ("mail",),
    "record": ("row", "sheet"),
    "sheet": ("row", "sheet"),
    "row": ("row", "sheet"),
    "ask": ("question", "asks", "to a person", "who chooses"),
}


def next_use(messages: list[dict[str, Any]], tools: list[dict[str, Any]], compose: Any) -> dict[str, Any] | None:
    """The next tool with what it is given, or ``None`` where it is time to answer. `compose` writes a text of a length."""
    goal = next((str(m["content"]) for m in messages if m.get("role") == "user"), "").removeprefix("The goal:").strip()
    used = [(name, given) for m in messages for name, given in _used(m)]
    given = "\n".join(str(m.get("content") or "") for m in messages if m.get("role") in ("tool", "user"))
    failed = sum("It failed:" in str(m.get("content") or "") for m in messages)
    if failed > 2:
        return None
    names = [name for name, _ in used]
    for tool in tools:
        about = f"{tool['name']} {tool.get('description', '')}".lower()
        if _is(about, _LOOKS) and tool["name"] not in names:
            return _use(tool, goal, "", compose)
    links = list(dict.fromkeys(link.rstrip(".,;") for link in _URL.findall(given)))
    read = {str(value) for _, told in used for value in told.values()}
    wanted = next((_NUMBER[w] for w in re.findall(r"\b(one|two|three|four|five)\b", goal.lower())), 2)
    for tool in tools:
        about = f"{tool['name']} {tool.get('description', '')}".lower()
        if _is(about, _READS) and names.count(tool["name"]) < min(wanted, 3):
            link = next((one for one in links if one not in read), "")
            if link:
                return _use(tool, goal, link, compose)
    for tool in tools:
        about = f"{tool['name']} {tool.get('description', '')}".lower()
        acts = [words for word, words in _ACTS.items() if re.search(rf"\b{word}", goal, re.I)]
        if tool["name"] not in names and any(_is(about, words) for words in acts) and not _is(about, (*_LOOKS, *_READS)):
            return _use(tool, goal, links[0] if links else "", compose)
    known = [word for words in (_LOOKS, _READS, *_ACTS.values()) for word in words]
    for tool in tools:
        about = f"{tool['name']} {tool.get('description', '')}".lower()
        if tool["name"] not in names and ("runs the workflow" in about or not _is(about, tuple(known))) and _fits(about, goal):
            return _use(tool, goal, links[0] if links else "", compose)
    return None


def _fits(about: str, goal: str) -> bool:
    """Whether a tool speaks of what the goal speaks of."""
    said, wanted = ({w.lower()[:5] for w in _WORD.findall(text) if w.lower() not in ASKING} for text in (about, goal))
    return len((said & wanted) - {"runs", "workf", "with", "this", "that", "then"}) >= 2


def tools_in_words(messages: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Tools told of in the instructions, for those who do not offer them by the protocol."""
    told = next((str(m["content"]) for m in messages if "The tools:\n" in str(m.get("content"))), "")
    out = []
    for name, about, given in re.findall(r"^- (\w+): (.+?) Give: (.+?)\.$", told, re.MULTILINE):
        parts = {} if given == "nothing" else {one.strip(): {"type": "string"} for one in given.split(",")}
        out.append({"name": name, "description": about, "parameters": {"type": "object", "properties": parts}})
    return out


def _used(message: dict[str, Any]) -> list[tuple[str, dict[str, Any]]]:
    if message.get("role") != "assistant":
        return []
    out = []
    for call in message.get("tool_calls") or []:
        out.append((call["function"]["name"], _json(call["function"].get("arguments"))))
    if not out and (found := re.search(r"\{\"tool\".*\}", str(message.get("content") or ""))):
        told = _json(found.group())
        if isinstance(told.get("tool"), str):
            out.append((told["tool"], told.get("given") or {}))
    return out


def _json(text: Any) -> dict[str, Any]:
    try:
        found = json.loads(text or "{}")
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


def _is(about: str, words: tuple[str, ...]) -> bool:
    return any(word in about for word in words)


def _use(tool: dict[str, Any], goal: str, link: str, compose: Any) -> dict[str, Any]:
    given = {}
    for name, part in (tool.get("parameters") or {}).get("properties", {}).items():
        about = f"{name} {part.get('description', '')}".lower()
        if "(boolean)" in about:
            if name in (tool["parameters"].get("required") or ()):
                given[name] = "false"
        elif "(integer)" in about or "(number)" in about:
            given[name] = next(iter(re.findall(r"\d+", goal)), "1")
        elif "question" in about:
            given[name] = f"What should be said about {_query(goal)}?"
        elif re.search(r"link|url|address|page\b", about) and link:
            given[name] = link
        elif re.search(r"query|words|search|look for|about what|topic", about):
            given[name] = _query(goal)
        elif re.search(r"title|headline|subject|name", about):
            given[name] = compose(70)
        else:
            given[name] = compose(260)
    return {"name": tool["name"], "arguments": given}


def _query(goal: str) -> str:
    quoted = _QUOTED.search(goal)
    if quoted:
        return quoted.group(1)
    words = [w for w in _WORD.findall(goal) if w.lower() not in ASKING]
    return " ".join(list(dict.fromkeys(words))[:3])
