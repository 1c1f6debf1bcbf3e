"""Controls that point at something: a line, another workflow, a connection, an item."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ... import pieces, slots
from ..world import LineProblem, World
from .base import Checking, Control, Offered, SentencePart, Setting, Spot
from .writing import Rules


class Step(Control):
    """The name of an earlier step of a kind, whose text is shown."""

    name = "step"
    points_at = "step"

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return names.get(value, value) if isinstance(value, str) else value

    def reads(self, value: Any) -> set[slots.Path]:
        return {slots.Path((str(value or ""), "text"))}

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        target = next((line for line in at.above if line.id == at.value), None)
        if target is None or target.kind != at.setting.needs:
            yield at.problem("Choose which draft above this line is shown.")
        elif target.id not in at.askable:
            yield at.problem(f"“{target.id}” stands outside this block; ask inside the block it stands in.")

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        found = spot.last_of(setting.needs)
        return Offered(found, "" if found else f"There is no {setting.needs} above it yet.")


class AnyLine(Control):
    """The name of any line of the page."""

    name = "line"
    points_at = "line"

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return names.get(value, value) if isinstance(value, str) else value

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.value and not any(step.id == at.value for step in at.workflow.every_step):
            shown = at.value if len(at.value) < 40 else f"{at.value[:40]}…"
            yield at.problem(f"There is no line called “{shown}”, so that nothing would be given. Choose a line.")


class OtherWorkflow(Control):
    """The number of another workflow."""

    name = "workflow"
    points_at = "workflow"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.world and at.value not in at.world.workflows:
            yield at.problem("Choose which workflow is meant.")

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        if not isinstance(value, str | int):
            return None
        called = world.workflows.get(str(value))
        return [SentencePart("value", called) if called else SentencePart("gap", "a workflow")]


class ConnectionKey(Control):
    """The key of a connection of a kind (``needs``), or of one of several."""

    name = "connection"
    points_at = "connection"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.world is None or (at.value == "" and not at.setting.required):
            return
        known = at.world.connections.get(at.value)
        if known is None:
            words = f"The connection “{at.value}” is not here yet." if at.value else "No connection chosen."
            yield at.problem(f"{words} Choose one, or add it under Connections.")
        elif known.kind not in at.setting.needs.split():
            yield at.problem(f"“{known.name}” is not a fitting connection here.")
        elif known.takes.length is not None:
            yield from self._too_long(at, known.name, known.takes)

    @staticmethod
    def _too_long(at: Checking, name: str, takes: pieces.Takes) -> Iterator[LineProblem]:
        """Drafts that go there with no rule that keeps them within what it takes."""
        for draft in at.workflow.every_step:
            rules = at.drafts.get(draft.id)
            if draft.id not in at.reads or rules is None:
                continue
            stand = draft.settings.get(rules.name, [])
            if not Rules.keep_within(stand, takes):
                words = f"“{name}” takes at most {takes.length} {takes.counting.words}; no rule keeps the draft within that."
                mended = {**draft.settings, rules.name: Rules.within(stand if isinstance(stand, list) else [], takes)}
                mend = f"Keep it within {takes.length} characters"
                yield LineProblem(draft.id, words, "warning", (rules.name,), mend=mend, settings=mended)

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        if not isinstance(value, str):
            return None
        known = world.connections.get(value)
        return [SentencePart("value", known.name) if known else SentencePart("gap", value)]

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        here = spot.world.connections.items() if setting.required else ()
        return Offered(next((key for key, known in here if known.kind in setting.needs.split()), None))


class ItemName(Control):
    """What each item of a list is called inside a block."""

    name = "name"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.value in at.around.scope:
            yield at.problem(f"“{at.value}” is a name already; call the item something else.")
