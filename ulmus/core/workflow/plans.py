"""How a line is carried out, read from its settings: one plan for each way there is.

A kind of line makes its plan (see `kinds`); the checks, the interpreter and the runtime read it, and know no setting by its key.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

from ..people import Needs

Permission = Literal["first", "each", "never"]


@dataclass(frozen=True)
class AfterPiece:
    """When something is looked for: so many `seconds` after the piece that is named by a text with slots went out."""

    of: str
    seconds: float


@dataclass(frozen=True)
class PerformPlan:
    """Gathers or drafts; `later`, where it waits first."""

    later: AfterPiece | None = None


@dataclass(frozen=True)
class SendPlan:
    """Makes a piece that goes out: ``now``, ``at`` a time, or at the next free ``place`` of its channel; not before and not after
    some times. The times are texts with slots; empty where they set nothing."""

    goes: str = "now"
    at: str = ""
    not_before: str = ""
    not_after: str = ""


@dataclass(frozen=True)
class WritePlan:
    """Writes into a sheet."""


@dataclass(frozen=True)
class ComputePlan:
    """Works values out, with nothing from outside."""


Answer = Literal["words", "choose", "fill", "yes_no"]
Then = Literal["wait", "approve", "decline", "other"]
"""What happens where nobody answered in time: it waits on, goes on as if approved, is declined, or another is asked."""


@dataclass(frozen=True)
class AskPlan:
    """Puts something before people, told of it through the connection `mail` where there is one, and else, with `outside`, those who
    have no account through the only mail server there is; their answers by mail come into the mailbox of the connection `replies`, and
    they are reminded each `remind` seconds (0: never). `room` is the connection of a team's room that is told as well.

    `who` names them, a text with slots (see `core.people`), and `needs` whose yes it takes. Where `within` is set, an answer is due
    so many seconds after the question, or `ahead` of the time what is asked about would go out; `then` says what happens else, and
    `other` whom it is put before.

    Either the `draft` of that name, at most `rounds` times; or a `question`, a text with slots. A question is answered in words, or
    as `answer` says: by choosing one of `among` (texts with slots by name) or of the list `listed` (a slot), by filling in `fields`,
    or by yes or no. `played` is what the person says in proofs: the note a draft is sent back with, or the answer.
    """

    who: str = ""
    needs: Needs = "one"
    mail: str = ""
    outside: bool = True
    room: str = ""
    draft: str = ""
    rounds: int = 1
    question: str = ""
    answer: Answer = "words"
    among: Mapping[str, str] = field(default_factory=dict, hash=False)
    listed: str = ""
    fields: tuple[Any, ...] = field(default=(), hash=False)
    played: str = ""
    replies: str = ""
    remind: float = 0.0
    within: float = 0.0
    ahead: bool = False
    then: Then = "wait"
    other: str = ""


@dataclass(frozen=True)
class ForCall:
    """What a wait waits for: another system calls the run's own address."""


@dataclass(frozen=True)
class ForMail:
    """What a wait waits for: a mail in the mailbox of a connection, from somebody and with something in its subject (texts with
    slots; empty for any)."""

    box: str
    sender: str = ""
    subject: str = ""


@dataclass(frozen=True)
class WaitPlan:
    """Goes on later: after so many `seconds`, at a `moment` (a text with slots), or when what is `awaited` arrives, at most
    `seconds` long; with `strict` it fails where that never came."""

    seconds: float | None = None
    moment: str = ""
    awaited: ForCall | ForMail | None = None
    strict: bool = False


@dataclass(frozen=True)
class StopPlan:
    """Ends the item, or the `whole` run; `well`, or as a failure; with `words`, a text with slots."""

    well: bool = True
    whole: bool = False
    words: str = ""


@dataclass(frozen=True)
class CallPlan:
    """Begins a run of another `workflow` (its number, as text) with the values of `item` (texts with slots), and `waits` for its
    result."""

    workflow: str
    item: Mapping[str, str] = field(default_factory=dict, hash=False)
    waits: bool = True


@dataclass(frozen=True)
class EachPlan:
    """Carries out the steps inside for each item of `items` (a slot), at most `most` of them, known inside as `item`, so many at
    a time; with `strict` one failing item stops it."""

    items: str = ""
    item: str = "item"
    most: int | None = None
    parallel: int = 1
    strict: bool = False


@dataclass(frozen=True)
class ForkPlan:
    """Takes the first lane that fits, or with `every` all that do."""

    every: bool = False


@dataclass(frozen=True)
class DestinationsPlan(ForkPlan):
    """Lets the lines inside out side by side: a fork of which each line is a lane of its own, and always taken."""

    every: bool = True


@dataclass(frozen=True)
class RepeatPlan:
    """Goes round until a condition holds, at most `rounds` times and `seconds` long, waiting `wait` seconds between rounds, each
    time `grow` times as long; with `strict` it fails where the condition never came to hold."""

    until: str = ""
    rounds: int = 1
    seconds: float = float("inf")
    wait: float = 0.0
    grow: float = 1.0
    strict: bool = True


