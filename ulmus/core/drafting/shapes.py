"""Answer shapes: what a model's answer must be, besides plain text.

A shape is a list of named fields, one of named choices, or a list. It becomes a JSON Schema (2020-12) for servers that
keep to one, and words in the prompt for those that do not; `conform` reads the answer either way, mends what can only be
meant one way, and says in words what does not fit.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field
from pydantic_core import from_json

from ..languages import LANGUAGES
from .answers import AnswerError, read_json
from .rules import PLAIN_ELEMENTS

MOST_FIELDS = 60
LONGEST_EXAMPLE = 200_000
FieldType = Literal["text", "number", "yes_no", "choice", "list", "any"]
Answer = Literal["text", "markdown", "html", "fields", "choice", "list"]
#: Answers that are a text and not values.
TEXTS = {
    "markdown": "Write Markdown (CommonMark) and nothing else.",
    "html": "Write HTML of these elements and nothing else: " + ", ".join(PLAIN_ELEMENTS) + ".",
}
_NAME = re.compile(r"[^\W\d]\w{0,39}\Z")
_JSON_TYPES: dict[str, FieldType] = {
    "string": "text",
    "number": "number",
    "integer": "number",
    "boolean": "yes_no",
    "array": "list",
}
NOT_STATED = frozenset(
    (
        *(
            "",
            "-",
            "–",
            "—",
            "null",
            "n/a",
            "na",
            "n.a",
            "not stated",
            "not available",
            "not specified",
            "not given",
            "not mentioned",
        ),
        *(
            "not provided",
            "nicht angegeben",
            "keine angabe",
            "k. a",
            "k.a",
            "non précisé",
            "non indiqué",
            "no especificado",
            "no consta",
        ),
        *("non specificato", "non indicato", "não informado", "não especificado", "niet vermeld"),
    )
)
"""What a model writes where its sources say nothing."""
_YES, _NO = {"yes", "true", "y", "1"}, {"no", "false", "n", "0"}


class ShapeField(BaseModel):
    """One named part of an answer."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(min_length=1, max_length=40, pattern=r"^[^\W\d]\w*$")
    type: FieldType = "text"
    about: str = Field("", max_length=500)
    required: bool = True
    choices: list[str] = Field(default_factory=list, max_length=60)


@dataclass(frozen=True)
class Shape:
    """What the answer must be. `fields` for *fields* and for the items of a *list*; `choices` (word, meaning) for *choice*."""

    answer: Answer
    fields: tuple[ShapeField, ...] = ()
    choices: tuple[tuple[str, str], ...] = ()


class ShapeError(ValueError):
    """A pasted example or schema that cannot be read; the words say why."""


def choices_of(text: str) -> tuple[tuple[str, str], ...]:
    """Choices written one on a line, each with its meaning after a colon."""
    found = []
    for line in text.splitlines():
        word, _, meaning = line.partition(":")
        if word.strip():
            found.append((word.strip()[:80], meaning.strip()))
    return tuple(found)


def schema_of(shape: Shape) -> dict[str, Any]:
    """The JSON Schema of the answer; always an object at its root, as servers of the protocol want it."""
    if shape.answer == "choice":
        words = [word for word, _ in shape.choices]
        parts = {"choice": {"type": "string", "enum": words}, "reason": {"type": "string"}}
        return _object(parts, ["choice", "reason"])
    if shape.answer == "list":
        item = _fields_schema(shape.fields) if shape.fields else {"type": "string"}
        return _object({"items": {"type": "array", "items": item}}, ["items"])
    return _fields_schema(shape.fields)


def demand_of(shape: Shape) -> str:
    """The shape in words, for the prompt."""
    lines: list[str]
    if shape.answer == "choice":
        lines = ["Answer with exactly one of these, and a reason of one sentence:"]
        lines += [f"- {word}: {meaning}" if meaning else f"- {word}" for word, meaning in shape.choices]
    elif shape.answer == "list" and not shape.fields:
        lines = ["Answer with a list of texts."]
    else:
        lines = ["Answer with a list; each item has these fields:" if shape.answer == "list" else "Answer with these fields:"]
        lines += [_told(field) for field in shape.fields]
        lines.append("What the material does not say is “not stated”; nothing is made up.")
    schema = json.dumps(schema_of(shape), ensure_ascii=False)
    return "\n".join([*lines, f"Write JSON of this schema and nothing else: {schema}"])


