"""Draft: a text written by a language model, measured by rules and sent back until it keeps them."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from pydantic import BaseModel, Field

from ...core import cost
from ...core.cost import Usage
from ...core.drafting import Rule, assemble, broken, fitted, note_message, reasons_message, with_demand
from ...core.drafting.answers import AnswerError
from ...core.drafting.demands import contradictions
from ...core.drafting.parts import ITEM
from ...core.drafting.prompts import PROMPT, Cut, material_of
from ...core.drafting.rules import BRAND, PARTS, PLAIN_ELEMENTS, of_brand
from ...core.drafting.shapes import (
    MOST_FIELDS,
    TEXTS,
    Answer,
    Shape,
    ShapeField,
    conform,
    demand_of,
    given_by,
    read_back,
    schema_of,
    so_far,
    text_of,
)
from ...core.drafting.soundness import SOUND
from ...core.drafting.trials import PromptTest, test_faults
from ...core.pieces.lengths import length
from ...core.text import words as words_of
from ...core.workflow.plans import DraftPlan
from ...protocols import chat, markup
from ...protocols.errors import Misconfigured, NothingToDo, OutsideError
from ..api import Connection, Context, Drafts, Part, Result, Settings, StepFailed, setting
from ..shared import shaped
from ..shared.models import server_of
from ..shared.rounds import SHAPE, Asked, Round, comes_no_nearer, read_answer, second_opinion

CHARACTERS_A_TOKEN = 4
LEAST_ROOM = 200
Messages = tuple[dict[str, str], ...]


class Take(Settings):
    """Another way to write the same draft: what it leaves empty is as in the draft itself."""

    name: str = Field(min_length=1, max_length=40)
    prompt: str = Field("", max_length=100_000)
    standing: str = Field("", max_length=100_000)
    model: str = Field("", max_length=60)
    temperature: float | None = Field(None, ge=0, le=2)


class Test(Settings):
    """What must hold of the draft: for a sample by its name, or for every item."""

    sample: str = Field("", max_length=300)
    holds: str = Field(max_length=1000)


class DraftSettings(Settings):
    title: str = setting(
        "What it is",
        "A short name, such as “Short post”.",
        control="text",
        default="Draft",
        min_length=1,
        max_length=80,
        told="title",
    )
    model: str = setting("Model", control="connection", needs="model", default="")
    fallback: str = setting(
        "If it fails, ask",
        "A second model, for when the first cannot be reached.",
        control="connection",
        needs="model",
        default="",
        labels={"": "no other"},
        more=True,
    )
    prompt: str = setting(
        "Prompt",
        "What to write this time, from which values.",
        control="longslots",
        takes="text@gather|text@start|text|title",
        begins="Write one short post about this. Say what is new in the first sentence, and take every fact from what stands here.",
        told="prompt",
        min_length=1,
        max_length=100_000,
    )
    standing: str = setting(
        "Who is writing, and how",
        "Who is writing, for whom, in what voice. The same every time.",
        control="longslots",
        default="",
        begins='You write for <<brand.name | otherwise "our house">>. Voice: <<brand.voice | otherwise "plain and friendly">>',
        max_length=100_000,
        told="voice",
    )
    answer: Answer = setting(
        "The answer is",
        control="choice",
        default="text",
        labels={
            "text": "a text",
            "markdown": "a text with Markdown",
            "html": "HTML",
            "fields": "named fields",
            "choice": "one of named choices",
            "list": "a list",
        },
    )
    fields: list[ShapeField] = setting(
        "Fields",
        "What the answer is made of; for a list, what each of its items is made of.",
        control="shape",
        default=[],
        max_length=MOST_FIELDS,
        when="answer=fields|list",
    )
    choices: str = setting(
        "Choices",
        "One on each line; what it means after a colon, such as “high: they sell to gardeners”.",
        control="longtext",
        default="",
        max_length=5000,
        when="answer=choice",
    )
    rules: list[Rule] = setting("Rules", "Measured on every draft.", control="rules", default=[], max_length=30)
    revisions: int = setting(
        "Revisions", "How often a draft that breaks a must-rule goes back to the model.", control="number", default=2, ge=0, le=5
    )
    fit: bool = setting(
        "Leave out last sentences to fit",
        "What is still too long loses whole sentences from its end, before the model is asked again.",
        control="switch",
        default=False,
        more=True,
    )
    temperature: float = setting("Randomness", "0 is the same every time; 1 is free.", control="number", default=0.4, ge=0, le=2)
    max_tokens: int = setting(
        "Longest answer", "In tokens; a token is about four characters.", control="number", default=600, ge=1, le=32_000
    )
    shorten: Cut = setting(
        "What is too long is cut",
        "Only fetched material is cut, where it does not fit the model.",
        control="choice",
        default="end",
        labels={"end": "from its end", "start": "from its beginning", "importance": "by what matters least for the prompt"},
        more=True,
    )
    shorten_first: str = setting(
        "Cut first",
        "Names of the lines whose material is cut before all other, such as page.",
        control="text",
        default="",
        max_length=200,
        more=True,
    )
    tests: list[Test] = setting(
        "Tests",
        "What must hold of what it gives, for a sample or for every item. Run with the proofs, and where two versions are compared.",
        control="tests",
        default=[],
        max_length=60,
        more=True,
    )
    tested: bool = setting(
        "Only live when the tests hold",
        "Going live asks that they are run on every sample that is shown, and hold.",
        control="switch",
        default=False,
        when="tests",
        more=True,
    )
    takes: list[Take] = setting(
        "Takes",
        "Other ways to write it, tried in proofs.",
        control="takes",
        needs="prompt standing model temperature",
        default=[],
        max_length=3,
    )
    opinion: str = setting(
        "Second opinion by",
        "Asked once for all sentences for which no passage of the sources is found. It has to show the passage.",
        control="connection",
        needs="model",
        default="",
        labels={"": "nobody"},
        more=True,
    )
    shared: bool = setting(
        "Share live runs between the takes",
        "Each run's draft is written by one of them, drawn by lot; what was approved unedited is counted.",
        control="switch",
        default=False,
        when="takes",
    )


class DraftOutput(BaseModel):
    text: str = Field("", description="The draft; after an approval, the approved text.")
    characters: int = Field(0, description="Its length in characters.")
    words: int = Field(0, description="Its length in words.")


def plan(settings: DraftSettings) -> DraftPlan:
    """How it is written: what a take leaves empty is as in the draft itself."""
    takes = tuple(
        (take.name, {name: value for name, value in take.model_dump(exclude={"name"}).items() if value not in ("", None)})
        for take in settings.takes
    )
    tests = tuple(PromptTest(test.holds, test.sample) for test in settings.tests)
    return DraftPlan(
        settings.title,
        tuple(settings.rules),
        takes,
        settings.shared,
        _whole(settings),
        _instruction(settings),
        tests,
        settings.tested,
    )


def _instruction(settings: DraftSettings) -> str:
    return f"{settings.standing}\n\n{settings.prompt}".strip()


def _whole(settings: DraftSettings) -> bool:
    """Whether the answer is a piece, and not values."""
    return settings.answer in ("text", *TEXTS)


def faults(settings: DraftSettings) -> list[tuple[str, str]]:
    """What is missing from its shape."""
    shape = shaped.shape_of(settings)
    given = {*DraftOutput.model_fields, *(given_by(shape) if shape is not None else {"html"})}
    tests = [PromptTest(test.holds, test.sample) for test in settings.tests]
    wrong = [("tests", words) for words in test_faults(tests, dict.fromkeys(given, "any"))]
    return [*shaped.faults(settings, DraftOutput.model_fields), *_rules_about_nothing(settings), *wrong]


def _rules_about_nothing(settings: DraftSettings) -> list[tuple[str, str]]:
    """Rules about a field that the answer does not have."""
    shape = shaped.shape_of(settings)
    known = set(PARTS)
    if shape is not None:
        known |= {"choice", "reason"} if shape.answer == "choice" else {field.name for field in shape.fields}
        known |= {ITEM} if shape.answer == "list" and not shape.fields else set()
    return [
        ("rules", f"A rule is about “{rule.of}”, and the answer has no such part.")
        for rule in settings.rules
        if rule.of and rule.of not in known
    ]


def perform(settings: DraftSettings, context: Context) -> Result:
    """Draft, measure, and send back with reasons while a must-rule is broken."""
    rules = [*settings.rules, *of_brand(context.values.get(BRAND), _whole(settings))]
    if wrong := contradictions(rules):
        raise Misconfigured(f"{wrong[0]} Change the rules.")
    connection = context.connect(settings.model, "model")
    prompt = assemble(settings.standing, settings.prompt, context.values, context.outside, rules)
    known = replace(context.workspace.known, instruction=_instruction(settings), sources=material_of(prompt.messages))
    shape = shaped.shape_of(settings)
    wanted = Asked(shape, settings.answer, settings.max_tokens, settings.fit)
    demand = demand_of(shape) if shape else TEXTS.get(settings.answer, "")
    messages = with_demand(prompt.messages, demand) if demand else prompt.messages
    if context.rewrite is not None:
        messages = note_message(messages, context.rewrite.previous, context.rewrite.notes)
    usage, room = Usage(), 0
    rounds: list[dict[str, Any]] = []
    told: list[str] = []
    asked, best = messages, Round("", {}, [])
    while True:
        messages, shortened = _fitting(messages, connection, settings, room)
        told += shortened
        try:
            answer = _ask(messages, shape, connection, settings, context)
        except chat.TooLong as error:
            # How much it takes is not told; less and less is tried, of the material only.
            room = int(sum(len(m["content"]) for m in messages) / CHARACTERS_A_TOKEN * 0.6)
            if fitted(messages, room)[0] == messages or room < LEAST_ROOM:
                raise StepFailed(error, usage, {"messages": list(messages), "rounds": rounds}) from error
            asked = fitted(asked, room)[0]
            continue
        except OutsideError as error:
            if isinstance(error, chat.Broken):
                usage += _cost(error.tokens_in, error.tokens_out, 0.0, connection)
                rounds.append({"text": error.text, "findings": [], "broken_off": error.message})
            if not settings.fallback or connection.key == settings.fallback or context.cancelled():
                raise StepFailed(error, usage, {"messages": list(messages), "rounds": rounds}) from error
            told.append(f"{connection.name} could not be asked: {error.message}")
            connection = context.connect(settings.fallback, "model")
            continue
        usage += _cost(answer.tokens_in, answer.tokens_out, answer.seconds, connection)
        read = read_answer(answer, wanted, rules, known)
        before = rounds[-1] if rounds else None
        rounds.append(read.told())
        best = read if len(rounds) == 1 or read.rank() <= best.rank() else best
        if not broken(best.findings) or len(rounds) > settings.revisions:
            break
        if before is not None and comes_no_nearer(before, rounds[-1]):
            told.append("It was not asked a third time: the second answer broke the same rules in the same way.")
            break
        if read is best:
            messages = reasons_message(messages, read.text if shape is None else answer.text, read.findings)
        else:
            messages = reasons_message(asked, best.text, best.findings, read.findings)
    failing = broken(best.findings)
    if best.mended:
        told += best.mended
    detail = {"messages": list(messages), "rounds": rounds, "missing": list(prompt.missing), "model": connection.settings.model}
    if rounds[-1] != best.told():
        detail["best"] = next(n for n, one in enumerate(rounds) if one == best.told())
    if context.take:
        detail["take"] = context.take
    if settings.opinion and best.text.strip() and not any(f.rule in (SHAPE, SOUND) for f in failing):
        gathered = {name: text for name, text in (known.sources or {}).items() if name != PROMPT}
        opinions, used, lacking = second_opinion(best.text, gathered, settings.opinion, context)
        usage += used
        told += lacking
        if opinions:
            detail["opinions"] = opinions
    if told:
        detail["told"] = list(dict.fromkeys(told))
    if failing and (not context.asked_later or any(f.rule in (SHAPE, SOUND) for f in failing)):
        says = "; ".join(f.says for f in failing)
        tries = len(rounds) - 1
        words = f"The draft still breaks a rule after {tries} revision{'s' if tries != 1 else ''}: {says}."
        raise StepFailed(OutsideError(words + " Change the prompt or the rule."), usage, detail)
    text = best.text
    return Result({**best.values, "text": text, "characters": length(text), "words": words_of(text)}, detail, usage)


def _cost(tokens_in: int, tokens_out: int, seconds: float, connection: Connection) -> Usage:
    """What a call used."""
    spent = cost.price(tokens_in, tokens_out, connection.settings.prices)
    return Usage(calls=1, tokens_in=tokens_in, tokens_out=tokens_out, cost=spent, seconds=seconds)


def revised(settings: DraftSettings, output: Mapping[str, Any], text: str | None, parts: Mapping[str, Any]) -> dict[str, Any]:
    """The draft with a person's change in every part of it: text, HTML, fields, items, counts. Raises `OutsideError`."""
    shape = shaped.shape_of(settings)
    values: dict[str, Any] = {}
    if shape is None:
        words = str(output.get("text", "")) if text is None else text.strip()
        if settings.answer == "html":
            words = markup.cleaned(words, PLAIN_ELEMENTS)
            values = {"html": words}
        elif settings.answer == "markdown":
            values = {"html": markup.from_markdown(words, PLAIN_ELEMENTS)}
    else:
        fixed = {"list": ["items"], "choice": ["choice", "reason"]}
        names = fixed.get(shape.answer, [field.name for field in shape.fields])
        try:
            if parts or text is None:
                values = conform(json.dumps({**{n: output.get(n) for n in names}, **parts}), shape)
            else:
                values = read_back(text, shape)
        except AnswerError as error:
            raise NothingToDo(f"This change does not fit what the draft is made of: {error}.") from None
        if shape.answer == "choice" and "reason" not in parts:
            values["reason"] = output.get("reason", "")
        words = text_of(values, shape)
    return {**output, **values, "text": words, "characters": length(words), "words": words_of(words)}


