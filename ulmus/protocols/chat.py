"""The chat-completions JSON protocol that most model servers speak.

Only its common core is used: ``model``, ``messages``, ``temperature``, ``max_tokens``, ``stream`` with
``stream_options``, ``response_format`` with a JSON Schema, ``tools`` of the kind *function*; answers by server-sent
events or whole. What a server does not understand is left out, and the server remembered by it.
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from .errors import BadAnswer, OutsideError, Refused, TooLarge, Unreachable
from .net import Enough, Fetched, Web, never, status_error

MAX_ANSWER_BYTES = 4_000_000
MAX_REFUSAL_BYTES = 100_000
WIDE, WIDEST = 10, 3600.0
"""An answer may take so many times as long as the model may be silent, and at most so many seconds."""
CHARACTERS_A_TOKEN, MORE = 12, 4000
"""An answer is cut at so many characters for each token it may have, and some more."""


@dataclass(frozen=True)
class Server:
    """A model server: base address (ending before ``/chat/completions``), key, model name, and for how many seconds it may say
    nothing before it is given up. An answer that goes on and on is given up in the end as well."""

    base_url: str
    key: str
    model: str
    max_seconds: float = 120.0


@dataclass(frozen=True)
class Call:
    """A tool the model wants to use; `arguments` is JSON as the model wrote it."""

    id: str
    name: str
    arguments: str


@dataclass(frozen=True)
class Answer:
    """The answer's text, tokens as the server counted them (or estimated), the seconds it took, the tools it wants to use,
    and whether it was cut off at the greatest length."""

    text: str
    tokens_in: int
    tokens_out: int
    counted: bool
    seconds: float
    calls: tuple[Call, ...] = ()
    cut: bool = False


class NoTools(Refused):
    """The server does not understand tools."""


class Broken(Unreachable):
    """An answer that was stopped or broke off half way: what had come of it, and what that had cost in tokens, as far as that
    is known."""

    def __init__(self, message: str, text: str, tokens_in: int, tokens_out: int, *, retryable: bool = False) -> None:
        super().__init__(message, retryable=retryable)
        self.text = text
        self.tokens_in = tokens_in
        self.tokens_out = tokens_out


class TooLong(TooLarge):
    """The messages are longer than the model takes."""


def complete(
    web: Web,
    server: Server,
    messages: Sequence[dict[str, Any]],
    *,
    temperature: float = 0.4,
    max_tokens: int = 800,
    schema: dict[str, Any] | None = None,
    tools: Sequence[dict[str, Any]] = (),
    on_text: Callable[[str], None] | None = None,
    cancelled: Callable[[], bool] = never,
) -> Answer:
    """Ask the model, streaming; `on_text` gets the answer so far. Raises `OutsideError`.

    An empty text, a stream that breaks off and an answer that is not of the protocol are errors worth a new try.
    `tools` are functions (name, description, parameters as a JSON Schema); a server that does not understand them raises
    `NoTools`, messages that are longer than the model takes `TooLong`.
    """
    body: dict[str, Any] = {
        "model": server.model,
        "messages": list(messages),
        "temperature": temperature,
        "max_tokens": max_tokens,
        "stream": True,
        "stream_options": {"include_usage": True},
    }
    if schema is not None:
        body["response_format"] = {"type": "json_schema", "json_schema": {"name": "answer", "schema": schema, "strict": True}}
    if tools:
        body["tools"] = [{"type": "function", "function": tool} for tool in tools]
    began = time.monotonic()
    refused = _REFUSED.setdefault((server.base_url, server.model), set())
    while True:
        if tools and "tools" in refused:
            raise NoTools("The model’s server does not understand tools.")
        asked = {name: value for name, value in body.items() if name not in refused}
        if "system" in refused:
            asked["messages"] = _without_system(body["messages"])
        left = [name for name in _SPARED if name not in refused and (name in asked or (name == "system" and _has_system(messages)))]
        try:
            said = _ask(web, server, asked, on_text, cancelled)
            break
        except _NotUnderstood as error:
            if error.too_long:
                raise TooLong("The prompt is longer than the model takes.") from None
            if not left:
                refused.clear()
                raise error.told from None
            refused.add(left[0])
    text, usage = said.text, said.usage
    if not text.strip() and not said.calls:
        raise BadAnswer("The model gave an empty answer.", retryable=True)
    counted = isinstance(usage, dict) and isinstance(usage.get("prompt_tokens"), int)
    tokens_in = usage["prompt_tokens"] if counted else sum(len(str(m.get("content") or "")) for m in messages) // 4
    tokens_out = usage.get("completion_tokens", 0) if counted else len(text) // 4
    return Answer(text.strip(), tokens_in, tokens_out, counted, time.monotonic() - began, tuple(said.calls), said.cut)


# What is left out, first to last, where a server does not understand a request; and what each server has refused.
_SPARED = ("response_format", "stream_options", "tools", "system")
_REFUSED: dict[tuple[str, str], set[str]] = {}
_LENGTH = re.compile(rb"context.{0,40}(?:length|window|size)|too (?:long|many tokens)|(?:maximum|max)[^.]{0,40}tokens", re.I)


def _has_system(messages: Sequence[dict[str, Any]]) -> bool:
    return any(m["role"] == "system" for m in messages)


def _without_system(messages: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """The same with the standing part at the head of what the user says."""
    standing = "\n\n".join(m["content"] for m in messages if m["role"] == "system")
    rest = [dict(m) for m in messages if m["role"] != "system"]
    first = next((m for m in rest if m["role"] == "user"), None)
    if first is None:
        return [{"role": "user", "content": standing}, *rest]
    first["content"] = f"{standing}\n\n{first['content']}".strip()
    return rest


class _NotUnderstood(Exception):
    """The server refuses the request as such."""

    def __init__(self, told: OutsideError, too_long: bool) -> None:
        super().__init__(str(told))
        self.told = told
        self.too_long = too_long


@dataclass
class _Said:
    """What came back: text, usage, calls in the order they were begun, whether it was cut off."""

    text: str = ""
    usage: Any = None
    calls: list[Call] = field(default_factory=list)
    cut: bool = False


BROKE_OFF = "The model’s answer broke off half way."
NO_ANSWER = "The model’s server sent something that is not an answer."


class _Stream:
    """Server-sent events (WHATWG HTML, section 9.2) as they come in, put together to what was said."""

    def __init__(self, on_text: Callable[[str], None] | None, longest: int) -> None:
        self.said = _Said()
        self._longest = longest
        self.finished = False
        self._on_text = on_text
        self._calls: dict[int, list[str]] = {}
        self._rest = b""

    def take(self, piece: bytes) -> None:
        """Take in some more. Raises `Enough` at the end, `OutsideError` where it is no answer."""
        *lines, self._rest = (self._rest + piece).replace(b"\r\n", b"\n").split(b"\n")
        for line in lines:
            if line.startswith(b"data:"):
                self._event(line[5:].decode("utf-8", errors="replace").strip())

    def _event(self, data: str) -> None:
        said = self.said
        if data == "[DONE]":
            self.finished = True
            raise Enough
        try:
            chunk = json.loads(data)
            choices = chunk.get("choices") or [{}]
            told = choices[0].get("delta") or {}
            delta = told.get("content") or ""
            for n, one in enumerate(told.get("tool_calls") or []):
                # A call comes in parts: its name first, then its arguments bit by bit.
                call = self._calls.setdefault(int(one.get("index", n)), ["", "", ""])
                function = one.get("function") or {}
                call[0] += one.get("id") or ""
                call[1] += function.get("name") or ""
                call[2] += function.get("arguments") or ""
            self.finished = self.finished or bool(choices[0].get("finish_reason"))
            said.cut = said.cut or choices[0].get("finish_reason") == "length"
            said.usage = chunk.get("usage") or said.usage
            said.text += delta
        except (ValueError, LookupError, TypeError, AttributeError, RecursionError):
            raise BadAnswer(NO_ANSWER, retryable=True) from None
        if delta and self._on_text:
            self._on_text(said.text)
        if len(said.text) > self._longest:
            # A server that does not keep to the length it was given would go on for ever.
            self.finished = said.cut = True
            raise Enough

    def whole(self) -> _Said:
        """What was said. Raises `OutsideError` where it broke off."""
        if not self.finished:
            raise BadAnswer(BROKE_OFF, retryable=True)
        self.said.calls = [Call(call[0] or str(n), call[1], call[2] or "{}") for n, call in sorted(self._calls.items())]
        return self.said


def _ask(
    web: Web, server: Server, body: dict[str, Any], on_text: Callable[[str], None] | None, cancelled: Callable[[], bool]
) -> _Said:
    headers = {"Authorization": f"Bearer {server.key}"} if server.key else {}
    url = server.base_url.rstrip("/") + "/chat/completions"
    stream = _Stream(on_text, int(body["max_tokens"]) * CHARACTERS_A_TOKEN + MORE)
    asked_for = sum(len(str(m.get("content") or "")) for m in body["messages"]) // 4
    whole: list[bytes] = []
    size = 0

    def take(answer: Fetched, piece: bytes) -> None:
        nonlocal size
        size += len(piece)
        if answer.status == 200 and "event-stream" in answer.headers.get("content-type", ""):
            stream.take(piece)
        elif answer.status != 200 and size > MAX_REFUSAL_BYTES:
            raise Enough
        else:
            whole.append(piece)

    # Asking a model twice changes nothing outside.
    try:
        got = web.fetch(
            url,
            method="POST",
            json=body,
            headers=headers,
            max_bytes=MAX_ANSWER_BYTES,
            max_seconds=min(WIDEST, server.max_seconds * WIDE),
            silence=server.max_seconds,
            take=take,
            stopped=cancelled,
            again=True,
        )
    except OutsideError as error:
        if stream.said.text:
            # What had come by then was paid for.
            raise _broken(stream, asked_for, error.message, error.retryable) from None
        raise
    if got.status != 200:
        refused = status_error(got, "The model’s server")
        if got.status in (400, 413, 415, 422, 501):
            raise _NotUnderstood(refused, bool(_LENGTH.search(b"".join(whole))) or got.status == 413)
        raise refused
    if "event-stream" in got.headers.get("content-type", ""):
        if not stream.finished and stream.said.text:
            raise _broken(stream, asked_for, BROKE_OFF, True)
        return stream.whole()
    said = _whole(b"".join(whole))
    if on_text:
        on_text(said.text)
    return said


def _broken(stream: _Stream, asked_for: int, words: str, retryable: bool) -> Broken:
    """What had come is kept, and what it had cost."""
    usage = stream.said.usage if isinstance(stream.said.usage, dict) else {}
    tokens_in, tokens_out = usage.get("prompt_tokens", asked_for), usage.get("completion_tokens", len(stream.said.text) // 4)
    return Broken(words, stream.said.text, int(tokens_in), int(tokens_out), retryable=retryable)


def _whole(body: bytes) -> _Said:
    try:
        data = json.loads(body)
        choice = data["choices"][0]
        message = choice["message"]
        calls = [
            Call(str(one.get("id") or n), one["function"]["name"], one["function"].get("arguments") or "{}")
            for n, one in enumerate(message.get("tool_calls") or [])
        ]
        return _Said(message.get("content") or "", data.get("usage"), calls, choice.get("finish_reason") == "length")
    except (ValueError, LookupError, TypeError, AttributeError, RecursionError):
        raise BadAnswer(NO_ANSWER, retryable=True) from None
