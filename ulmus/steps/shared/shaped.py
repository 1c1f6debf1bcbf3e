"""What settings with an answer shape have in common: the shape itself, the values it gives, and what is wrong with it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any, Protocol

from pydantic import TypeAdapter, ValidationError

from ...core.drafting.shapes import TEXTS, Answer, Shape, ShapeField, choices_of, given_by

_FIELDS: TypeAdapter[list[ShapeField]] = TypeAdapter(list[ShapeField])


class Shaped(Protocol):
    """Settings that say what the answer is."""

    @property
    def answer(self) -> Answer: ...

    @property
    def fields(self) -> list[ShapeField]: ...

    @property
    def choices(self) -> str: ...


def shape_of(settings: Shaped) -> Shape | None:
    """The shape the answer must have; ``None`` for a text."""
    if settings.answer == "text" or settings.answer in TEXTS:
        return None
    return Shape(settings.answer, tuple(settings.fields), choices_of(settings.choices))


def gives(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The values an answer of these raw settings adds to its text."""
    answer = settings.get("answer", "text")
    if answer in TEXTS:
        return {"html": "text"}
    try:
        fields = _FIELDS.validate_python(settings.get("fields", []))
    except ValidationError:
        return {}
    known = answer in ("fields", "choice", "list")
    return given_by(Shape(answer, tuple(fields), choices_of(str(settings.get("choices", ""))))) if known else {}


def faults(settings: Shaped, own: Collection[str]) -> list[tuple[str, str]]:
    """What is missing from a shape; `own` are the outputs the line has anyway."""
    if settings.answer == "fields" and not settings.fields:
        return [("fields", "Say what the answer is made of, or paste an example.")]
    if settings.answer == "choice" and len(choices_of(settings.choices)) < 2:
        return [("choices", "Write at least two choices, one on each line.")]
    names = [field.name for field in settings.fields]
    doubled = next((name for name in names if names.count(name) > 1), None)
    if doubled:
        return [("fields", f"Two fields are called “{doubled}”.")]
    taken = next((name for name in names if name in own), None) if settings.answer == "fields" else None
    return [("fields", f"“{taken}” is the line’s own; call the field something else.")] if taken else []
