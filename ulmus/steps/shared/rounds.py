"""Rounds of a draft: an answer read, mended and measured, which of several is the best, and what another model says of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from ...core.cost import Usage
from ...core.drafting import Finding, Known, Rule, broken, measure
from ...core.drafting.answers import AnswerError, unthought, unwrapped
from ...core.drafting.mending import mend
from ...core.drafting.rules import PLAIN_ELEMENTS, OnlyThePiece
from ...core.drafting.shapes import Answer, Shape, conform, text_of
from ...core.drafting.soundness import SOUND, unsound
from ...protocols import chat, markup
from ...protocols.errors import OutsideError
from ..api import Context, StepFailed
from .models import ask

SHAPE = "shape"


@dataclass(frozen=True)
class Asked:
    """What an answer should be: its shape (``None`` for a text), the kind of text, its greatest length in tokens, and whether whole
    last sentences may be left out."""

    shape: Shape | None
    answer: Answer
    most: int
    fit: bool = False


@dataclass(frozen=True)
class Round:
    """One answer read: its text, the values in it, what was measured, and what code had to put right."""

    text: str
    values: dict[str, Any]
    findings: list[Finding]
    mended: tuple[str, ...] = ()

    def rank(self) -> tuple[int, int, int]:
        """How far it is from keeping all: no answer at all, must-rules, other rules."""
        failing = broken(self.findings)
        return sum(f.rule in (SHAPE, SOUND) for f in failing), len(failing), len(broken(self.findings, "should"))

    def told(self) -> dict[str, Any]:
        """As it is kept with the run."""
        mended = {"mended": list(self.mended)} if self.mended else {}
        return {"text": self.text, "findings": [f.model_dump() for f in self.findings], **mended}


def comes_no_nearer(before: Mapping[str, Any], after: Mapping[str, Any]) -> bool:
    """Whether an answer broke just what the one before it broke, to the same measure."""

    def failing(one: Mapping[str, Any]) -> list[tuple[str, str]]:
        return [(f["rule"], f["says"]) for f in one["findings"] if not f["kept"] and f["strength"] == "must"]

    found = failing(after)
    return "broken_off" not in before and failing(before) == found and not any(rule in (SHAPE, SOUND) for rule, _ in found)


def read_answer(answer: chat.Answer, asked: Asked, rules: Sequence[Rule], known: Known) -> Round:
    """An answer read, mended and measured; one that is no answer, or does not fit its shape, breaks that rule alone."""
    shape = asked.shape
    said = unthought(answer.text)
    if bad := unsound(said, answer.cut and shape is None, f"“Longest answer” is {asked.most} tokens"):
        return Round(said, {}, [bad])
    at_hand = replace(known, dead=None, published=None, sources=None)  # nothing that takes long while mending
    if shape is None:
        text = unwrapped(said)
        if asked.answer == "html":
            text = markup.cleaned(mend(text, [r for r in rules if isinstance(r, OnlyThePiece)]).text, PLAIN_ELEMENTS)
        mended = mend(text, rules, at_hand, asked.fit)
        text = mended.text
        values = {"html": text} if asked.answer == "html" else {}
        if asked.answer == "markdown":
            values = {"html": markup.from_markdown(text, PLAIN_ELEMENTS)}
        return Round(text, values, measure(text, rules, known), mended.told)
    try:
        values = conform(said, shape)
    except AnswerError as error:
        says = f"the answer does not fit: {error}"
        return Round(
            said, {}, [Finding(rule=SHAPE, strength="must", kept=False, says=says, reason=f"The answer does not fit: {error}.")]
        )
    values, put_right = _fields_mended(values, rules, at_hand)
    text = text_of(values, shape)
    return Round(text, values, measure(text, rules, replace(known, values=values)), put_right)


def _fields_mended(values: dict[str, Any], rules: Sequence[Rule], known: Known) -> tuple[dict[str, Any], tuple[str, ...]]:
    """The fields with rules of their own, mended each by itself, and what was done to them."""
    told: list[str] = []

    def mended(given: dict[str, Any]) -> dict[str, Any]:
        out = dict(given)
        for name in dict.fromkeys(rule.of for rule in rules if isinstance(given.get(rule.of), str)):
            of_it = [rule.model_copy(update={"of": ""}) for rule in rules if rule.of == name]
            after = mend(out[name], of_it, known)
            out[name] = after.text
            told.extend(f"{name}: {words}" for words in after.told)
        return out

    if isinstance(items := values.get("items"), list):
        return {**values, "items": [mended(item) if isinstance(item, dict) else item for item in items]}, tuple(told)
    return mended(values), tuple(told)


def second_opinion(
    text: str, sources: Mapping[str, str], model: str, context: Context
) -> tuple[list[dict[str, Any]], Usage, list[str]]:
    """What another model says of the sentences that code finds no passage for, all asked about at once; what that used, and
    words where it could not be asked: no draft fails for it."""
    from ...core.drafting import opinion as asking
    from ...core.evidence import evidence

    wanted = asking.in_question(evidence(text, sources))
    if not wanted:
        return [], Usage(), []
    system, user = asking.opinion_messages(wanted, sources)
    try:
        values, usage, _ = ask(context, model, system["content"], user["content"], asking.SHAPE)
    except StepFailed as error:
        return [], error.usage, [f"The second opinion could not be had: {error.message}"]
    except OutsideError as error:
        return [], Usage(), [f"The second opinion could not be had: {error.message}"]
    return [asdict(one) for one in asking.opinions_of(values, wanted, sources)], usage, []
