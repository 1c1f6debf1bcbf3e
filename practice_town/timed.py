"""Answers that take a stated time and next to nothing else, for measuring: a page and a record after 50 ms, a model after 300 ms.

A WSGI application of its own: what is measured with it shares the machine with it.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterable
from typing import Any
from urllib.parse import parse_qs

PAGE = (
    "<!doctype html><html><head><title>Page {n}</title></head><body><article><h1>Page {n}</h1>"
    + "<p>The seed was sown on the terraces in March and stood two dry summers without water. It gave a full crop.</p>" * 4
    + "</article></body></html>"
)
MESSAGE = {"role": "assistant", "content": "A bean that stood two dry summers."}
USAGE = {"prompt_tokens": 80, "completion_tokens": 9, "total_tokens": 89}
ANSWER = json.dumps({"choices": [{"index": 0, "message": MESSAGE, "finish_reason": "stop"}], "usage": USAGE}).encode()


def application(environ: dict[str, Any], respond: Any) -> Iterable[bytes]:
    """``/page/N`` and ``/record/N`` (``?ms=`` for another time than 50), and ``/v1/chat/completions``."""
    kind, _, name = environ["PATH_INFO"].strip("/").partition("/")
    if kind == "v1":
        environ["wsgi.input"].read(int(environ.get("CONTENT_LENGTH") or 0))
        time.sleep(0.3)
        body, media = ANSWER, "application/json"
    elif kind in ("page", "record"):
        asked = parse_qs(environ.get("QUERY_STRING", "")).get("ms", ["50"])[0]
        time.sleep((int(asked) if asked.isdigit() else 50) / 1000)
        body, media = PAGE.format(n=name).encode(), "text/html; charset=utf-8"
        if kind == "record":
            body, media = json.dumps({"n": name, "text": "The seed stood two dry summers. " * 8}).encode(), "application/json"
    else:
        respond("404 Not Found", [("Content-Length", "0")])
        return [b""]
    respond("200 OK", [("Content-Type", media), ("Content-Length", str(len(body)))])
    return [body]
