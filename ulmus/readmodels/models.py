"""What screens show: the shapes of lines, cells, results and versions, used in several places."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel

from ..core.pieces import Brief, Piece, Takes


class PartView(BaseModel):
    """A run of a sentence."""

    what: Literal["text", "value", "slot", "gap"]
    text: str


class LineProblemView(BaseModel):
    """A finding on a line; `mend` says what one press would do: `settings` is what the line's settings become by it, or the
    lines `moving` are put behind the line `after`, or the sheet `widens` gets the `columns` it lacks; or the setting `guess` is said
    to be right."""

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
    widens: str = ""
    columns: list[str] = []
    guess: str = ""


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
    """A result in brief. `waits` says what it waits for, where that is known, and `until` when that
    is over."""

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
    piece: Brief | None = None
    count: int = 0
    counts: dict[str, int] = {}
    waits: Literal["", "outbox", "held", "later"] = ""
    until: float | None = None


class ChangeView(BaseModel):
    """A run of text between two versions."""

    what: Literal["same", "added", "removed"]
    text: str


class OpinionView(BaseModel):
    """What a model said of one sentence (`number`, from 1, of those it was asked about): its verdict, and the passage it went by,
    where that stands in a source."""

    number: int
    text: str
    verdict: Literal["supported", "unsupported", "contradicted"]
    passage: str
    source: str


class VersionView(BaseModel):
    """One version of a draft: the text, how it kept the rules, how it differs from the version before, and what another model said
    of its sentences."""

    text: str
    why: str = ""
    findings: list[FindingView] = []
    changes: list[ChangeView] = []
    opinions: list[OpinionView] = []


class IterationView(BaseModel):
    """One carrying-out of a step inside a block: where, of which item, how it stands, and whether it can be taken up."""

    address: str
    label: str
    cell: CellView
    can_take_up: bool = False


class PieceView(BaseModel):
    """A piece as it goes out: where, in what form, how long it is as its channel counts, what that takes, and what of it the
    channel would refuse. `link`, `id`, `state` and when it goes (`at`) are known of one that is in the outbox; `line` of one that is still to be made. `letters` are how many of
    a mailing's there are by state."""

    piece: Piece
    brief: Brief
    channel: str = ""
    takes: Takes = Takes()
    counted: str = ""
    refused: list[str] = []
    line: str = ""
    link: str = ""
    state: str = ""
    connection: str = ""
    id: int | None = None
    at: float | None = None
    letters: dict[str, int] = {}


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
    piece: PieceView | None = None


class TroubleView(BaseModel):
    """An outside that does not answer: since when, its last words, how much waits for it, and when it is tried next."""

    key: str
    name: str
    since: float
    says: str
    waiting: int
    next_at: float