def conform(text: str, shape: Shape) -> dict[str, Any]:
    """The values in an answer. Raises `AnswerError` with everything that does not fit."""
    if shape.answer == "choice":
        return _choice(text, shape)
    found = read_json(text)
    if shape.answer == "list":
        return {"items": _items(found, shape)}
    wrong: list[str] = []
    values = _values(found, shape.fields, wrong, "")
    if wrong:
        raise AnswerError("; ".join(wrong[:8]))
    return values


def text_of(values: Mapping[str, Any], shape: Shape) -> str:
    """The answer as a text, for reading and for rules."""
    if shape.answer == "choice":
        return str(values["choice"])
    if shape.answer == "list":
        return "\n".join(_plain(item) for item in values["items"])
    return text_of_fields(values)


def text_of_fields(values: Mapping[str, Any]) -> str:
    """Fields as a text, one below the other, each with its name."""
    return "\n".join(f"{name}: {_plain(value)}" for name, value in values.items())


def read_back(text: str, shape: Shape) -> dict[str, Any]:
    """The values of an answer from the text `text_of` made of them, changed by a person. Raises `AnswerError` in words."""
    if shape.answer == "choice":
        return conform(text, shape)
    if shape.answer == "list":
        if shape.fields:
            raise AnswerError("a list of fields cannot be changed as one text; change each part in its place")
        return {"items": [line.strip() for line in text.splitlines() if line.strip()]}
    names = [field.name for field in shape.fields]
    found: dict[str, str] = {}
    name = ""
    for line in text.splitlines():
        begun = next((n for n in names if line.startswith(f"{n}:") and n not in found), "")
        if begun:
            name = begun
            found[name] = line.removeprefix(f"{name}:").strip()
        elif name:
            found[name] += f"\n{line}"
        elif line.strip():
            raise AnswerError(f"“{line.strip()[:60]}” belongs to no field; each begins with its name and a colon")
    values: dict[str, Any] = {n: value.strip() for n, value in found.items()}
    for field in shape.fields:
        if field.type == "list" and not re.search(r"[\n;]", values.get(field.name, "")):
            values[field.name] = [part.strip() for part in values.get(field.name, "").split(", ") if part.strip()]
    return conform(json.dumps(values), shape)


def so_far(text: str, shape: Shape) -> str:
    """What has come of an answer so far, for reading along: its values without the marks of JSON (RFC 8259). Empty where
    nothing can be read yet."""
    begun = re.search(r"[{\[]", text)
    if begun is None:
        return "" if shape.answer in ("fields", "list") else text
    try:
        found = from_json(text[begun.start() :], allow_partial="trailing-strings")
    except ValueError:
        # Whole, and then words after it.
        with suppress(AnswerError):
            return _lines(read_json(text), shape)
        return ""
    return _lines(found, shape)


def _lines(found: Any, shape: Shape) -> str:
    if isinstance(found, dict) and shape.answer == "choice":
        return str(found.get("choice", ""))
    if isinstance(found, dict) and shape.answer == "list":
        found = found.get("items", [])
    if isinstance(found, dict):
        return "\n".join(f"{name}: {_plain(value)}" for name, value in found.items())
    return "\n".join(_plain(item) for item in found) if isinstance(found, list) else _plain(found)


def given_by(shape: Shape) -> dict[str, Any]:
    """The outputs a shape adds, as a scope for the slot checker."""
    words = {"text": "text", "number": "number", "yes_no": "any", "choice": "text", "list": "list", "any": "any"}
    fields = {field.name: words[field.type] for field in shape.fields}
    if shape.answer == "choice":
        return {"choice": "text", "reason": "text"}
    if shape.answer == "list":
        return {"items": [fields] if fields else "list"}
    return fields if shape.answer == "fields" else {}


