"""Controls of drafts: the rules a text keeps to, and other ways to write it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from ... import pieces
from ...drafting.rules import Length, contradictions
from ..world import LineProblem
from .base import Checking, Control, Text

LENGTH = str(Length.model_fields["rule"].default)


class Rules(Control):
    """Rules of a draft."""

    name = "rules"

    def texts(self, value: Any) -> Iterator[Text]:
        for i, rule in enumerate(value if isinstance(value, list) else ()):
            text = rule.get("text") if isinstance(rule, dict) else getattr(rule, "text", None)
            if isinstance(text, str):
                yield (str(i), "text"), text

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        return [_rule_changed(rule, change) for rule in value] if isinstance(value, list) else value

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        return (at.problem(words) for words in contradictions(at.value))

    @staticmethod
    def keep_within(value: Any, takes: pieces.Takes) -> bool:
        """Whether rules of any shape keep a draft within what a channel takes, as it counts."""
        rules = value if isinstance(value, list) else []
        return any(
            rule.get("rule") == LENGTH
            and isinstance(most := rule.get("most"), int)
            and takes.length is not None
            and most <= takes.length
            and (rule.get("counting") or pieces.CHARACTERS.model_dump()) == takes.counting.model_dump()
            for rule in rules
            if isinstance(rule, dict)
        )

    @staticmethod
    def longest(value: Any) -> int | None:
        """The most characters that rules of any shape allow, as far as they can be read."""
        rules = value if isinstance(value, list) else []
        found = [rule.get("most") for rule in rules if isinstance(rule, dict) and rule.get("rule") == LENGTH]
        return min((most for most in found if isinstance(most, int)), default=None)

    @classmethod
    def within(cls, value: Any, takes: pieces.Takes) -> list[Any]:
        """The rules with one that keeps a draft within what a channel takes, instead of those of its length."""
        others = [rule for rule in value if not (isinstance(rule, dict) and rule.get("rule") == LENGTH)]
        counting = {} if takes.counting == pieces.CHARACTERS else {"counting": takes.counting.model_dump()}
        return [{"rule": LENGTH, "most": takes.length, **counting}, *others]


def _rule_changed(rule: Any, change: Callable[[str], str]) -> Any:
    if isinstance(rule, dict):
        return {**rule, "text": change(rule["text"])} if isinstance(rule.get("text"), str) else rule
    text = getattr(rule, "text", None)
    return rule.model_copy(update={"text": change(text)}) if isinstance(text, str) else rule


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
