"""What a kind of step is made of, and what it is given to work with."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from pydantic import BaseModel, Field
from pydantic_core import PydanticUndefined

from ..core.cost import Usage
from ..core.drafting import Known
from ..core.flow import Rewrite, Turn
from ..core.workflow.kinds import KindSpec
from ..protocols.errors import OutsideError
from ..protocols.net import Web, never

VERSION = 1
"""The version of this contract. It grows when something a kind relies on changes or goes; what is only added keeps it."""


class NotUsable(ValueError):
    """A kind that cannot be used here; the message says why."""


@dataclass(frozen=True)
class Connection:
    """A connection with its secrets opened, for use by a step and nobody else."""

    key: str
    kind: str
    name: str
    settings: Any
    secrets: Mapping[str, str] = field(repr=False, default_factory=dict)


def _nothing(what: str) -> Any:
    raise OutsideError(f"There is no “{what}” here.")


@dataclass(frozen=True)
class Shelf:
    """What a step may look at in the house itself: the rows of a sheet by its key, a kept file by its link (name, type,
    content), what the brand has published, and what is wrong with a link (nothing where it answers). `keep` keeps a file
    (name, type, content) and gives it as a value."""

    rows: Callable[[str], list[Row]] = _nothing
    file: Callable[[str], tuple[str, str, bytes] | None] = lambda link: None
    known: Known = Known()
    keep: Callable[[str, str, bytes], dict[str, Any]] = lambda name, kind, content: _nothing(name)  # type: ignore[no-any-return]


@dataclass(frozen=True)
class Tool:
    """A line an assignment may use: its name, what it does, and what it must be given (name, what it is for)."""

    name: str
    about: str
    given: tuple[tuple[str, str], ...] = ()


@dataclass(slots=True)
class Context:
    """What a step may use while it is carried out; it is made for it, and never changed.

    `values` are the values of earlier steps, `outside` the roots among them that came from outside.
    `asked_later`: a person will see this draft. `progress` takes the answer so far. `seed` is the same whenever the same is
    carried out. `kept` is what a job of this line gave last, for proofs. `take` is what the take that writes is called, where live runs are shared between a draft's. `tools`, `talk` and `spent` are an assignment's: what it may use, what it has done so far, and what that cost.
    """

    web: Web
    connect: Callable[[str, str], Connection]
    values: Mapping[str, Any]
    outside: frozenset[str] = frozenset()
    rewrite: Rewrite | None = None
    asked_later: bool = False
    shelf: Shelf = Shelf()
    seed: str = ""
    kept: Mapping[str, Any] = field(default_factory=dict)
    take: str = ""
    tools: tuple[Tool, ...] = ()
    talk: tuple[Turn, ...] = ()
    spent: float = 0.0
    progress: Callable[[str], None] = lambda text: None
    cancelled: Callable[[], bool] = never


@dataclass(slots=True)
class Result:
    """What a step gave: outputs by name, detail for readers, and what it used."""

    output: dict[str, Any]
    detail: dict[str, Any] = field(default_factory=dict)
    usage: Usage = Usage()


class StepFailed(OutsideError):
    """A failure that had already cost something."""

    def __init__(self, cause: OutsideError, usage: Usage, detail: dict[str, Any] | None = None) -> None:
        super().__init__(cause.message, retryable=cause.retryable, retry_after=cause.retry_after)
        self.usage = usage
        self.detail = detail or {}


@dataclass(frozen=True)
class Found:
    """What a start found in one look: items (identity, item), newest last, and what it will remember.

    With `prime`, what the first look finds is passed over: only what comes after it starts runs.
    """

    items: list[tuple[str, dict[str, Any]]]
    memory: dict[str, Any]
    says: str
    prime: bool = True


@dataclass(frozen=True)
class Look:
    """What a start may use while it is looked at. `memory` is what it remembered at its last look."""

    web: Web
    connect: Callable[[str, str], Connection]
    memory: dict[str, Any]
    now: float


@dataclass(frozen=True)
class Row:
    """A row of a sheet, for the starts that watch one: its number for good, where it stands now, and its cells."""

    id: int
    position: int
    cells: dict[str, Any]


@dataclass(frozen=True)
class Outgoing:
    """A piece ready to go out: through which connection, and its content."""

    connection: str
    content: dict[str, Any]


@dataclass(frozen=True)
class Taken:
    """What sending gave where the other side took a job and works on it: the receipt says where to look, first in so many
    seconds; the kind's `follow` looks."""

    receipt: dict[str, Any]
    again_in: float


@dataclass(frozen=True)
class Pending:
    """What sending gave where the other side took the piece, but it is not there yet: it is looked for until it shows."""

    receipt: dict[str, Any]


@dataclass(frozen=True)
class Progress:
    """How a job gets on: its `output` once it is over, or in how many seconds to look again."""

    output: dict[str, Any] | None
    again_in: float = 0.0


@dataclass(frozen=True)
class Sought:
    """A piece the other side is asked for: its key, when it was sent if at all, and the keys of `earlier` pieces with when they
    went out (seconds since the epoch): a list, newest first, that shows one of them reaches back behind this one."""

    key: str
    since: float
    earlier: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Sighting:
    """What asking the other side for a piece brought: the step's output where it is there; where it is not, whether the answer
    could have shown it (`tells`), in words `why` not. `again`: it may simply be sent once more, which changes nothing."""

    found: dict[str, Any] | None = None
    tells: bool = False
    why: str = ""
    again: bool = False