def shape_from(text: str) -> list[ShapeField]:
    """Fields from a pasted JSON Schema or from an example of the JSON wanted. Raises `ShapeError`."""
    if len(text) > LONGEST_EXAMPLE:
        raise ShapeError("This is too long for an example.")
    try:
        found = read_json(text)
    except AnswerError:
        raise ShapeError('This is no JSON. Paste an example such as {"title": "…", "price": 3}, or a JSON Schema.') from None
    if isinstance(found, list) and found and isinstance(found[0], dict):
        found = found[0]
    if not isinstance(found, dict):
        raise ShapeError("The example must be an object: names with values, between { and }.")
    properties = found.get("properties")
    if isinstance(properties, dict) and (found.get("type") == "object" or "$schema" in found):
        told = found.get("required")
        required = told if isinstance(told, list) else []
        fields = [_from_schema(name, part, name in required) for name, part in properties.items()]
    else:
        fields = [ShapeField(name=_name(name), type=_type_of(value)) for name, value in found.items()]
    if not fields:
        raise ShapeError("The example has no fields.")
    if len(fields) > MOST_FIELDS:
        raise ShapeError(f"At most {MOST_FIELDS} fields.")
    return list({field.name: field for field in fields}.values())


def _object(parts: dict[str, Any], required: list[str]) -> dict[str, Any]:
    return {"type": "object", "properties": parts, "required": required, "additionalProperties": False}


def _fields_schema(fields: Sequence[ShapeField]) -> dict[str, Any]:
    # Every name is required: servers that keep strictly to a schema want it so; what is free may be “not stated”.
    return _object({field.name: _field_schema(field) for field in fields}, [field.name for field in fields])


def _field_schema(field: ShapeField) -> dict[str, Any]:
    types: dict[FieldType, dict[str, Any]] = {
        "text": {"type": "string"},
        "number": {"type": "number"} if field.required else {"type": ["number", "null"]},
        "yes_no": {"type": "boolean"},
        "choice": {"type": "string", "enum": [*field.choices, *([] if field.required else ["not stated"])]},
        "list": {"type": "array", "items": {"type": "string"}},
        "any": {},
    }
    about = {"description": field.about} if field.about else {}
    return {**types[field.type], **about}


def _told(field: ShapeField) -> str:
    kinds = {"text": "text", "number": "a number", "yes_no": "true or false", "list": "a list of texts", "any": "anything"}
    kind = f"one of {', '.join(field.choices)}" if field.type == "choice" else kinds[field.type]
    return f"- {field.name} ({kind}{'' if field.required else ', if known'}){': ' + field.about if field.about else ''}"


def _choice(text: str, shape: Shape) -> dict[str, Any]:
    words = [word for word, _ in shape.choices]
    try:
        found = read_json(text)
        said = str(found.get("choice", "")) if isinstance(found, dict) else str(found)
        reason = str(found.get("reason", "")) if isinstance(found, dict) else ""
    except AnswerError:
        # A bare word with a reason after it is an answer too.
        said, _, reason = text.strip().partition("\n")
    plain = said.strip().strip("\"'“”*.").casefold()
    for word in words:
        if plain == word.casefold():
            return {"choice": word, "reason": reason.strip()}
    begun = [word for word in words if re.match(re.escape(word.casefold()) + r"\b", plain)]
    if len(begun) == 1:
        return {"choice": begun[0], "reason": reason.strip() or said.strip()}
    raise AnswerError(f"“{said.strip()[:60]}” is none of {', '.join(words)}")


def _items(found: Any, shape: Shape) -> list[Any]:
    if isinstance(found, dict):
        lists = [value for value in found.values() if isinstance(value, list)]
        found = found.get("items") if isinstance(found.get("items"), list) else lists[0] if len(lists) == 1 else found
    if not isinstance(found, list):
        raise AnswerError("it is no list")
    if not shape.fields:
        return [item if isinstance(item, str) else _plain(item) for item in found]
    wrong: list[str] = []
    items = [_values(item, shape.fields, wrong, f"item {n}: ") for n, item in enumerate(found, 1)]
    if wrong:
        raise AnswerError("; ".join(wrong[:8]))
    return items


