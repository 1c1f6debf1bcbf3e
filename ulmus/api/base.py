"""What all API modules share: the house's parts, answers, refusals and the view models used in several places."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Generic, Literal, TypeVar

from flask import Response, current_app, request
from pydantic import BaseModel, ConfigDict, Field, RootModel
from pydantic_core import PydanticSerializationError, to_json
from werkzeug.datastructures import FileStorage

from ..runtime.engine import Engine
from ..runtime.proofing import Proofs
from ..runtime.services import Services

Reply = Any  # what a view gives back to Flask


@dataclass
class House:
    """The running parts the API speaks to. `demo` lists accounts to show on the sign-in page of a demonstration."""

    services: Services
    engine: Engine
    proofs: Proofs
    demo: list[dict[str, str]]
    town_url: str = ""
    make_room: Callable[[int], None] = lambda listening: None
    """Told how many pages listen for events, each of which holds a thread."""


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


class PartView(BaseModel):
    """A run of a sentence."""

    what: Literal["text", "value", "slot", "gap"]
    text: str


class LineProblemView(BaseModel):
    """A finding on a line; `mend` says what one press would do: `settings` is what the line's settings become by it, or the
    lines `moving` are put behind the line `after`."""

    step: str
    message: str
    severity: Literal["error", "warning"]
    place: list[str] = []
    start: int | None = None
    end: int | None = None
    mend: str = ""
    settings: dict[str, Any] | None = None
    moving: list[str] = []
    after: str = ""


class LineView(BaseModel):
    """A line of the page as it is read. `holds` says what stands inside, if anything may; `limit` is the most characters its
    draft's rule or its channel allows."""

    id: str
    kind: str
    kind_title: str
    stage: str
    sentence: list[PartView]
    muted: bool = False
    depth: int = 0
    parent: str = ""
    index: int = 0
    problems: list[LineProblemView] = []
    dependents: list[str] = []
    cost: float = 0.0
    limit: int | None = None
    holds: Literal["", "steps", "lanes"] = ""


class FindingView(BaseModel):
    """A rule measured on a draft."""

    rule: str
    strength: Literal["must", "should"]
    kept: bool
    says: str
    reason: str = ""


class UsageView(BaseModel, frozen=True):
    """What a result used."""

    calls: int = 0
    tokens_in: int = 0
    tokens_out: int = 0
    cost: float = 0.0
    seconds: float = 0.0


CellState = Literal[
    "empty", "stale", "running", "fresh", "failed", "muted", "waiting", "asking", "unsure", "declined", "passed", "ahead", "stuck"
]


class CellView(BaseModel):
    """A result in brief."""

    step: str
    sample: int
    state: CellState
    brief: str = ""
    partial: str = ""
    message: str = ""
    would: str = ""
    stops: Literal["", "here", "before"] = ""
    findings: list[FindingView] = []
    revisions: int = 0
    usage: UsageView = UsageView()
    at: float | None = None
    approval: int | None = None
    link: str = ""
    picture: str = ""
    count: int = 0
    counts: dict[str, int] = {}


class ChangeView(BaseModel):
    """A run of text between two versions."""

    what: Literal["same", "added", "removed"]
    text: str


class VersionView(BaseModel):
    """One version of a draft: the text, how it kept the rules, and how it differs from the version before."""

    text: str
    why: str = ""
    findings: list[FindingView] = []
    changes: list[ChangeView] = []


class IterationView(BaseModel):
    """One carrying-out of a step inside a block: where, of which item, how it stands, and whether it can be taken up."""

    address: str
    label: str
    cell: CellView
    can_take_up: bool = False


class ResultView(BaseModel):
    """A result in full, for the reader."""

    step: str
    state: CellState
    output: dict[str, Any] = {}
    given: list[dict[str, Any]] = []
    messages: list[dict[str, str]] = []
    versions: list[VersionView] = []
    detail: dict[str, Any] = {}
    message: str = ""
    usage: UsageView = UsageView()
    at: float | None = None
    address: str = ""
    iterations: list[IterationView] = []


def send(view: BaseModel | Sequence[BaseModel], status: int = 200) -> Response:
    """A view as a JSON answer."""
    try:
        body = to_json(view, inf_nan_mode="null")
    except PydanticSerializationError:
        # A text from outside may hold half a surrogate pair, or lists far into lists, which only the standard library writes.
        plain = [one.model_dump() for one in view] if isinstance(view, Sequence) else view.model_dump()
        body = json.dumps(plain, default=str).encode()
    return Response(body, status, mimetype="application/json")
