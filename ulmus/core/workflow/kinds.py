"""What a kind of line declares about itself: stage, sentence, settings, outputs.

Kinds are declared in `ulmus.steps`; the core only reads the declaration. Settings and outputs are
Pydantic models. A setting's control stands in its JSON Schema under ``control``:

A setting's ``takes`` says which values a new line begins with there: names of outputs, nearest first, such as
``link|url``, or with the stage they come from (``text@draft``).

``slots`` one line of text with slots · ``longslots`` a text with slots · ``value`` one slot, for the value itself ·
``condition`` a condition in words ·
``filter`` a condition on the elements of the list the line gives · ``shape`` the fields of an answer · ``connection`` a connection's
key (``needs`` says of which kind) · ``sheet`` a sheet's key · ``cells`` a mapping from column to text
with slots · ``fields`` the same with names of one's own · ``rules`` a list of rules · ``takes`` other ways to write a draft · ``step`` the name of an earlier step (``needs`` says of which kind) · ``line`` the name of any line of the page.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from types import UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

Stage = Literal["start", "gather", "draft", "ask", "publish", "record", "flow"]
Manner = Literal["start", "perform", "ask", "send", "write", "each", "fork", "repeat", "assign", "rest", "stop", "call", "set"]
BLOCKS = frozenset({"each", "fork", "repeat", "assign"})
#: What a line that acts on the outside, or on the house, is carried out as.
ACTS = frozenset({"send", "write", "call"})
#: What can be a tool of an assignment.
TOOLS = frozenset({"perform"}) | ACTS
TEXT_CONTROLS = frozenset({"slots", "longslots", "value", "longvalue"})
_WITH_TEXTS = TEXT_CONTROLS | {"cells", "fields", "rules", "takes"}


@dataclass(frozen=True)
class KindSpec:
    """The declaration of one kind. `manner` tells the interpreter how it is carried out.

    `offer` is how the finder offers it, with settings such as ``{channel}`` filled in by what there is here; `words` are
    other words people look for it by; `called` is the name a new line of it gets; `common` puts it before others of its stage.
    `left_to_choose` are outputs to be pointed at by whoever wants them: no new line would work on them by itself.
    `gives` tells outputs that depend on the raw settings (and the world around the page), `faults` what is wrong with
    settings beyond what their model can say, as (setting, words). `fixed_as_tool` are settings in which an assignment's model
    has no say. An `act` has an effect that is no text for readers.
    """

    name: str
    stage: Stage
    manner: Manner
    title: str
    about: str
    sentence: str
    settings: type[BaseModel]
    output: type[BaseModel]
    offer: str = ""
    words: str = ""
    called: str = ""
    common: float = 0.0
    left_to_choose: tuple[str, ...] = ()
    gives: Callable[[Mapping[str, Any], Any], Mapping[str, Any]] | None = None
    faults: Callable[[Any], list[tuple[str, str]]] | None = None
    fixed_as_tool: tuple[str, ...] = ()
    act: bool = False

    @property
    def shows_a_draft(self) -> bool:
        """Whether it puts a draft before a person."""
        return self.manner == "ask" and "draft" in self.settings.model_fields

    @property
    def can_be_a_tool(self) -> bool:
        """Whether an assignment can use it."""
        return self.manner in TOOLS or (self.manner == "ask" and not self.shows_a_draft)

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


Kinds = Mapping[str, KindSpec]


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


def field_control(field: FieldInfo) -> Mapping[str, Any]:
    """What a settings field says about its control; empty for a plain one."""
    extra = field.json_schema_extra
    return extra if isinstance(extra, dict) else {}


@cache
def controls_of(model: type[BaseModel]) -> Mapping[str, str]:
    """The control of each field of a settings model; empty for a plain one."""
    return {name: str(field_control(field).get("control", "")) for name, field in model.model_fields.items()}


def templates_of(spec: KindSpec, settings: Mapping[str, Any]) -> Iterator[tuple[tuple[str, ...], str]]:
    """Every text with slots in raw `settings`, with its place, e.g. ``(("cells", "Link"), "<<feed.link>>")``."""
    for name, control in controls_of(spec.settings).items():
        value = settings.get(name, spec.settings.model_fields[name].default) if control in _WITH_TEXTS else None
        if control in TEXT_CONTROLS and isinstance(value, str):
            yield (name,), value
        elif control in ("cells", "fields") and isinstance(value, dict):
            for column, text in value.items():
                if isinstance(text, str):
                    yield (name, column), text
        elif control == "rules" and isinstance(value, list):
            for i, rule in enumerate(value):
                text = rule.get("text") if isinstance(rule, dict) else getattr(rule, "text", None)
                if isinstance(text, str):
                    yield (name, str(i), "text"), text
        elif control == "takes" and isinstance(value, list):
            for i, take in enumerate(value):
                for part in ("prompt", "standing"):
                    if isinstance(take, dict) and isinstance(take.get(part), str):
                        yield (name, str(i), part), take[part]


def map_templates(spec: KindSpec, settings: BaseModel, change: Callable[[str, str], str]) -> BaseModel:
    """`settings` with every text with slots replaced by ``change(field name, text)``."""
    updates: dict[str, Any] = {}
    for name, control in controls_of(spec.settings).items():
        value = getattr(settings, name)
        if control in TEXT_CONTROLS and isinstance(value, str):
            updates[name] = change(name, value)
        elif control in ("cells", "fields"):
            updates[name] = {column: change(name, text) for column, text in value.items()}
        elif control == "rules":
            updates[name] = [
                r.model_copy(update={"text": change(name, r.text)}) if isinstance(getattr(r, "text", None), str) else r
                for r in value
            ]
    return settings.model_copy(update=updates)
