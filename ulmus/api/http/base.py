"""What all API modules share: the house's parts, what is asked for, answers and refusals."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from flask import Response, current_app, request
from pydantic import BaseModel, ConfigDict, Field, RootModel
from pydantic_core import PydanticSerializationError, to_json
from werkzeug.datastructures import FileStorage

from ...readmodels.journals import Journals
from ...runtime.calls import Crowd
from ...runtime.comparing import Comparisons
from ...runtime.elsewhere import Elsewhere
from ...runtime.engine import Engine
from ...runtime.practice import Practice
from ...runtime.proofing import Proofs
from ...runtime.services import Services
from ..security.passkeys import Challenges
from ..security.tries import Tries
from .places import Places

Reply = Any  # what a view gives back to Flask


@dataclass
class House:
    """The running parts the API speaks to. `demo` lists accounts to show on the sign-in page of a demonstration."""

    services: Services
    engine: Engine
    proofs: Proofs
    demo: list[dict[str, str]]
    town_url: str = ""
    first_key: str = ""
    """What whoever started a house without accounts knows: the first one is made with it."""
    make_room: Callable[[int], None] = lambda listening: None
    """Told how many pages listen for events, each of which holds a thread."""
    practice: Practice = field(init=False)
    journals: Journals = field(init=False)
    comparisons: Comparisons = field(init=False)
    places: Places = field(default_factory=Places)
    tries: Tries = field(default_factory=Tries)
    challenges: Challenges = field(default_factory=Challenges)
    elsewhere: Elsewhere | None = None
    """What workers on other machines carry out, where there are any."""
    crowd: Crowd = field(default_factory=Crowd)

    def __post_init__(self) -> None:
        self.practice = Practice(self.services)
        self.journals = Journals(self.services.store)
        self.comparisons = Comparisons(self.services, self.proofs, self.proofs.executor)

    @property
    def town(self) -> str:
        """Where the practice town around the house is open; empty where there is none."""
        return self.town_url or self.practice.url


def house() -> House:
    """The parts of the application that is answering."""
    found: House = current_app.extensions["ulmus"]
    return found


class Refusal(Exception):
    """An answer of 4xx with words for the person; `more` adds fields to the answer."""

    def __init__(self, words: str, status: int = 400, **more: Any) -> None:
        super().__init__(words)
        self.words, self.status, self.more = words, status, more


class Problem(BaseModel):
    """Every error answer; `code` tells those apart that a caller can do something about."""

    message: str
    code: str = ""
    problems: list[dict[str, Any]] = Field(default_factory=list)


class Body(BaseModel):
    """What is asked for: a body, a query or a part of one. Fields that are not known are refused, so that none is lost on the way."""

    model_config = ConfigDict(extra="forbid")


def uploaded() -> FileStorage:
    """The file that came with a form. Raises `Refusal` where none did."""
    file = request.files.get("file")
    if file is None or not file.filename:
        raise Refusal("Choose a file.", 422)
    return file


class Fine(BaseModel):
    """Done, with nothing to tell."""

    ok: bool = True


Item = TypeVar("Item", bound=BaseModel)


class Listing(RootModel[list[Item]], Generic[Item]):
    """A plain list of views."""


def send(view: BaseModel | Sequence[BaseModel], status: int = 200) -> Response:
    """A view as a JSON answer."""
    try:
        body = to_json(view, inf_nan_mode="null")
    except PydanticSerializationError:
        # A text from outside may hold half a surrogate pair, or lists far into lists, which only the standard library writes.
        plain = [one.model_dump() for one in view] if isinstance(view, Sequence) else view.model_dump()
        body = json.dumps(plain, default=str).encode()
    return Response(body, status, mimetype="application/json")
