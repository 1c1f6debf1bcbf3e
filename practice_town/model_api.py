"""The practice model behind the chat-completions JSON protocol: whole or streamed answers, usage, JSON Schema, tools."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Iterator
from typing import Any

from flask import Blueprint, Response, jsonify, request

from . import faults, meanings, model
from .sites import state

bp = Blueprint("model", __name__, url_prefix="/model/v1")
NAME = "practice-1"


@bp.get("/models")
def models() -> Response:
    return jsonify({"object": "list", "data": [{"id": NAME, "object": "model"}]})


@bp.post("/chat/completions")
def complete() -> Response:
    mode = state().fault("model")
    if early := _astray(mode):
        return early
    body = request.get_json(silent=True)
    if not isinstance(body, dict) or not isinstance(body.get("messages"), list) or not body["messages"]:
        response = jsonify({"error": {"message": "messages are missing", "type": "invalid_request_error"}})
        response.status_code = 400
        return response
    messages = [{**m, "role": str(m.get("role")), "content": str(m.get("content") or "")} for m in body["messages"]]
    tools = [one["function"] for one in body.get("tools") or []]
    if refused := _not_understood(mode, body, messages):
        response = jsonify({"error": {"message": refused, "type": "invalid_request_error"}})
        response.status_code = 400
        return response
    schema = ((body.get("response_format") or {}).get("json_schema") or {}).get("schema")
    use = model.use(messages, tools) if tools else None
    text = "" if mode == "empty" or use else _said(mode, model.answer(messages, state().habits, schema))
    if use:
        return _call(use, messages, bool(body.get("stream")) and mode != "plain")
    tokens_out = len(text) // 4 + 1
    limit = body.get("max_tokens")
    reason = "length" if mode == "cut" else "stop"
    if isinstance(limit, int) and tokens_out > limit:
        text, tokens_out, reason = text[: limit * 4], limit, "length"
    usage = {"prompt_tokens": sum(len(m["content"]) for m in messages) // 4 + 4, "completion_tokens": tokens_out}
    usage["total_tokens"] = sum(usage.values())
    if body.get("stream") and mode != "plain":
        return Response(
            _stream(text, reason, usage, mode == "half", state().habits.get("pace", 0) / 1000), mimetype="text/event-stream"
        )
    answer: dict[str, Any] = {"choices": [{"index": 0, "message": {"role": "assistant", "content": text}, "finish_reason": reason}]}
    return jsonify({"object": "chat.completion", "model": NAME, **answer, **({} if mode == "plain" else {"usage": usage})})


def _astray(mode: str) -> Response | None:
    """What a server in trouble answers to anything."""
    if mode == "garbage":
        return Response("<!doctype html><p>Gateway says hello</p>", mimetype="text/html")
    return faults.common(mode)


@bp.post("/embeddings")
def embed() -> Response:
    mode = state().fault("model")
    if early := _astray(mode):
        return early
    body = request.get_json(silent=True)
    texts = body.get("input") if isinstance(body, dict) else None
    texts = [texts] if isinstance(texts, str) else texts
    if mode in ("bare", "plain") or not isinstance(texts, list) or not texts:
        response = jsonify({"error": {"message": "no such thing here", "type": "invalid_request_error"}})
        response.status_code = 404 if mode in ("bare", "plain") else 400
        return response
    data = [{"object": "embedding", "index": n, "embedding": meanings.vector(str(text))} for n, text in enumerate(texts)]
    used = sum(len(str(text)) for text in texts) // 4 + 1
    return jsonify({"object": "list", "model": NAME, "data": data, "usage": {"prompt_tokens": used, "total_tokens": used}})


def _not_understood(mode: str, body: dict[str, Any], messages: list[dict[str, Any]]) -> str:
    """What a server of a narrower mind says to a request; empty where it takes it."""
    if mode == "bare" and (body.get("response_format") or body.get("stream_options")):
        return "unknown field in the request"
    if mode == "notools" and (body.get("tools") or any(m["role"] == "tool" for m in messages)):
        return "unknown field in the request: tools"
    if mode == "nosystem" and any(m["role"] == "system" for m in messages):
        return "the role system is not supported"
    if mode == "short" and sum(len(m["content"]) for m in messages) // 4 > 1000:
        return "This model's maximum context length is 1000 tokens."
    return ""


def _said(mode: str, text: str) -> str:
    if mode == "refusal":
        return "I'm sorry, but I can't help with that request."
    if mode == "loop":
        return ("The harvest is in and the harvest is good. " * 60).strip()
    return text[: len(text) // 3] if mode == "cut" else text


def _call(use: dict[str, Any], messages: list[dict[str, Any]], stream: bool) -> Response:
    """The use of a tool as an answer of the protocol."""
    arguments = json.dumps(use["arguments"], ensure_ascii=False)
    call = {"id": f"call_{len(messages)}", "type": "function", "function": {"name": use["name"], "arguments": arguments}}
    said = f"Next I use {use['name']}."
    usage = {"prompt_tokens": sum(len(m["content"]) for m in messages) // 4 + 4, "completion_tokens": len(arguments) // 4 + 12}
    usage["total_tokens"] = sum(usage.values())
    if not stream:
        message = {"role": "assistant", "content": said, "tool_calls": [call]}
        choices = [{"index": 0, "message": message, "finish_reason": "tool_calls"}]
        return jsonify({"object": "chat.completion", "model": NAME, "choices": choices, "usage": usage})

    def parts() -> Iterator[str]:
        yield _event({"choices": [{"index": 0, "delta": {"content": said}, "finish_reason": None}]})
        begun = {"index": 0, **call, "function": {"name": use["name"], "arguments": ""}}
        yield _event({"choices": [{"index": 0, "delta": {"tool_calls": [begun]}, "finish_reason": None}]})
        for n in range(0, len(arguments), 20):
            more = {"index": 0, "function": {"arguments": arguments[n : n + 20]}}
            yield _event({"choices": [{"index": 0, "delta": {"tool_calls": [more]}, "finish_reason": None}]})
        yield _event({"choices": [{"index": 0, "delta": {}, "finish_reason": "tool_calls"}]})
        yield _event({"choices": [], "usage": usage})
        yield "data: [DONE]\n\n"

    return Response(parts(), mimetype="text/event-stream")


def _stream(text: str, reason: str, usage: dict[str, int], half: bool, pause: float) -> Iterator[str]:
    words = re.findall(r"\s*\S+", text) or [text]
    for word in words[: len(words) // 2] if half else words:
        yield _event({"choices": [{"index": 0, "delta": {"content": word}, "finish_reason": None}]})
        time.sleep(pause)
    if half:
        return
    yield _event({"choices": [{"index": 0, "delta": {}, "finish_reason": reason}]})
    yield _event({"choices": [], "usage": usage})
    yield "data: [DONE]\n\n"


def _event(data: dict[str, Any]) -> str:
    return f"data: {json.dumps({'object': 'chat.completion.chunk', 'model': NAME, **data}, ensure_ascii=False)}\n\n"
