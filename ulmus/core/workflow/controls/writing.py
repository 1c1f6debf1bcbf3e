"""Controls of drafts: the rules a text keeps to, and other ways to write it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from ... import pieces
from ...drafting.demands import contradictions
from ...drafting.filling import texts_in, with_texts
from ...drafting.rules import Length
from ..saying import Heard, Said, rules_in
from ..world import LineProblem
from .base import Checking, Control, Setting, Text

LENGTH = str(Length.model_fields["rule"].default)


class Rules(Control):
    """Rules of a draft."""

    name = "rules"

    def texts(self, value: Any) -> Iterator[Text]:
        for i, rule in enumerate(value if isinstance(value, list) else ()):
            for place, text in texts_in(rule):
                yield (str(i), *place), text

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        return [with_texts(rule, change) for rule in value] if isinstance(value, list) else value

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        return (at.problem(words) for words in contradictions(at.value))

    def heard(self, said: Said, setting: Setting, value: Any) -> Heard | None:
        stand = value if isinstance(value, list) else []
        new = rules_in(said.words)
        kept = [rule for rule in stand if not isinstance(rule, dict) or rule.get("rule") not in {one["rule"] for one in new}]
        return Heard([*kept, *new]) if new else None

    @staticmethod
    def keep_within(value: Any, takes: pieces.Takes) -> bool:
        """Whether rules of any shape keep a draft within what a channel takes, as it counts."""
        rules = value if isinstance(value, list) else []
        return any(
            rule.get("rule") == LENGTH
            and not rule.get("of")
            and isinstance(most := rule.get("most"), int)
            and takes.length is not None
            and most <= takes.length
            and _alike(rule.get("counting") or {}, takes.counting)
            for rule in rules
            if isinstance(rule, dict)
        )

    @staticmethod
    def longest(value: Any) -> int | None:
        """The most characters that rules of any shape allow, as far as they can be read."""
        rules = value if isinstance(value, list) else []
        whole = [rule for rule in rules if isinstance(rule, dict) and rule.get("rule") == LENGTH and not rule.get("of")]
        found = [rule.get("most") for rule in whole]
        return min((most for most in found if isinstance(most, int)), default=None)

    @classmethod
    def within(cls, value: Any, takes: pieces.Takes) -> list[Any]:
        """The rules with one that keeps a draft within what a channel takes, instead of those of its length."""
        others = [rule for rule in value if not (isinstance(rule, dict) and rule.get("rule") == LENGTH and not rule.get("of"))]
        counting = {} if takes.counting == pieces.CHARACTERS else {"counting": takes.counting.model_dump()}
        return [{"rule": LENGTH, "most": takes.length, **counting}, *others]


def _alike(counting: Any, channels: pieces.Counting) -> bool:
    """Whether a rule counts as a channel does. Characters one sees and code points are the same but in seldom signs, and each piece is
    measured as its channel counts before anybody is asked."""
    here = {**pieces.CHARACTERS.model_dump(), **counting} if isinstance(counting, dict) else {}
    there = channels.model_dump()
    plain = {"characters", "graphemes"}
    return {**here, "unit": ""} == {**there, "unit": ""} and (
        here.get("unit") == there["unit"] or {here.get("unit"), there["unit"]} == plain
    )


class Tests(Control):
    """What must hold of what a line gives, for samples by their names (see `drafting.trials`); read when it is tested."""

    name = "tests"


class Takes(Control):
    """Other ways to write a draft: each a name, and settings laid over the line's own (``needs`` says which, parted by blanks)."""

    name = "takes"
    as_written = True

    def texts(self, value: Any) -> Iterator[Text]:
        for i, take in enumerate(value if isinstance(value, list) else ()):
            for part, text in take.items() if isinstance(take, dict) else ():
                if isinstance(text, str) and part != "name":
                    yield (str(i), part), text

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        if not isinstance(value, list):
            return value
        return [
            {part: change(text) if isinstance(text, str) and part != "name" else text for part, text in take.items()}
            if isinstance(take, dict)
            else take
            for take in value
        ]