@dataclass(frozen=True)
class AssignmentPlan:
    """Uses the lines inside as its tools; `permission` says when a tool that acts asks a person first (as in `ask`)."""

    permission: Permission = "each"
    ask: AskPlan = AskPlan()


@dataclass(frozen=True)
class DraftPlan:
    """Writes a text: what it is called, the rules it keeps to, and other ways to write it (`takes`: a name, and the settings laid
    over the line's own), which live runs are `shared` between; the `instruction` is what the model is told, with slots. `tests`
    are what must hold of it for some items; where it is `tested` they have to hold before the page goes live."""

    title: str = ""
    rules: tuple[Any, ...] = ()
    takes: tuple[tuple[str, Mapping[str, Any]], ...] = field(default=(), hash=False)
    shared: bool = False
    whole: bool = True
    """Its answer is a piece, and not values."""
    instruction: str = ""
    tests: tuple[Any, ...] = ()
    tested: bool = False


# -- starts -----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class PollPlan:
    """Looks at something outside `every` so many seconds, and takes at most `most` new items at one look; a run for each, or one
    for all `together`."""

    listens: ClassVar[Listens] = "poll"
    rests: ClassVar[str] = "It looks for new items once the workflow is live."
    every: float = 900.0
    most: int = 50
    together: bool = False


@dataclass(frozen=True)
class RowsPlan:
    """Watches the rows of a `sheet`, as `PollPlan` does; with `changes`, a row that changes is one that comes anew."""

    listens: ClassVar[Listens] = "rows"
    rests: ClassVar[str] = "It watches the sheet once the workflow is live."
    sheet: str
    every: float = 5.0
    most: int = 50
    together: bool = False
    changes: bool = False


@dataclass(frozen=True)
class ClockPlan:
    """Goes by the clock: a recurrence `rule` (RFC 5545) in a `zone`, but not in `quiet` hours; a time that was `missed` is caught
    up once, or left out. With a `sheet`, the next `count` rows each time that nothing stands for in the column `used`."""

    listens: ClassVar[Listens] = "clock"
    rests: ClassVar[str] = "It runs at its times once the workflow is live."
    rule: str
    zone: str = "UTC"
    quiet: str = ""
    missed: Literal["once", "skip"] = "once"
    sheet: str = ""
    used: str = ""
    count: int = 1


@dataclass(frozen=True)
class RunsPlan:
    """Waits for runs of another `workflow` (its number, as text) that ended in one of these `outcomes`; any where there is none."""

    listens: ClassVar[Listens] = "runs"
    rests: ClassVar[str] = "It follows the other workflow once this one is live."
    workflow: str
    outcomes: tuple[str, ...] = ()


@dataclass(frozen=True)
class HandPlan:
    """Waits for a person to press a button, who fills in `fields`."""

    listens: ClassVar[Listens] = "push"
    rests: ClassVar[str] = "You start it once the workflow is live."
    waits: ClassVar[str] = "Waits for you to start it."
    fields: tuple[Any, ...] = ()


@dataclass(frozen=True)
class FormPlan:
    """Waits for a form with a page of its own to be filled in: what stands on it, and how often it may be sent."""

    listens: ClassVar[Listens] = "push"
    rests: ClassVar[str] = "The form is open once the workflow is live."
    waits: ClassVar[str] = "Waits for the form to be filled in."
    heading: str
    intro: str = ""
    fields: tuple[Any, ...] = ()
    button: str = "Send"
    thanks: str = ""
    hourly: int = 20
    daily: int = 1000


@dataclass(frozen=True)
class CallInPlan:
    """Waits for a call from another system: `signed` or not, called by what the texts with slots `title` and `known_by` say of it,
    answered at once or (at most `seconds` later) with the `reply`."""

    listens: ClassVar[Listens] = "push"
    rests: ClassVar[str] = "Its address takes calls once the workflow is live."
    waits: ClassVar[str] = "Waits for a call."
    signed: bool = False
    title: str = ""
    known_by: str = ""
    answers_later: bool = False
    seconds: float = 25.0
    reply: str = ""


Listens = Literal["poll", "clock", "rows", "runs", "push"]
StartPlan = PollPlan | RowsPlan | ClockPlan | RunsPlan | HandPlan | FormPlan | CallInPlan

StepPlan = (
    PerformPlan
    | DraftPlan
    | SendPlan
    | WritePlan
    | ComputePlan
    | AskPlan
    | WaitPlan
    | StopPlan
    | CallPlan
    | EachPlan
    | ForkPlan
    | DestinationsPlan
    | RepeatPlan
    | AssignmentPlan
)
STARTS = (PollPlan, RowsPlan, ClockPlan, RunsPlan, HandPlan, FormPlan, CallInPlan)
AnyPlan = StartPlan | StepPlan
BlockPlan = EachPlan | ForkPlan | DestinationsPlan | RepeatPlan | AssignmentPlan
ActPlan = SendPlan | WritePlan | CallPlan
BLOCKS = (EachPlan, ForkPlan, DestinationsPlan, RepeatPlan, AssignmentPlan)
#: What acts on the outside, or on the house.
ACTS = (SendPlan, WritePlan, CallPlan)
