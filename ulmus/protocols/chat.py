"""The chat-completions JSON protocol that most model servers speak.

Only its common core is used: ``model``, ``messages``, ``temperature``, ``max_tokens``, ``stream`` with
``stream_options``, ``response_format`` with a JSON Schema; answers by server-sent events or whole.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from .errors import OutsideError
from .net import Answering, Web, limited, status_error

MAX_ANSWER_BYTES = 4_000_000


@dataclass(frozen=True)
class Server:
    """A model server: base address (ending before ``/chat/completions``), key, model name, time limit in seconds."""

    base_url: str
    key: str
    model: str
    max_seconds: float = 120.0


@dataclass(frozen=True)
class Answer:
    """The answer's text, tokens as the server counted them (or estimated), and the seconds it took."""

    text: str
    tokens_in: int
    tokens_out: int
    counted: bool
    seconds: float


def complete(
    web: Web,
    server: Server,
    messages: Sequence[dict[str, str]],
    *,
    temperature: float = 0.4,
    max_tokens: int = 800,
    schema: dict[str, Any] | None = None,
    on_text: Callable[[str], None] | None = None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Answer:
    """Ask the model, streaming; `on_text` gets the answer so far. Raises `OutsideError`.

    An empty text, a stream that breaks off and an answer that is not of the protocol are errors worth a new try.
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
    began = time.monotonic()
    refused = _REFUSED.setdefault((server.base_url, server.model), set())
    while True:
        asked = {name: value for name, value in body.items() if name not in refused}
        left = [name for name in _SPARED if name in asked]
        try:
            text, usage = _ask(web, server, asked, on_text, cancelled)
            break
        except _NotUnderstood as error:
            # What a server of the protocol need not know is left out, and the server remembered by it.
            if not left:
                refused.clear()
                raise error.told from None
            refused.add(left[0])
    if not text.strip():
        raise OutsideError("The model gave an empty answer.", retryable=True)
    counted = isinstance(usage, dict) and isinstance(usage.get("prompt_tokens"), int)
    tokens_in = usage["prompt_tokens"] if counted else sum(len(m["content"]) for m in messages) // 4
    tokens_out = usage.get("completion_tokens", 0) if counted else len(text) // 4
    return Answer(text.strip(), tokens_in, tokens_out, counted, time.monotonic() - began)


# What is left out, first to last, where a server does not understand a request; and what each server has refused.
_SPARED = ("response_format", "stream_options")
_REFUSED: dict[tuple[str, str], set[str]] = {}


class _NotUnderstood(Exception):
    """The server refuses the request as such."""

    def __init__(self, told: OutsideError) -> None:
        super().__init__(str(told))
        self.told = told


def _ask(
    web: Web, server: Server, body: dict[str, Any], on_text: Callable[[str], None] | None, cancelled: Callable[[], bool]
) -> tuple[str, Any]:
    headers = {"Authorization": f"Bearer {server.key}"} if server.key else {}
    url = server.base_url.rstrip("/") + "/chat/completions"
    with web.stream(url, method="POST", json=body, headers=headers, max_seconds=server.max_seconds) as response:
        if response.status != 200:
            b"".join(limited(response, 100_000, 10))
            error = status_error(response, "The model’s server")
            if response.status in (400, 415, 422, 501):
                raise _NotUnderstood(error)
            raise error
        if "event-stream" in response.headers.get("content-type", ""):
            text, usage = _streamed(response, server, on_text, cancelled)
        else:
            text, usage = _whole(b"".join(limited(response, MAX_ANSWER_BYTES, server.max_seconds)))
            if on_text:
                on_text(text)
    return text, usage


def _whole(body: bytes) -> tuple[str, Any]:
    try:
        data = json.loads(body)
        return data["choices"][0]["message"]["content"] or "", data.get("usage")
    except (ValueError, LookupError, TypeError, RecursionError):
        raise OutsideError("The model’s server sent something that is not an answer.", retryable=True) from None


def _streamed(
    response: Answering, server: Server, on_text: Callable[[str], None] | None, cancelled: Callable[[], bool]
) -> tuple[str, Any]:
    text: list[str] = []
    usage: Any = None
    finished = False
    for data in _events(limited(response, MAX_ANSWER_BYTES, server.max_seconds)):
        if cancelled():
            raise OutsideError("Stopped.")
        if data == "[DONE]":
            finished = True
            break
        try:
            chunk = json.loads(data)
            choices = chunk.get("choices") or [{}]
            delta = (choices[0].get("delta") or {}).get("content") or ""
            finished = finished or bool(choices[0].get("finish_reason"))
            usage = chunk.get("usage") or usage
        except (ValueError, LookupError, TypeError, AttributeError, RecursionError):
            raise OutsideError("The model’s server sent something that is not an answer.", retryable=True) from None
        if delta:
            text.append(delta)
            if on_text:
                on_text("".join(text))
    if not finished:
        raise OutsideError("The model’s answer broke off half way.", retryable=True)
    return "".join(text), usage


def _events(pieces: Iterator[bytes]) -> Iterator[str]:
    """The data of server-sent events (WHATWG HTML, section 9.2)."""
    rest = b""
    for piece in pieces:
        rest += piece.replace(b"\r\n", b"\n")
        *lines, rest = rest.split(b"\n")
        for line in lines:
            if line.startswith(b"data:"):
                yield line[5:].decode("utf-8", errors="replace").strip()
