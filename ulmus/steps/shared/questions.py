"""Questions to a data service, as lines put them together."""

from __future__ import annotations

import json
from typing import Any

from ...core.slots import parse, render
from ...protocols import services
from ...protocols.errors import Misconfigured
from ..api import Context
from ..connections.service import service_headers


def question_of(
    key: str,
    path: str,
    method: str,
    query: dict[str, str],
    body: str,
    form: bool,
    headers: dict[str, str],
    seconds: float,
    context: Context,
) -> services.Question:
    """The question to the service called `key`. Raises `OutsideError` where its body is no JSON."""
    connection = context.connect(key, "service")
    base = connection.settings.base_url
    path = path.strip()
    url = base if not path else path if path.startswith(("http://", "https://")) else base.rstrip("/") + "/" + path.lstrip("/")
    sent = {**(service_headers(connection) if services.same_host(url, base) else {}), **headers}
    return services.Question(url, method, sent, query, _body(body, form, context) if method != "GET" else None, form, seconds)


def _body(text: str, form: bool, context: Context) -> Any:
    """A body written as JSON, its slots filled in as JSON."""
    if not text.strip():
        return {}
    rendered = render(parse(text), context.values, "json").text
    try:
        found = json.loads(rendered)
    except ValueError as error:
        raise Misconfigured(f"The body is no JSON: {error}. A slot stands without quotation marks of its own.") from None
    if form and not isinstance(found, dict):
        raise Misconfigured("The body of a form must be names with values.")
    return found
