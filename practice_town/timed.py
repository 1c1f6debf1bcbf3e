"""Answers that take a stated time and nothing else, for measuring: a page after 50 ms, a model after 300 ms."""

from __future__ import annotations

import time

from flask import Blueprint, jsonify, request

bp = Blueprint("timed", __name__, url_prefix="/timed")
PAGE = (
    "<!doctype html><html><head><title>Page {n}</title></head><body><article><h1>Page {n}</h1>"
    + "<p>The seed was sown on the terraces in March and stood two dry summers without water. It gave a full crop.</p>" * 4
    + "</article></body></html>"
)


@bp.get("/page/<int:n>")
def page(n: int) -> str:
    time.sleep(int(request.args.get("ms", "50")) / 1000)
    return PAGE.format(n=n)


@bp.post("/v1/chat/completions")
def model() -> object:
    request.get_data()
    time.sleep(0.3)
    message = {"role": "assistant", "content": "A bean that stood two dry summers."}
    usage = {"prompt_tokens": 80, "completion_tokens": 9, "total_tokens": 89}
    return jsonify({"choices": [{"index": 0, "message": message, "finish_reason": "stop"}], "usage": usage})
