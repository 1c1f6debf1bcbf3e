"""The contract: what a kind of start, step or connection is made of, and what it is given to work with.

A kind is one module that imports nothing of the house but this one, the core and the clients of `ulmus.protocols`, and holds a
`KIND`: an instance of the type that says what it does. What stands here stays: it is added to, and where something a kind
relies on has to change or go, `VERSION` grows, and kinds written for an older version are reported and left out.

Starts: `Start` (by the clock, a run, a person or a call) · `PolledStart` (looks at something outside) · `SheetStart` (watches
rows). Steps: `Performs` (gathers, or makes something) · `Drafts` (writes a text under rules) · `Sends` (a piece goes out) ·
`Mails` (a letter to each of many) · `Jobs` (a job is handed in and followed) · `Writes` (a row) · `Changes` (rows that are there) · `Computes` (values from values) · `Asks` · `Waits` · `Stops` ·
`Calls` · `Holds` (a block) · `Assigns` (a goal, and tools).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from pydantic import BaseModel

from ..core.cost import Usage
from ..core.drafting import Known
from ..core.drafting.turns import Rewrite, Turn
from ..core.pieces import Takes
from ..core.rows import Change
from ..core.workflow.kinds import (
    CONTRACT,
    AskSpec,
    BlockSpec,
    CallSpec,
    ComputeSpec,
    DraftSpec,
    KindSpec,
    PerformSpec,
    S,
    SendSpec,
    StartSpec,
    StopSpec,
    WaitSpec,
    WriteSpec,
)
from ..protocols.errors import NotFound, OutsideError
from ..protocols.net import Web, never
from .settings import Asked as Asked
from .settings import AsksPeople as AsksPeople
from .settings import AsksQuestion as AsksQuestion
from .settings import Batched as Batched
from .settings import Granted as Granted
from .settings import Limited as Limited
from .settings import Metered as Metered
from .settings import Numbered as Numbered
from .settings import Settings as Settings
from .settings import Timely as Timely
from .settings import answered_by_mail as answered_by_mail
from .settings import batched as batched
from .settings import people as people
from .settings import setting as setting
from .settings import told_by_mail as told_by_mail

VERSION = CONTRACT
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
    raise NotFound(f"There is no “{what}” here.")


@dataclass(frozen=True)
class CameBack:
    """What came back of a piece: of how many people each kind (``answer``, ``press``, ``bounce``, ``left``), the answers (``who``,
    ``text``), and the numbers its channel gives, by name."""

    counts: Mapping[str, int] = field(default_factory=dict)
    answers: list[dict[str, str]] = field(default_factory=list)
    numbers: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Workspace:
    """What a step may look at in the house itself: the rows of a sheet by its key, and its name, a kept file by its link (name, type,
    content), what the brand has published, and what is wrong with a link (nothing where it answers). `keep` keeps a file
    (name, type, content) and gives it as a value. `leave` is where a reader (the second) leaves a mailing (the first), `why_not` says
    why nothing of a mailing goes to an address; empty where it may. `gone` gives of some addresses those, and why. `results` is what came back of
    a piece by its key, Message-ID or link; its channel is asked for its numbers. Raises `OutsideError`. `connection_name` is what a connection is called, by its key. `period` is the
    record of what went out of the brand between two moments (seconds since the epoch), `workflow` what another workflow is to those who
    run it, by its number."""

    rows: Callable[[str], list[Row]] = _nothing
    sheet_name: Callable[[str], str] = str
    file: Callable[[str], tuple[str, str, bytes] | None] = lambda link: None
    known: Known = Known()
    keep: Callable[[str, str, bytes], dict[str, Any]] = lambda name, kind, content: _nothing(name)
    leave: Callable[[str, str], str] = lambda mailing, address: ""
    why_not: Callable[[str], str] = lambda address: ""
    gone: Callable[[Collection[str]], Mapping[str, str]] = lambda addresses: {}
    results: Callable[[str], CameBack] = lambda piece: CameBack()
    connection_name: Callable[[str], str] = str
    period: Callable[[float, float], dict[str, Any]] = lambda since, until: {}
    workflow: Callable[[str], Called | None] = lambda key: None


@dataclass(frozen=True)
class Tool:
    """A line an assignment may use: its name, what it does, what it must be given, and what it may be given besides (name, what it
    is for)."""

    name: str
    about: str
    given: tuple[tuple[str, str], ...] = ()
    besides: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Called:
    """A workflow as those see it who run it: its name, what it is for, and the fields it begins with (name, label, needed)."""

    name: str
    purpose: str
    fields: tuple[tuple[str, str, bool], ...] = ()


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
    workspace: Workspace = Workspace()
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
        self.code = cause.code
        self.usage = usage
        self.detail = detail or {}


HUB = "hub"
"""Where what a poll remembers holds the address of a hub that tells of what is new, and the topic to ask it about (WebSub)."""


@dataclass(frozen=True)
class PollResult:
    """What one poll of a start gave: items (identity, item), newest last, and what it will remember.

    With `prime`, what the first poll finds is passed over: only what comes after it starts runs.
    """

    items: list[tuple[str, dict[str, Any]]]
    memory: dict[str, Any]
    says: str
    prime: bool = True


@dataclass(frozen=True)
class Poll:
    """What a start may use while it is polled. `memory` is what it remembered at its last poll."""

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
class SheetPoll:
    """What a start that watches a sheet is given: rows from the top (those that are new or changed; or the next that nothing was
    made of yet, and how many are `unused` in all), and how many are wanted where that is another number than is set."""

    rows: list[Row]
    most: int | None = None
    unused: int | None = None


@dataclass(frozen=True, slots=True)
class Reader:
    """One that a mailing goes to: the address, what the letter is filled in with, and the row of the list."""

    address: str
    fields: dict[str, Any]
    row: int = 0


@dataclass(frozen=True)
class Outgoing:
    """A piece ready to go out: through which connection, and its content, which reads as the kind's form
    (`ulmus.core.pieces.read`) and may hold more. A mailing comes with its `readers`."""

    connection: str
    content: dict[str, Any]
    readers: tuple[Reader, ...] = ()


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
    went out (seconds since the epoch): a list, newest first, that shows one of them reaches back behind this one. `content` is what
    was to go out."""

    key: str
    since: float
    earlier: Mapping[str, float] = field(default_factory=dict)
    content: Mapping[str, Any] = field(default_factory=dict)


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


