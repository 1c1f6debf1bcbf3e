"""What a kind of line declares about itself: stage, sentence, settings, outputs.

Kinds are declared in `ulmus.steps`; the core only reads the declaration. Settings and outputs are
Pydantic models. A setting's control stands in its JSON Schema under ``control``:

``slots`` one line of text with slots · ``longslots`` a text with slots · ``connection`` a connection's
key (``needs`` says of which kind) · ``sheet`` a sheet's key · ``cells`` a mapping from column to text
with slots · ``rules`` a list of rules · ``step`` the name of an earlier step (``needs`` says of which kind).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel
from pydantic.fields import FieldInfo

Stage = Literal["start", "gather", "draft", "ask", "publish", "record"]
Manner = Literal["start", "perform", "ask", "send", "write"]


@dataclass(frozen=True)
class KindSpec:
    """The declaration of one kind. `manner` tells the interpreter how it is carried out."""

    name: str
    stage: Stage
    manner: Manner
    title: str
    about: str
    sentence: str
    settings: type[BaseModel]
    output: type[BaseModel]

    def scope(self) -> dict[str, Any]:
        """The outputs as a scope for the slot checker: name → type's word."""
        return {name: type_word(field) for name, field in self.output.model_fields.items()}


Kinds = Mapping[str, KindSpec]


def type_word(field: FieldInfo) -> str:
    """The word for a field's type in the scope: text, number, list or any."""
    text = str(field.annotation)
    if "list" in text:
        return "list"
    if "dict" in text or "Any" in text:
        return "any"
    if "int" in text or "float" in text:
        return "number"
    return "text"


def field_control(field: FieldInfo) -> Mapping[str, Any]:
    """What a settings field says about its control; empty for a plain one."""
    extra = field.json_schema_extra
    return extra if isinstance(extra, dict) else {}


def templates_of(spec: KindSpec, settings: Mapping[str, Any]) -> Iterator[tuple[tuple[str, ...], str]]:
    """Every text with slots in raw `settings`, with its place, e.g. ``(("cells", "Link"), "<<feed.link>>")``."""
    for name, field in spec.settings.model_fields.items():
        value = settings.get(name, field.default)
        control = field_control(field).get("control")
        if control in ("slots", "longslots") and isinstance(value, str):
            yield (name,), value
        elif control == "cells" and isinstance(value, dict):
            for column, text in value.items():
                if isinstance(text, str):
                    yield (name, column), text
        elif control == "rules" and isinstance(value, list):
            for i, rule in enumerate(value):
                text = rule.get("text") if isinstance(rule, dict) else getattr(rule, "text", None)
                if isinstance(text, str):
                    yield (name, str(i), "text"), text


def map_templates(spec: KindSpec, settings: BaseModel, change: Callable[[str, str], str]) -> BaseModel:
    """`settings` with every text with slots replaced by ``change(field name, text)``."""
    updates: dict[str, Any] = {}
    for name, field in spec.settings.model_fields.items():
        value = getattr(settings, name)
        control = field_control(field).get("control")
        if control in ("slots", "longslots") and isinstance(value, str):
            updates[name] = change(name, value)
        elif control == "cells":
            updates[name] = {column: change(name, text) for column, text in value.items()}
        elif control == "rules":
            updates[name] = [
                r.model_copy(update={"text": change(name, r.text)}) if isinstance(getattr(r, "text", None), str) else r
                for r in value
            ]
    return settings.model_copy(update=updates)
