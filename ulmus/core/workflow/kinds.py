"""What a kind of line declares about itself: stage, sentence, settings, outputs, and how it is carried out.

Kinds are declared in `ulmus.steps`; the core only reads the declaration. Settings and outputs are Pydantic models; a setting's
control stands in its JSON Schema (see `controls`). There is one type of declaration for each way a line can be carried out;
each makes the plan that goes with it (see `plans`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from types import UnionType
from typing import Annotated, Any, Generic, Literal, TypeVar, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from ..pieces.forms import FormName
from . import plans
from .controls import settings_of
from .settings import read_as_far_as

Stage = Literal["start", "gather", "draft", "ask", "publish", "record", "flow"]
STAGES: tuple[Stage, ...] = ("start", "gather", "draft", "ask", "publish", "record", "flow")
S = TypeVar("S", bound=BaseModel)
CONTRACT = 1
"""The version of what a kind relies on; see `ulmus.steps.api`."""


@dataclass(frozen=True, kw_only=True)
class KindSpec(Generic[S]):
    """The declaration of one kind, whatever it is carried out as.

    `offer` is how the finder offers it, with settings such as ``{channel}`` filled in by what there is here; `words` are
    other words people look for it by; `called` is the name a new line of it gets; `common` puts it before others of its stage.
    `brief` is a pattern over the outputs that tells a result in one breath, `says` the same where a pattern cannot.
    `left_to_choose` are outputs to be pointed at by whoever wants them: no new line would work on them by itself.
    `gives` tells outputs that depend on the raw settings (and the world around the page), `faults` what is wrong with
    settings beyond what their model can say, as (setting, words). `gives_outside` says that what it gives comes from outside,
    `not_in_results` which settings make no difference to what a line gives, `names_feeds` which holds the addresses of feeds.
    """

    name: str
    stage: Stage
    title: str
    about: str
    sentence: str
    settings: type[S]
    output: type[BaseModel]
    offer: str = ""
    words: str = ""
    called: str = ""
    common: float = 0.0
    brief: str = ""
    says: Callable[[Mapping[str, Any]], str] | None = None
    left_to_choose: tuple[str, ...] = ()
    gives: Callable[[Mapping[str, Any], Any], Mapping[str, Any]] | None = None
    faults: Callable[[S], list[tuple[str, str]]] | None = None
    gives_outside: bool = False
    not_in_results: tuple[str, ...] = ()
    names_feeds: str = ""
    contract: int = CONTRACT

    def scope(self) -> dict[str, Any]:
        """The outputs as a scope for the slot checker: name → type's word, or what stands under it."""
        return {name: type_word(field) for name, field in self.output.model_fields.items()}

    def given(self, settings: Mapping[str, Any], world: Any = None) -> dict[str, Any]:
        """The outputs of a line of this kind with these settings; raw settings may be of any shape, which checks tell of."""
        if self.gives is None:
            return self.scope()
        try:
            return {**self.scope(), **self.gives(settings, world)}
        except (TypeError, ValueError, AttributeError, LookupError):
            return self.scope()

    def fallback(self, value: str) -> dict[str, Any]:
        """Outputs to go on with when the step failed: all empty but the main one, which is `value`."""
        blank = {name: field.get_default(call_default_factory=True) for name, field in self.output.model_fields.items()}
        main = "text" if "text" in blank else next(iter(blank), "text")
        return blank | {main: value}

    @property
    def can_fail(self) -> bool:
        """Whether a line of it can fail in a way the page may answer."""
        return False

    @property
    def can_be_tried_again(self) -> bool:
        """Whether another try could help, where it failed."""
        return False

    def plan_of(self, settings: Mapping[str, Any]) -> plans.AnyPlan:
        """How a line with these raw settings is carried out, or listened to, as far as they can be read."""
        raise NotImplementedError

    def read(self, settings: Mapping[str, Any]) -> S:
        """Raw settings as far as they can be read."""
        return read_as_far_as(self.settings, settings)