def parts(settings: DraftSettings, output: Mapping[str, Any]) -> list[Part]:
    """What a draft in fields or a list is made of, for changing each in its place."""
    shape = shaped.shape_of(settings)
    if shape is None:
        return []
    if shape.answer == "choice":
        return [Part("choice", "Choice", "choice", output.get("choice", ""), [word for word, _ in shape.choices])]
    if shape.answer == "list":
        return [Part("items", "Items", "items" if shape.fields else "list", output.get("items", []))]
    types = {"yes_no": "yes_no", "number": "number", "choice": "choice", "list": "list"}
    return [
        Part(f.name, f.name.replace("_", " ").capitalize(), types.get(f.type, "text"), output.get(f.name), list(f.choices))
        for f in shape.fields
        if f.type != "any"
    ]


def _fitting(messages: Messages, connection: Connection, settings: DraftSettings, room: int) -> tuple[Messages, list[str]]:
    """The messages as the model can take them (in `room` tokens, where that was found out), and what was shortened."""
    most = connection.settings.context
    room = room or (max(LEAST_ROOM, most - settings.max_tokens) if most else 0)
    first = [name for name in re.split(r"[\s,;]+", settings.shorten_first) if name]
    return fitted(messages, room, settings.shorten, first) if room else (messages, [])


def _ask(messages: Messages, shape: Shape | None, connection: Connection, settings: DraftSettings, context: Context) -> chat.Answer:
    return chat.complete(
        context.web,
        server_of(connection),
        messages,
        temperature=settings.temperature,
        max_tokens=settings.max_tokens,
        schema=schema_of(shape) if shape else None,
        on_text=(lambda text: context.progress(so_far(text, shape))) if shape else context.progress,
        cancelled=context.cancelled,
    )


KIND = Drafts(
    name="draft",
    stage="draft",
    title="Draft",
    about="Has a language model write a text. Rules are measured in code; what breaks one goes back with the reasons.",
    sentence="Draft “{title}” with {model}",
    offer="Draft with {model}",
    words="write compose prompt model post summary newsletter article teaser ai llm generate text summarise summarize sum up translate rewrite rephrase shorten extract classify categorise categorize label sentiment score headline title caption tags keywords bullet points idea outline reply copy wording",
    called="draft",
    common=1.5,
    settings=DraftSettings,
    output=DraftOutput,
    plan=plan,
    perform=perform,
    gives=shaped.gives,
    faults=faults,
    not_in_results=("takes", "shared", "tests", "tested"),
    revised=revised,
    parts=parts,
    brief="{text}",
)
