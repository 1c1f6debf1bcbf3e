"""The practice model behind the chat-completions JSON protocol: whole or streamed answers, usage, JSON Schema."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Iterator
from typing import Any

from flask import Blueprint, Response, jsonify, request

from . import faults, model
from .sites import state

bp = Blueprint("model", __name__, url_prefix="/model/v1")
NAME = "practice-1"


@bp.get("/models")
def models() -> Response:
    return jsonify({"object": "list", "data": [{"id": NAME, "object": "model"}]})


@bp.post("/chat/completions")
def complete() -> Response:
    mode = state().fault("model")
    early = faults.common(mode)
    if early is not None:
        return early
    if mode == "garbage":
        return Response("<!doctype html><p>Gateway says hello</p>", mimetype="text/html")
    body = request.get_json(silent=True)
    if not isinstance(body, dict) or not isinstance(body.get("messages"), list) or not body["messages"]:
        response = jsonify({"error": {"message": "messages are missing", "type": "invalid_request_error"}})
        response.status_code = 400
        return response
    if mode == "bare" and (body.get("response_format") or body.get("stream_options")):
        response = jsonify({"error": {"message": "unknown field in the request", "type": "invalid_request_error"}})
        response.status_code = 400
        return response
    messages = [{"role": str(m.get("role")), "content": str(m.get("content") or "")} for m in body["messages"]]
    schema = ((body.get("response_format") or {}).get("json_schema") or {}).get("schema")
    text = "" if mode == "empty" else model.answer(messages, state().habits, schema)
    tokens_out = len(text) // 4 + 1
    limit = body.get("max_tokens")
    reason = "stop"
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