@dataclass(frozen=True)
class Part:
    """A part of a draft that a person can change in its place: ``text``, ``number``, ``yes_no``, ``choice`` (of `choices`),
    ``list`` (of texts) or ``items`` (of objects)."""

    name: str
    label: str
    type: str
    value: Any
    choices: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Kind(KindSpec):
    """A kind with what it can do; which of the functions it has follows from its manner.

    start: `look` where something outside is looked at, `rows` where a sheet is watched; one with neither waits for the
    clock, a run or a person · perform: `perform` · ask: none (the runtime asks) ·
    send: `piece` makes what goes out, `send` sends it under an idempotency key and gives the step's output (or `Taken`, `Pending`),
    `find` asks the other side for it, `follow` how a job gets on (settings, receipt, seconds since it was taken), `plays` says
    what it gives in proofs from settings and what was kept · write: `row` gives (sheet, cells) ·
    set: `work` gives the outputs and what the step remembers for next time.

    `revised` gives a draft's outputs anew from settings, the outputs so far and a person's change: a text, or values by name;
    `parts` are those that can be changed by name.
    `names_hosts` are the hosts an assignment's settings name; `finds_links` says that its results are addresses one may read on.
    `reaches` names the setting that holds the address a kind without a connection reads. `brief` is a pattern over the outputs that tells a result in one breath. All get settings whose ``slots``, ``cells``,
    ``fields`` and ``rules`` texts have been filled in; ``longslots``, ``value`` and ``condition`` texts are left as
    written. `listens` says how a live start comes by its items; one that `can_feed_itself` is limited in its runs a day.
    """

    look: Callable[[Any, Look], Found] | None = None
    rows: Callable[[Any, list[Row], dict[str, Any]], Found] | None = None
    perform: Callable[[Any, Context], Result] | None = None
    piece: Callable[[Any, Context], Outgoing] | None = None
    send: Callable[[Web, Connection, dict[str, Any], str], dict[str, Any] | Taken | Pending] | None = None
    find: Callable[[Web, Connection, Sought], Sighting] | None = None
    follow: Callable[[Web, Connection, Any, dict[str, Any], float], Progress] | None = None
    row: Callable[[Any, Context], tuple[str, dict[str, Any]]] | None = None
    plays: Callable[[Any, Mapping[str, Any]], dict[str, Any]] | None = None
    revised: Callable[[Any, Mapping[str, Any], str | None, Mapping[str, Any]], dict[str, Any]] | None = None
    parts: Callable[[Any, Mapping[str, Any]], list[Part]] | None = None
    names_hosts: Callable[[Any], tuple[str, ...]] | None = None
    finds_links: bool = False
    work: Callable[[Any, Mapping[str, Any], dict[str, Any], str], tuple[dict[str, Any], dict[str, Any]]] | None = None
    listens: Literal["", "poll", "clock", "rows", "runs", "push"] = ""
    can_feed_itself: bool = False
    gives_outside: bool = False
    reaches: str = ""
    brief: str = ""
    api: int = VERSION


def batched(element: Mapping[str, Any], settings: Mapping[str, Any]) -> dict[str, Any]:
    """The scope of a start whose items may come together: one item's values, or all of them as a list."""
    if settings.get("runs") == "together":
        return {**dict.fromkeys(element, "any"), "items": [dict(element)], "count": "number", "title": "text"}
    return dict(element)


def setting(
    title: str,
    about: str = "",
    *,
    control: str,
    default: Any = PydanticUndefined,
    needs: str = "",
    labels: Mapping[str, str] | None = None,
    more: bool = False,
    when: str = "",
    takes: str = "",
    **limits: Any,
) -> Any:
    """A settings field with its control (see `ulmus.core.workflow.kinds`).

    `labels` are the words for a choice; `more` puts the field out of the way until asked for; `when` shows it only
    while another setting has one of some values, written ``name=value`` or ``name=value|other``, or while it has any, written ``name``; `takes` are the values a
    new line begins with there.
    """
    extra: dict[str, Any] = {"control": control}
    for name, value in (("needs", needs), ("labels", dict(labels or {})), ("more", more), ("when", when), ("takes", takes)):
        if value:
            extra[name] = value
    return Field(default, title=title, description=about, json_schema_extra=extra, **limits)


def told_by_mail(when: str = "") -> Any:
    """The setting of lines that put something before a person: by which mail server they are told of it."""
    return setting(
        "Tell them by mail through",
        "Leave empty to show it under Approvals only.",
        control="connection",
        needs="mail",
        default="",
        labels={"": "by no mail"},
        when=when,
    )


class Settings(BaseModel):
    """Base of all settings: unknown fields are refused."""

    model_config = {"extra": "forbid", "frozen": True}


class Limited(Settings):
    """What a connection can be told about going easy on the other side."""

    at_once: int = Field(64, title="At most at a time", description="Calls under way; more wait their turn.", ge=1, le=64)
    a_minute: int | None = Field(None, title="At most a minute", description="Empty where there is no limit.", ge=1, le=100_000)


@dataclass(frozen=True)
class ConnectionKind:
    """A kind of connection: settings, the names of its secrets with their titles, and a probe, run with one press, that gives a
    sentence or raises `OutsideError`. `leads` are the settings that say where it leads, and how safely: its secrets are for
    that place only."""

    name: str
    title: str
    about: str
    settings: type[BaseModel]
    secrets: dict[str, str]
    leads: tuple[str, ...]
    probe: Callable[[Web, Connection], str]
    api: int = VERSION


class Batched(Settings):
    """Settings of a start whose looks may find several items."""

    runs: Literal["each", "together"] = setting(
        "Several at once",
        "One run for each, or one run with all of them as a list.",
        control="choice",
        default="each",
        labels={"each": "a run each", "together": "one run with all of them"},
        more=True,
    )
    most: int = setting(
        "At most",
        "New items taken at one look; the rest wait for the next.",
        control="number",
        default=50,
        ge=1,
        le=1000,
        more=True,
    )
