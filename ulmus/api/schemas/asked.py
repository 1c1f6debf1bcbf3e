"""What is asked of a sheet's rows, as it comes in a query."""

from __future__ import annotations

from typing import TypeVar

from pydantic import BaseModel, Field, TypeAdapter, ValidationError

from ...runtime.sheetquery import Asked, Condition, Op
from ..http.base import Body, Refusal

Read = TypeVar("Read", bound=BaseModel)


class Where(Body):
    """A condition on a column."""

    column: str
    op: Op
    value: str = Field("", max_length=1000)


class AskedQuery(Body):
    """Rows that contain all `words` and fit all conditions in `where` (a JSON list of `column`, `op`, `value`), in groups by a
    column and sorted by one."""

    words: str = Field("", max_length=500)
    where: str = Field("", max_length=10_000)
    sort: str = ""
    down: bool = False
    group: str = ""


def asked_of(query: AskedQuery) -> Asked:
    """What a query asks for. Raises `Refusal` where its conditions cannot be read."""
    conditions = tuple(Condition(one.column, one.op, one.value) for one in list_of(Where, query.where)[:50])
    return Asked(query.words.strip(), conditions, query.sort, query.down and bool(query.sort), query.group)


def list_of(model: type[Read], text: str) -> list[Read]:
    """A list of a model in a text of JSON. Raises `Refusal` where it cannot be read."""
    try:
        return TypeAdapter(list[model]).validate_json(text) if text.strip() else []  # type: ignore[valid-type]
    except ValidationError:
        raise Refusal("These conditions cannot be read.", 422) from None