# -- kinds ------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True)
class Start(StartSpec[S]):
    """A start that waits for the clock, a run, a person or a call."""


@dataclass(frozen=True, kw_only=True)
class PolledStart(StartSpec[S]):
    """A start that looks at something outside. `pace` are the settings that only say how often and how much."""

    poll: Callable[[S, Poll], PollResult]
    pace: tuple[str, ...] = ("every", "most", "runs")


@dataclass(frozen=True, kw_only=True)
class SheetStart(StartSpec[S]):
    """A start that watches the rows of a sheet."""

    rows: Callable[[S, SheetPoll], PollResult]
    pace: tuple[str, ...] = ("every", "most", "runs")


@dataclass(frozen=True, kw_only=True)
class Performs(PerformSpec[S]):
    """Gathers, or makes something; where it gives `later`, it waits first until so long after a piece went out. All settings come with their texts filled in, but those whose control says that they are left
    as written."""

    perform: Callable[[S, Context], Result]


@dataclass(frozen=True, kw_only=True)
class Drafts(DraftSpec[S]):
    """Writes a text under rules. `revised` gives the outputs anew from settings, the outputs so far and a person's change: a
    text, or values by name; `parts` are those that can be changed by name."""

    perform: Callable[[S, Context], Result]
    revised: Callable[[S, Mapping[str, Any], str | None, Mapping[str, Any]], dict[str, Any]]
    parts: Callable[[S, Mapping[str, Any]], list[Part]]


@dataclass(frozen=True, kw_only=True)
class Sends(SendSpec[S]):
    """A piece goes out: `piece` makes it, `send` sends it under an idempotency key and gives the step's output, or that it is
    `Pending`, and `find` asks the other side for it. The kept files that go along come in the content as ``opened``: by link,
    (name, type, bytes). `foretold` is the output as far as the content tells it, for proofs. `lists_within` says how late the
    other side's list may be (seconds), where its connection does. `still` is asked just before it goes whether it still may; it
    raises `OutsideError` where not. `as_tool` says what an assignment's model is told of a line called so, where that is not what
    its sentence says and its slots take."""

    piece: Callable[[S, Context], Outgoing]
    send: Callable[[Web, Connection, dict[str, Any], str], dict[str, Any] | Pending]
    find: Callable[[Web, Connection, Sought], Sighting]
    foretold: Callable[[dict[str, Any]], dict[str, Any]] = dict
    lists_within: Callable[[Connection], float | None] = lambda connection: None
    still: Callable[[Workspace, dict[str, Any]], None] = lambda workspace, content: None
    as_tool: Callable[[S, Context, str], Tool | None] = lambda settings, context, name: None