def _values(found: Any, fields: Sequence[ShapeField], wrong: list[str], where: str) -> dict[str, Any]:
    if not isinstance(found, dict):
        wrong.append(f"{where}it is no object with fields")
        return {}
    known = {str(name).casefold(): value for name, value in found.items()}
    out: dict[str, Any] = {}
    for field in fields:
        value = known.get(field.name.casefold())
        chosen = field.type == "choice" and str(value).strip() in field.choices
        if isinstance(value, str) and not chosen and value.strip().casefold().strip(".") in NOT_STATED:
            value = "not stated" if value.strip() else ""
        if value is None or value == "" or (value == "not stated" and field.type in ("number", "list") and not field.required):
            if field.required:
                wrong.append(f"{where}“{field.name}” is missing; where nothing is known, say “not stated”")
            out[field.name] = [] if field.type == "list" else None if field.type == "number" else "not stated"
            continue
        try:
            out[field.name] = _fitted(value, field)
        except ValueError as error:
            wrong.append(f"{where}“{field.name}” {error}")
    return out


def _fitted(value: Any, field: ShapeField) -> Any:
    match field.type:
        case "number":
            if isinstance(value, bool):
                raise ValueError("is no number")
            if isinstance(value, int | float):
                return value
            if not field.required and str(value).strip().casefold() == "not stated":
                return None
            digits = re.fullmatch(r"\s*(-?\d(?:[ ,]{0,2}\d)*(?:\.\d+)?),?\s*\D{0,12}", str(value))
            number = float(digits.group(1).replace(",", "").replace(" ", "")) if digits else _in_words(str(value))
            if not math.isfinite(number):
                raise ValueError("is no number")
            return int(number) if number.is_integer() else number
        case "yes_no":
            if isinstance(value, bool):
                return value
            word = str(value).strip().casefold()
            if word not in _YES | _NO:
                raise ValueError("is neither true nor false")
            return word in _YES
        case "choice":
            for choice in [*field.choices, "not stated"]:
                if str(value).strip().strip("\"'“”.").casefold() == choice.casefold():
                    return choice
            raise ValueError(f"is none of {', '.join(field.choices)}")
        case "list":
            if isinstance(value, list):
                return value
            return [part.strip(" -*•\t") for part in re.split(r"[\n;]", str(value)) if part.strip(" -*•\t")]
        case "text":
            return value if isinstance(value, str) else _plain(value)
    return value


def _in_words(text: str) -> float:
    """A number written in words, in one of the languages known here; NaN where it is none."""
    from text_to_num import text2num  # loaded when it is needed

    for code in LANGUAGES:
        with suppress(ValueError):
            return float(text2num(text.strip().strip(".").casefold(), code))
    return math.nan


def _plain(value: Any) -> str:
    if isinstance(value, dict):
        return "; ".join(f"{name}: {_plain(one)}" for name, one in value.items())
    if isinstance(value, list):
        return ", ".join(map(_plain, value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)


def _from_schema(name: str, part: Any, required: bool) -> ShapeField:
    part = part if isinstance(part, dict) else {}
    kinds = part.get("type")
    kind = next((k for k in kinds if k != "null"), "") if isinstance(kinds, list) else str(kinds or "")
    choices = [str(one)[:80] for one in part.get("enum", []) if one is not None] if isinstance(part.get("enum"), list) else []
    about = str(part.get("description") or part.get("title") or "")[:500]
    found: FieldType = "choice" if choices else _JSON_TYPES.get(kind, "any")
    return ShapeField(name=_name(name), type=found, about=about, required=required, choices=choices[:60])


def _type_of(value: Any) -> FieldType:
    if isinstance(value, bool):
        return "yes_no"
    if isinstance(value, int | float):
        return "number"
    return "list" if isinstance(value, list) else "any" if isinstance(value, dict) else "text"


def _name(name: Any) -> str:
    """A name slots can use, made from any."""
    if isinstance(name, str) and _NAME.match(name):
        return name
    plain = re.sub(r"\W+", "_", str(name)).strip("_")[:40]
    plain = plain if plain and not plain[0].isdigit() else f"field_{plain}"[:40]
    return plain if _NAME.match(plain) else "field"
