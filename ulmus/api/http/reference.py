"""A page to read the OpenAPI document: every operation by its resource, with what it takes and gives. Made of plain HTML, without scripts."""

from __future__ import annotations

from html import escape
from typing import Any

from flask import Response, current_app

STYLE = """
body{font:16px/1.5 Georgia,serif;max-width:60rem;margin:2rem auto;padding:0 1.5rem;background:#f8f4eb;color:#25221b}
h1,h2{font-weight:normal;border-bottom:1px solid #b9ae97}code,pre,td{font-family:ui-monospace,monospace;font-size:.86rem}
summary{cursor:pointer}summary code{color:#386630}details{margin:.3rem 0}table{border-collapse:collapse;margin:.4rem 0 .8rem}
td{padding:.1rem 1rem .1rem 0;vertical-align:top;border-top:1px solid #e0d8c6}.soft{color:#655e4e}a{color:#386630}
@media(prefers-color-scheme:dark){body{background:#1b1a17;color:#ebe5d6}summary code,a{color:#94c47e}td{border-color:#38352c}.soft{color:#a9a08c}}
"""


def page() -> Response:
    """The reference of this house's own API."""
    app: Any = current_app
    return Response(render(app.api_doc), mimetype="text/html")


def render(document: dict[str, Any]) -> str:
    """An OpenAPI 3.1 document as one page."""
    groups: dict[str, list[str]] = {}
    for path, operations in sorted(document["paths"].items()):
        for method, operation in operations.items():
            for tag in operation.get("tags") or ["other"]:
                groups.setdefault(tag, []).append(_operation(document, path, method, operation))
    title = f"{escape(document['info']['title'])} {escape(document['info']['version'])}"
    contents = " · ".join(f'<a href="#{escape(tag)}">{escape(tag)}</a>' for tag in sorted(groups))
    parts = "".join(f'<h2 id="{escape(tag)}">{escape(tag)}</h2>{"".join(groups[tag])}' for tag in sorted(groups))
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f"<title>{title}: the API</title><style>{STYLE}</style><h1>{title}: the API</h1>"
        f'<p class="soft">Signed in by a cookie (POST /api/session); whatever changes something needs the header X-CSRF-Token with the token '
        f'that came with it. The document itself: <a href="openapi.json">openapi.json</a> (OpenAPI {escape(document["openapi"])}).</p>'
        f"<p>{contents}</p>{parts}</html>"
    )


def _operation(document: dict[str, Any], path: str, method: str, operation: dict[str, Any]) -> str:
    said = operation.get("summary") or operation.get("description") or ""
    rows = [
        (f"{p['name']}", f"{p['in']}{'' if p.get('required') else ', may be left out'}", _type(p.get("schema", {})))
        for p in operation.get("parameters", [])
    ]
    for media, content in operation.get("requestBody", {}).get("content", {}).items():
        rows += [(name, media, kind) for name, kind in _fields(document, content.get("schema", {}))]
    answers = []
    for status, answer in operation.get("responses", {}).items():
        for content in answer.get("content", {}).values():
            fields = ", ".join(f"{name}: {kind}" for name, kind in _fields(document, content.get("schema", {})))
            answers.append((str(status), _type(content.get("schema", {})), fields))
    return (
        f"<details><summary><code>{method.upper()} {escape(path)}</code> {escape(said)}</summary>"
        f"{_table('Takes', rows)}{_table('Gives', answers)}</details>"
    )


def _table(title: str, rows: list[tuple[str, str, str]]) -> str:
    if not rows:
        return ""
    cells = "".join("<tr>" + "".join(f"<td>{escape(cell)}</td>" for cell in row) + "</tr>" for row in rows)
    return f'<p class="soft">{title}</p><table>{cells}</table>'


def _fields(document: dict[str, Any], schema: dict[str, Any]) -> list[tuple[str, str]]:
    name = schema.get("$ref", "").rpartition("/")[2]
    of = document["components"]["schemas"].get(name, schema)
    return [(field, _type(one)) for field, one in of.get("properties", {}).items()]


def _type(schema: dict[str, Any]) -> str:
    if name := schema.get("$ref", "").rpartition("/")[2]:
        return str(name)
    if several := schema.get("anyOf") or schema.get("allOf"):
        return " or ".join(_type(one) for one in several)
    if schema.get("type") == "array":
        return f"list of {_type(schema.get('items', {}))}"
    return str(schema.get("type", "any"))