@dataclass(frozen=True, kw_only=True)
class Mails(SendSpec[S]):
    """A letter goes to each of many readers: `piece` makes the mailing (its form is ``mailing``) with its readers, each of whose
    letters is an effect of its own. `told` is the step's output from the content and how many letters are ``sent``, ``refused``,
    ``left`` and so on."""

    piece: Callable[[S, Context], Outgoing]
    told: Callable[[dict[str, Any], Mapping[str, int]], dict[str, Any]]


@dataclass(frozen=True, kw_only=True)
class Jobs(SendSpec[S]):
    """A job is handed in and followed: `piece` makes it, `send` hands it in under an idempotency key and gives the step's output,
    or that it was `Taken`; `follow` looks how it gets on (settings, receipt, seconds since it was taken). `plays` says what it
    gives in proofs, from settings and what its last run gave."""

    piece: Callable[[S, Context], Outgoing]
    send: Callable[[Web, Connection, dict[str, Any], str], dict[str, Any] | Taken]
    follow: Callable[[Web, Connection, S, dict[str, Any], float], Progress]
    plays: Callable[[S, Mapping[str, Any]], dict[str, Any]]


@dataclass(frozen=True, kw_only=True)
class Writes(WriteSpec[S]):
    """Writes a row: `row` gives the sheet's key and the cells by column."""

    row: Callable[[S, Context], tuple[str, dict[str, Any]]]


@dataclass(frozen=True, kw_only=True)
class Changes(WriteSpec[S]):
    """Does something to the rows of a sheet: `change` says what (see `ulmus.core.rows`). Where it is done, rows are found, what
    stood there is kept, and nothing is done twice."""

    change: Callable[[S, Context], Change]


@dataclass(frozen=True, kw_only=True)
class Computes(ComputeSpec[S]):
    """Works values out: `work` (settings, values, what it remembers, a seed) gives the outputs and what it remembers from now
    on."""

    work: Callable[[S, Mapping[str, Any], dict[str, Any], str], tuple[dict[str, Any], dict[str, Any]]]


@dataclass(frozen=True, kw_only=True)
class Assigns(BlockSpec[S]):
    """A goal, and the lines inside as tools: `perform` thinks one round. `names_hosts` are the hosts its settings name, which its
    tools may read."""

    perform: Callable[[S, Context], Result]
    names_hosts: Callable[[S], tuple[str, ...]]


Asks = AskSpec
Waits = WaitSpec
Stops = StopSpec


@dataclass(frozen=True, kw_only=True)
class Calls(CallSpec[S]):
    """Another workflow is run. `as_tool` says what an assignment's model is told of a line called so."""

    as_tool: Callable[[S, Context, str], Tool | None] = lambda settings, context, name: None


Holds = BlockSpec
Kind = KindSpec[Any]
"""Any kind of start or step."""


# -- connections ------------------------------------------------------------------------------------


C = TypeVar("C", bound=BaseModel)


@dataclass(frozen=True)
class ConnectionKind(Generic[C]):
    """A kind of connection: settings, the names of its secrets with their titles, and a probe, run with one press, that gives a
    sentence or raises `OutsideError`. `leads` are the settings that say where it leads, and how safely: its secrets are for
    that place only. `summary` tells in a few words where it leads; `takes` is what a piece may be that goes there; `common` puts
    it before others. `bearer` names the secret that is a bearer token, which may also be granted by OAuth 2; its settings are
    `Granted` then. `tool` says that nothing of a client goes through it but questions, as to a model or a search: clients may share it
    without saying so. `numbers` asks what the channel says of the piece at a link, by name; its settings are `Numbered` then."""

    name: str
    title: str
    about: str
    settings: type[C]
    secrets: dict[str, str]
    leads: tuple[str, ...]
    probe: Callable[[Web, Connection], str]
    summary: Callable[[C], str]
    takes: Callable[[C], Takes] = lambda settings: Takes()
    common: float = 0.0
    bearer: str = ""
    tool: bool = False
    numbers: Callable[[Web, Connection, str], Mapping[str, float]] | None = None
    contract: int = VERSION
