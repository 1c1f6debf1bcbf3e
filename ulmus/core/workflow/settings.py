"""Settings read from what a page holds: strictly, with words on what is wrong; or as far as they can be read."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from types import NoneType
from typing import Annotated, Any, TypeVar, get_origin

from pydantic import BaseModel, TypeAdapter, ValidationError
from pydantic.fields import FieldInfo

S = TypeVar("S", bound=BaseModel)


def read_settings(model: type[S], settings: Mapping[str, Any]) -> tuple[S | None, list[tuple[str, str]]]:
    """`settings` as `model`, or ``None`` and what is wrong as (field, words)."""
    try:
        return model.model_validate(settings), []
    except ValidationError as error:
        return None, [(str(e["loc"][0]) if e["loc"] else "", plain_words(e["type"], e)) for e in error.errors()]


def read_as_far_as(model: type[S], settings: Mapping[str, Any]) -> S:
    """`settings` as `model`, with what cannot be read left at its default, or blank. For what is shown and checked; a line is
    never carried out with these."""
    try:
        return model.model_validate(settings)
    except ValidationError:
        pass
    values: dict[str, Any] = {}
    for name, field in model.model_fields.items():
        values[name] = _blank(field) if field.is_required() else field.get_default(call_default_factory=True)
        if name in settings:
            try:
                values[name] = _adapter(model, name).validate_python(settings[name])
            except ValidationError:
                continue
    return model.model_construct(**values)


@cache
def _adapter(model: type[BaseModel], name: str) -> TypeAdapter[Any]:
    field = model.model_fields[name]
    read_as: Any = Annotated[(field.annotation, *field.metadata)] if field.metadata else field.annotation
    return TypeAdapter(read_as)


def _blank(field: FieldInfo) -> Any:
    kind = get_origin(field.annotation) or field.annotation
    return kind() if isinstance(kind, type) and kind is not NoneType and issubclass(kind, str | list | dict | int | float) else None


def plain_words(kind: str, error: Any) -> str:
    """An error of Pydantic's in words a maker understands."""
    context = error.get("ctx") or {}
    words = {
        "missing": "Missing; it must be filled in.",
        "extra_forbidden": "Unknown here; remove it or check the spelling.",
        "string_too_short": "Empty; it must be filled in.",
        "string_too_long": f"Too long; at most {context.get('max_length')} characters.",
        "greater_than_equal": f"Too small; at least {context.get('ge')}.",
        "less_than_equal": f"Too large; at most {context.get('le')}.",
        "string_pattern_mismatch": "Only small letters, digits and _ are allowed, starting with a letter.",
        "literal_error": f"Must be {context.get('expected')}.",
        "too_long": f"Too many; at most {context.get('max_length')}.",
    }
    if kind in words:
        return words[kind]
    if kind == "value_error":
        text = str(context.get("error", ""))
        return text[:1].upper() + text[1:] + "."
    if kind.endswith(("_type", "_parsing")):
        return f"Should be {_TYPE_WORDS.get(kind.rsplit('_', 1)[0], 'something else')}."
    return str(error["msg"]) + "."


_TYPE_WORDS = {
    "string": "a text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "list": "a list",
    "dict": "an object",
    "model": "an object",
}
