"""What a control is, and what it is given to work with."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Literal, NamedTuple, Protocol

from pydantic import BaseModel

from ... import slots
from ..model import Line, Workflow
from ..saying import Heard, Said
from ..world import Around, LineProblem, World

Text = tuple[tuple[str, ...], str]
"""A text with slots, and where it stands within its setting."""


class SentencePart(NamedTuple):
    """A run of a line's sentence and what it is."""

    what: Literal["text", "value", "slot", "gap"]
    text: str


@dataclass(frozen=True)
class Setting:
    """A setting of a kind: its name, title and control, and what it says of itself."""

    name: str
    title: str
    control: Control
    required: bool
    default: Any = field(hash=False)
    needs: str = ""
    takes: str = ""
    begins: Any = field(default=None, hash=False)
    told: str = ""
    labels: Mapping[str, str] = field(default_factory=dict, hash=False)


@dataclass(frozen=True)
class Checking:
    """A setting that is checked: its line and the page it stands on (`above` are the lines before it), the settings as read, and
    what is around. `drafts` are the lines that write a text under rules, by name, with the rules' setting."""

    workflow: Workflow
    line: Line
    setting: Setting
    value: Any
    settings: BaseModel
    above: Sequence[Line]
    askable: frozenset[str]
    world: World | None
    drafts: Mapping[str, Setting]
    reads: frozenset[str]
    around: Around

    def problem(self, words: str, place: tuple[str, ...] | None = None) -> LineProblem:
        """A fault of this setting."""
        return LineProblem(self.line.id, words, place=(self.setting.name,) if place is None else place)

    def lacking(self, title: str, columns: Sequence[str], place: tuple[str, ...] | None = None) -> LineProblem:
        """The sheet that this setting's columns are of has not got them: one press adds them."""
        named = f"no column “{columns[0]}”" if len(columns) == 1 else f"no columns {', '.join(f'“{one}”' for one in columns)}"
        add = f"Add the column “{columns[0]}”" if len(columns) == 1 else f"Add the {len(columns)} columns"
        found = self.problem(f"The sheet “{title}” has {named}.", place)
        return replace(found, mend=add, widens=str(getattr(self.settings, self.setting.needs)), columns=tuple(columns))


class Spot(Protocol):
    """The place a new line would stand at, as far as a setting can be filled in from it."""

    who: str
    world: World
    as_tool: bool

    @property
    def for_brand(self) -> bool:
        """Whether the page is for a brand."""

    @property
    def made(self) -> frozenset[str]:
        """The values that lines of the page made, as slots: all but those of its start and those that are always there."""

    def nearest(self, takes: str) -> str | None:
        """The nearest value of those wanted, as a slot."""

    def material(self, takes: str) -> str | None:
        """What a prompt is made of: what the start asks for, or the title and link it brings, and the nearest value of those
        wanted; as text with slots."""

    def each(self) -> str | None:
        """The texts made for each item above, one after another, as text with slots."""

    def cells(self, columns: tuple[str, ...]) -> dict[str, str]:
        """What a row with these columns would hold."""

    def item_cells(self, columns: tuple[str, ...]) -> dict[str, str]:
        """What a row with these columns would hold of an item of the nearest list."""

    def last_of(self, kind: str) -> str | None:
        """The name of the last line of a kind above."""


class Offered(NamedTuple):
    """What a new line's setting begins with, and what is not there yet that it needs."""

    value: Any = None
    lacks: str = ""


class Control:
    """A control. This one is that of a plain value, and what the others do where they do nothing else."""

    name: ClassVar[str] = ""
    points_at: ClassVar[Literal["", "connection", "sheet", "workflow", "step", "line"]] = ""
    is_address: ClassVar[bool] = False
    as_written: ClassVar[bool] = False
    """Whether its texts are left as written when a line's settings are filled in: the kind does it."""
    own_roots: ClassVar[frozenset[str]] = frozenset()
    """Roots that name something of its own in its texts, and nothing on the page."""
    told: ClassVar[str] = ""
    """Which words of a description fill it in, where the setting names none itself."""

    def texts(self, value: Any) -> Iterator[Text]:
        """Every text with slots in a value of any shape."""
        return iter(())

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        """The value with every text with slots changed."""
        return value

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        """The value, where lines are called by other names from now on."""
        return self.changed(value, lambda text: slots.renamed(text, names))

    def reads(self, value: Any) -> set[slots.Path]:
        """The values it reads beside those in its texts."""
        return set()

    def text_problems(self, text: str, around: Around) -> list[slots.Problem]:
        """What is wrong with the slots of one of its texts."""
        return slots.check(slots.parse(text), around.scope, around.maybe)

    def value_problems(self, value: Any, around: Around) -> list[slots.Problem]:
        """What is wrong with a value as a whole, as it stands on the page."""
        return []

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        """What is wrong with a value that could be read."""
        return iter(())

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        """The value in the line's sentence; ``None`` where it is a gap."""
        return [SentencePart("value", str(value))]

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        """What a new line begins with here, where its other settings are these."""
        return Offered(spot.nearest(setting.takes) if setting.takes else setting.begins)

    def heard(self, said: Said, setting: Setting, value: Any) -> Heard | None:
        """What was said of the setting, where a description speaks of it; `value` is what it has now. ``None`` where nothing was."""
        return None

    def described(self, words: str, setting: Setting) -> Any:
        """The value for words of a description that are meant for it; ``None`` where they do not fit. Raises `ValueError` with
        what is wrong, where that is worth a word."""
        return words


def sheet_of(at: Checking) -> tuple[str, tuple[str, ...] | None]:
    """The sheet that a setting's columns are of: its name and columns, where it is here."""
    known = at.world.sheets.get(str(getattr(at.settings, at.setting.needs, ""))) if at.world else None
    return known if known is not None else ("", None)