@dataclass(frozen=True, kw_only=True)
class StartSpec(KindSpec[S]):
    """What sets a run off. One that `can_feed_itself` is limited in its runs a day; a new page begins with the one that
    `begins_blank_pages`."""

    plan: Callable[[S], plans.StartPlan]
    can_feed_itself: bool = False
    begins_blank_pages: bool = False

    def plan_of(self, settings: Mapping[str, Any]) -> plans.StartPlan:
        """What a start with these raw settings listens to, as far as they can be read."""
        return self.plan(self.read(settings))


@dataclass(frozen=True, kw_only=True)
class StepSpec(KindSpec[S]):
    """A step. `fixed_as_tool` are settings in which an assignment's model has no say; `reaches` names the setting that holds
    the address a kind without a connection reads, `within_base` those that only follow the address of the connection, in a tool."""

    fixed_as_tool: tuple[str, ...] = ()
    within_base: tuple[str, ...] = ()
    reaches: str = ""

    def plan_of(self, settings: Mapping[str, Any]) -> plans.StepPlan:
        """How a line with these raw settings is carried out, as far as they can be read."""
        raise NotImplementedError

    @property
    def can_fail(self) -> bool:
        return True

    @property
    def can_be_tried_again(self) -> bool:
        return isinstance(self, PerformSpec | ActSpec)

    @property
    def can_be_a_tool(self) -> bool:
        """Whether an assignment can use it."""
        return False


@dataclass(frozen=True, kw_only=True)
class PerformSpec(StepSpec[S]):
    """Gathers or drafts. `finds_links` says that its results are addresses one may read on, `later` when it waits first."""

    finds_links: bool = False
    later: Callable[[S], plans.AfterPiece | None] | None = None

    def plan_of(self, settings: Mapping[str, Any]) -> plans.StepPlan:
        return plans.PerformPlan(self.later(self.read(settings)) if self.later is not None else None)

    @property
    def can_be_a_tool(self) -> bool:
        return True


@dataclass(frozen=True, kw_only=True)
class DraftSpec(PerformSpec[S]):
    """Writes a text under rules."""

    plan: Callable[[S], plans.DraftPlan]

    def plan_of(self, settings: Mapping[str, Any]) -> plans.DraftPlan:
        return self.plan(self.read(settings))


@dataclass(frozen=True, kw_only=True)
class ActSpec(StepSpec[S]):
    """Acts on the outside, or on the house."""

    @property
    def can_be_a_tool(self) -> bool:
        return True


@dataclass(frozen=True, kw_only=True)
class SendSpec(ActSpec[S]):
    """Makes a piece that goes out, of a known `form` (see `ulmus.core.pieces`). `lets_go` names the switch without which it does
    so only after a person was asked."""

    form: FormName
    lets_go: str = ""

    @property
    def act(self) -> bool:
        """Whether its effect is no text for readers."""
        return self.form == "act"

    def plan_of(self, settings: Mapping[str, Any]) -> plans.SendPlan:
        told = {"goes": "goes", "at": "goes_at", "not_before": "not_before", "not_after": "not_after"}
        known = {field: settings.get(name) for field, name in told.items() if name in self.settings.model_fields}
        return plans.SendPlan(**{field: value for field, value in known.items() if isinstance(value, str)})


@dataclass(frozen=True, kw_only=True)
class WriteSpec(ActSpec[S]):
    """Writes into a sheet; `adds` says whether rows may come by it, `own_row` whether it is about the row the run came from."""

    adds: Callable[[S], bool] = lambda settings: True
    own_row: Callable[[S], bool] = lambda settings: False

    def plan_of(self, settings: Mapping[str, Any]) -> plans.WritePlan:
        return plans.WritePlan()


@dataclass(frozen=True, kw_only=True)
class ComputeSpec(StepSpec[S]):
    """Works values out, from values and from what it remembers of earlier runs."""

    def plan_of(self, settings: Mapping[str, Any]) -> plans.ComputePlan:
        return plans.ComputePlan()


@dataclass(frozen=True, kw_only=True)
class AskSpec(StepSpec[S]):
    """Puts something before a person: a draft, or a question."""

    plan: Callable[[S], plans.AskPlan]
    shows_a_draft: bool = False

    @property
    def can_fail(self) -> bool:
        return False

    def plan_of(self, settings: Mapping[str, Any]) -> plans.AskPlan:
        return self.plan(self.read(settings))

    @property
    def can_be_a_tool(self) -> bool:
        return not self.shows_a_draft


