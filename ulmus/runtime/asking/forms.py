"""Questions that are answered by choosing, filling in, or with yes or no: what is offered, and reading the answer."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from ...core import assent
from ...core.slots import items_of, parse, render, value_in
from ...core.slots.filters import as_text
from ...core.workflow.plans import AskPlan
from ...protocols.errors import NothingToDo
from ...steps.shared.fields import FormField, read_fields
from .words import AnswerRefused

MOST = 50
LONGEST = 20_000
_NUMBER = re.compile(r"(?:nr\.?|no\.|number|#)?\s*(\d{1,2})\s*(?:[.,:;)!–-]\s*(.*))?", re.IGNORECASE)
"""A number alone, or parted by a mark from what follows: “2 of these are wrong” chooses nothing."""
_YES_NO = re.compile(r"\s*(yes|no|ja|nein|oui|non|s[ií]|sim|n[aã]o|nee)\b[\s,.;:–—-]*(.*)", re.IGNORECASE | re.DOTALL)
_YES = ("yes", "ja", "oui", "si", "sí", "sim")


def asked(plan: AskPlan, values: Mapping[str, Any]) -> dict[str, Any]:
    """What an answer is made of, as plain values: nothing where it is given in words. Raises `NothingToDo` where there is nothing to
    choose from."""
    match plan.answer:
        case "choose":
            return {"form": "choose", "options": _options(plan, values)}
        case "fill":
            return {"form": "fill", "fields": [field.model_dump(mode="json") for field in plan.fields]}
        case "yes_no":
            return {"form": "yes_no"}
        case _:
            return {}


def _options(plan: AskPlan, values: Mapping[str, Any]) -> list[dict[str, Any]]:
    options: list[tuple[str, str, Any]] = [
        (name, render(parse(text), values).text.strip(), None) for name, text in plan.among.items()
    ]
    if plan.listed.strip():
        for n, item in enumerate(items_of(value_in(plan.listed, values))[:MOST], 1):
            named = item.get("title") or item.get("name") if isinstance(item, Mapping) else ""
            body = item.get("text") or item.get("summary") or item.get("link") if isinstance(item, Mapping) else ""
            options.append((_called(named) or str(n), str(body) if body else _told(item), item))
    out = [
        {"name": name[:200], "text": text[:LONGEST]} | ({"item": item} if item and len(as_text(item)) <= LONGEST else {})
        for name, text, item in options
        if text
    ]
    if not out:
        raise NothingToDo("There is nothing to choose from: all of it is empty.")
    return out[:MOST]


def _called(name: Any) -> str:
    """A name as one says it, which may be given in its parts."""
    return " ".join(str(part) for part in name.values() if part) if isinstance(name, Mapping) else str(name or "")


def _told(item: Any) -> str:
    """An element as a person reads it: a line for each of its values."""
    if not isinstance(item, Mapping):
        return as_text(item)
    return "\n".join(f"{name}: {_in_line(value)}" for name, value in item.items() if value not in ("", None, [], {}))


def _in_line(value: Any) -> str:
    if isinstance(value, Mapping):
        return ", ".join(_in_line(one) for one in value.values() if one not in ("", None, [], {}))
    return "; ".join(map(_in_line, value)) if isinstance(value, list | tuple) else as_text(value)


def read(asks: Mapping[str, Any], given: Mapping[str, Any], note: str) -> tuple[str, dict[str, Any]]:
    """An answer as a text and as the values it gives. Raises `AnswerRefused` with what is missing."""
    match asks.get("form"):
        case "choose":
            options: Sequence[Mapping[str, Any]] = asks["options"]
            number = given.get("number")
            if not isinstance(number, int) or isinstance(number, bool) or not 1 <= number <= len(options):
                raise AnswerRefused("Choose one first.")
            chosen = options[number - 1]
            names = "text", "name", "item"
            return str(chosen["text"]), {**{name: chosen.get(name) for name in names}, "number": number, "reason": note}
        case "fill":
            fields = [FormField.model_validate(one) for one in asks["fields"]]
            values, wrong = read_fields(fields, given)
            if wrong:
                labels = {field.name: field.label for field in fields}
                raise AnswerRefused("; ".join(f"{labels[name]}: {words}" for name, words in wrong.items()))
            told = "\n".join(f"{f.label}: {values[f.name]}" for f in fields if values[f.name] not in ("", None, {}))
            return told, {**values, "text": told}
        case _:
            if not isinstance(given.get("yes"), bool):
                raise AnswerRefused("Say yes or no first.")
            answer = "yes" if given["yes"] else "no"
            text = f"{answer.capitalize()}: {note}" if note else answer.capitalize()
            return text, {"answer": answer, "yes": given["yes"], "text": text, "reason": note}


def examples(asks: Mapping[str, Any]) -> dict[str, Any]:
    """What stands in a proof for what a person would fill in: the first choice, the least number, else the field’s own label."""
    out: dict[str, Any] = {}
    for one in (FormField.model_validate(field) for field in asks["fields"]):
        match one.type:
            case "choice":
                out[one.name] = one.choices[0]
            case "number":
                out[one.name] = one.least or 0
            case "date":
                out[one.name] = "2026-01-01"
            case _:
                out[one.name] = f"({one.label})"
    return {**out, "text": "\n".join(f"{field['label']}: {out[field['name']]}" for field in asks["fields"])}


def of_words(asks: Mapping[str, Any], said: str, name: str) -> tuple[dict[str, Any], str]:
    """A reply in words as an answer: what was given, and the reason. Raises `AnswerRefused` where it is not plain."""
    first, _, rest = said.partition("\n")
    match asks.get("form"):
        case "choose":
            options = asks["options"]
            number = _NUMBER.fullmatch(first.strip())
            chosen = [int(number[1])] if number and 1 <= int(number[1]) <= len(options) else []
            reason = (number[2] or "") if number else ""
            if not number:
                chosen = [n for n, one in enumerate(options, 1) if one["name"].casefold() == first.strip().rstrip(".!").casefold()]
            reason = " ".join(filter(None, (reason.strip(), rest.strip())))
            if len(chosen) == 1 and not (reason and assent.turned(reason)):
                return {"number": chosen[0]}, reason
            names = ", ".join(f"{n} ({one['name']})" for n, one in enumerate(options, 1))
            raise AnswerRefused(f"Answer with the number of the one it shall be, and nothing that is to be different: {names}.")
        case "fill":
            labels = {one["label"].casefold(): one["name"] for one in asks["fields"]}
            labels |= {one["name"].casefold(): one["name"] for one in asks["fields"]}
            given: dict[str, Any] = {}
            at = ""
            for line in said.splitlines():
                head, colon, value = line.partition(":")
                if colon and head.strip().casefold() in labels:
                    at = labels[head.strip().casefold()]
                    given[at] = value.strip()
                elif at and line.strip():
                    given[at] = f"{given[at]}\n{line.strip()}".strip()
            if not given and len(asks["fields"]) == 1:
                given = {asks["fields"][0]["name"]: said.strip()}
            if not given:
                names = "\n".join(f"{one['label']}: " for one in asks["fields"])
                raise AnswerRefused(f"Answer with a line for each, as here:\n\n{names}")
            return given, ""
        case _:
            meaning = assent.read(first, name).meaning
            opening = _YES_NO.match(said)
            if meaning not in ("yes", "no") and not opening:
                raise AnswerRefused("Begin your answer with yes or no; a reason may follow.")
            yes = meaning == "yes" if meaning in ("yes", "no") else opening is not None and opening[1].casefold() in _YES
            reason = rest.strip() if meaning in ("yes", "no") or opening is None else opening[2].strip()
            if yes and reason and assent.turned(reason):
                words = "Your yes comes with a condition, so it was not taken as one. Answer yes or no; a reason may follow."
                raise AnswerRefused(words)
            return {"yes": yes}, reason
