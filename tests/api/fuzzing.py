"""Calls made up from the OpenAPI document: every operation, with values that fit, that nearly fit, and that do not."""

from __future__ import annotations

import io
import json
import random
from typing import Any

from flask import Flask

from tests.api.visitor import Visitor

NASTY = (
    None, True, False, 0, -1, 1, 2**31, 2**63, -(2**70), 1e308, 0.1, "", " ", "x", "\x00", "ünï¢ødé 🫛", "../../etc/passwd", "' OR 1=1 --",
    "<script>alert(1)</script>", "<<feed.title>>", "<<", "{{x}}", "%00", "\ud83d".encode("utf-16", "surrogatepass").decode("utf-16", "replace"),
    "a" * 3000, [], {}, [[[[]]]], {"a": {"b": {"c": []}}}, ["x"] * 50, {"": ""}, "http://127.0.0.1:1/", "2026-02-30", "1,2,3", "NaN", "-0", "1e999",
)  # fmt: skip
FILES = (b"", b"A,B\n1,2\n", b"PK\x03\x04" + b"x" * 100, b"\xff\xfe\x00", b"{}", b"," * 5000, b"%PDF-1.4", b"<opml/>")
UNTRIED = {("GET", "/api/events"), ("DELETE", "/api/session"), ("DELETE", "/api/session/everywhere")}


class Fuzz:
    """Calls, one after another; `seed` decides them all. `known` are values that exist, by the names of parameters."""

    def __init__(self, app: Flask, seed: int, known: dict[str, list[Any]]) -> None:
        self.app = app
        self.random = random.Random(seed)
        self.known = known
        self.answered = b""
        self.document: dict[str, Any] = app.api_doc  # type: ignore[attr-defined]
        self.operations = sorted(
            (method.upper(), path)
            for path, methods in self.document["paths"].items()
            for method in methods
            if (method.upper(), path) not in UNTRIED
        )

    def call(self, visitor: Visitor, one: tuple[str, str] | None = None) -> tuple[str, str, Any, int, str]:
        """One call, of an operation or of any: method, path, what was sent, and what came back."""
        method, path = one or self.random.choice(self.operations)
        operation = self.document["paths"][path][method.lower()]
        query, place = {}, path
        for parameter in operation.get("parameters", []):
            value = self.value(parameter.get("schema", {}), parameter["name"])
            if parameter["in"] == "path":
                place = place.replace("{" + parameter["name"] + "}", _text(value).replace("/", "%2F") or "x")
            elif self.random.random() < 0.6:
                query[parameter["name"]] = _text(value)
        content = operation.get("requestBody", {}).get("content", {})
        more: dict[str, Any] = {}
        if "application/json" in content:
            body = self.value(content["application/json"]["schema"], "")
            more = {"data": json.dumps(body), "content_type": "application/json"}
            if self.random.random() < 0.05:
                more["data"] = self.random.choice(("", "{", "null", "[]", '{"a":' * 500, '"\\ud83d"', "\xff"))
        elif content:
            [(kind, told)] = list(content.items())[:1]
            fields = self.value(told.get("schema", {}), "")
            given: dict[str, Any] = {k: _text(v) for k, v in fields.items()} if isinstance(fields, dict) else {}
            if self.random.random() < 0.7:
                given["file"] = (io.BytesIO(self.random.choice(FILES)), self.random.choice(("a.csv", "a.xlsx", "ü.txt", "")))
            more = {"data": given, "content_type": kind}
        headers = {"X-CSRF-Token": visitor.csrf if self.random.random() < 0.97 else "ü"}
        answer = visitor.client.open(place, method=method, query_string=query, headers=headers, **more)
        self.answered = answer.get_data()
        told = (method, place, more.get("data") or query, answer.status_code, repr(self.answered[:300]))
        answer.close()
        return told

    def value(self, schema: dict[str, Any], name: str, depth: int = 0) -> Any:
        """A value for a schema, mostly one that fits."""
        chance = self.random.random()
        if name in self.known and chance < 0.7:
            return self.random.choice(self.known[name])
        if chance < 0.12 or depth > 6:
            return self.random.choice(NASTY)
        if "$ref" in schema:
            found: Any = self.document
            for part in schema["$ref"].removeprefix("#/").split("/"):
                found = found[part]
            return self.value(found, name, depth + 1)
        for way in ("anyOf", "oneOf", "allOf"):
            if schema.get(way):
                return self.value(self.random.choice(schema[way]), name, depth + 1)
        if "enum" in schema:
            return self.random.choice(schema["enum"])
        if "const" in schema:
            return schema["const"]
        kind = schema.get("type", "any")
        if kind == "object":
            return self._object(schema, depth)
        if kind == "array":
            return [self.value(schema.get("items", {}), name, depth + 1) for _ in range(self.random.randint(0, 3))]
        if kind in ("integer", "number"):
            return self.random.choice((0, 1, 2, 3, 7, 50, schema.get("maximum", 10), schema.get("minimum", 0)))
        if kind == "boolean":
            return self.random.random() < 0.5
        if kind == "string":
            return self.random.choice(("x", "log", "post", "Some words of text.", "2026-01-01", *self.known.get("texts", [])))
        return self.random.choice(NASTY)

    def _object(self, schema: dict[str, Any], depth: int) -> dict[str, Any]:
        needed = set(schema.get("required", []))
        out = {
            name: self.value(inner, name, depth + 1)
            for name, inner in schema.get("properties", {}).items()
            if name in needed or self.random.random() < 0.6
        }
        if isinstance(schema.get("additionalProperties"), dict):
            out |= {key: self.value(schema["additionalProperties"], "", depth + 1) for key in ("text", "url", "prompt")}
        if self.random.random() < 0.03:
            out["surprise"] = 1
        return out


def _text(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value)