@dataclass(frozen=True, kw_only=True)
class WaitSpec(StepSpec[S]):
    """Goes on later."""

    plan: Callable[[S], plans.WaitPlan]

    def plan_of(self, settings: Mapping[str, Any]) -> plans.WaitPlan:
        return self.plan(self.read(settings))


@dataclass(frozen=True, kw_only=True)
class StopSpec(StepSpec[S]):
    """Ends the item or the run."""

    plan: Callable[[S], plans.StopPlan]

    @property
    def can_fail(self) -> bool:
        return False

    def plan_of(self, settings: Mapping[str, Any]) -> plans.StopPlan:
        return self.plan(self.read(settings))


@dataclass(frozen=True, kw_only=True)
class CallSpec(ActSpec[S]):
    """Begins a run of another workflow."""

    plan: Callable[[S], plans.CallPlan]

    def plan_of(self, settings: Mapping[str, Any]) -> plans.CallPlan:
        return self.plan(self.read(settings))


@dataclass(frozen=True, kw_only=True)
class BlockSpec(StepSpec[S]):
    """Holds others: steps, or lanes with steps. One that `thinks` asks a model, which may be asked again."""

    plan: Callable[[S], plans.BlockPlan]
    has_lanes: bool = False
    thinks: bool = False

    @property
    def can_be_tried_again(self) -> bool:
        return self.thinks

    def plan_of(self, settings: Mapping[str, Any]) -> plans.BlockPlan:
        return self.plan(self.read(settings))


Kinds = Mapping[str, KindSpec[Any]]


def type_word(field: FieldInfo) -> Any:
    """What the scope says of a field: text, number, list, any, or for a list of models ``[{name: …}]``."""
    return _word_of(field.annotation)


def _word_of(kind: Any) -> Any:
    origin, inside = get_origin(kind), get_args(kind)
    if origin is Annotated:
        return _word_of(inside[0])
    if origin in (Union, UnionType):
        words = [_word_of(one) for one in inside if one is not type(None)]
        return words[0] if words and all(word == words[0] for word in words) else "any"
    if origin is Literal:
        return _word_of(type(inside[0]))
    plain = origin or kind
    if not isinstance(plain, type):
        return "any"
    if issubclass(plain, list | tuple | set | frozenset):
        of = inside[0] if inside else None
        if isinstance(of, type) and issubclass(of, BaseModel):
            return [{name: type_word(f) for name, f in of.model_fields.items()}]
        return "list"
    if issubclass(plain, str | bool):
        return "text"
    return "number" if issubclass(plain, int | float) else "any"


def templates_of(spec: KindSpec[Any], settings: Mapping[str, Any]) -> Iterator[tuple[tuple[str, ...], str]]:
    """Every text with slots in raw `settings`, with its place, e.g. ``(("cells", "Link"), "<<feed.link>>")``."""
    for name, setting in settings_of(spec.settings).items():
        for place, text in setting.control.texts(settings.get(name, setting.default)):
            yield (name, *place), text


def with_texts(spec: KindSpec[S], settings: S, change: Callable[[str], str], as_written: bool = False) -> S:
    """`settings` with every text with slots changed; those a kind fills in itself only with `as_written`."""
    changed = {
        name: setting.control.changed(getattr(settings, name), change)
        for name, setting in settings_of(spec.settings).items()
        if as_written or not setting.control.as_written
    }
    return settings.model_copy(update=changed)


def is_for_readers(spec: KindSpec[Any]) -> bool:
    """Whether what lines of this kind let out is a text for readers."""
    return isinstance(spec, SendSpec) and spec.stage == "publish" and not spec.act


def points_at(spec: KindSpec[Any], settings: Mapping[str, Any], what: str) -> list[tuple[str, str]]:
    """The settings that point at something (a ``connection``, ``sheet``, ``workflow``, ``step`` …), each with what is set there,
    where it is a text."""
    out = []
    for name, setting in settings_of(spec.settings).items():
        value = settings.get(name, setting.default)
        if setting.control.points_at == what and isinstance(value, str):
            out.append((name, value))
    return out
