"""Assignment: a goal in plain words, the lines inside as tools, and limits. The model decides what to do next."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core import cost, slots
from ...core.cost import Usage
from ...core.drafting.answers import AnswerError, read_json
from ...core.drafting.assignment import brief_of, checked, conversation, function_of, read_use, sources_of
from ...core.drafting.prompts import fitted, marked
from ...core.drafting.shapes import MOST_FIELDS, ShapeField, conform, demand_of, text_of
from ...core.drafting.soundness import unsound
from ...core.flow import CALLS
from ...core.workflow.plans import AskPlan, AssignmentPlan
from ...protocols import chat
from ...protocols.errors import BadAnswer, OutsideError, TooLarge
from ..api import Assigns, Connection, Context, Result, Settings, StepFailed, Tool, setting, told_by_mail
from ..shared import shaped
from ..shared.models import TRIES, server_of

MOST_AT_ONCE = 4


class AssignmentSettings(Settings):
    title: str = setting("What it is", "A short name, such as “Find stories”.", control="text", default="Assignment", max_length=80)
    model: str = setting("Model", control="connection", needs="model", default="")
    goal: str = setting(
        "Goal",
        "What you want in the end, in plain words. The lines inside are what it may use.",
        control="longslots",
        min_length=1,
        max_length=100_000,
    )
    standing: str = setting(
        "Who is working, and how",
        "Who is working, for whom, and how. The same every time.",
        control="longslots",
        default="",
        max_length=100_000,
    )
    answer: Literal["text", "fields", "choice", "list"] = setting(
        "The answer is",
        control="choice",
        default="text",
        labels={"text": "a text", "fields": "named fields", "choice": "one of named choices", "list": "a list"},
    )
    fields: list[ShapeField] = setting(
        "Fields",
        "What the answer is made of; for a list, what each of its items is made of.",
        control="shape",
        default=[],
        max_length=MOST_FIELDS,
        when="answer=fields|list",
    )
    choices: str = setting("Choices", "One on each line.", control="longtext", default="", max_length=5000, when="answer=choice")
    permission: Literal["each", "first", "never"] = setting(
        "Before it publishes or records",
        "Tools that act on the outside or on sheets ask you before they do.",
        control="choice",
        default="each",
        labels={
            "each": "ask every time",
            "first": "ask the first time; the same act on the same place may be done again",
            "never": "do not ask",
        },
    )
    who: str = setting("Who decides", "A mail address.", control="email", default="", max_length=200, when="permission=first|each")
    mail: str = told_by_mail(when="permission=first|each")
    sites: str = setting(
        "Sites it may read",
        "One on each line, such as gov.example. Besides these, what its searches find; nothing else.",
        control="longtext",
        default="",
        max_length=5000,
    )
    rounds: int = setting("Rounds, at most", "How often it may think again.", control="number", default=8, ge=1, le=50)
    calls: int = setting("Uses of tools, at most", control="number", default=20, ge=1, le=200)
    money: float = setting("Money, at most", "For the whole assignment.", control="number", default=1.0, ge=0.01, le=1000)
    temperature: float = setting("Randomness", control="number", default=0.2, ge=0, le=2, more=True)
    max_tokens: int = setting("Longest answer", "In tokens.", control="number", default=1200, ge=1, le=32_000, more=True)


class SourceOutput(BaseModel):
    title: str = Field("", description="What it is called.")
    link: str = Field("", description="Its address.")


class AssignmentOutput(BaseModel):
    text: str = Field("", description="The answer.")
    sources: list[SourceOutput] = Field(default_factory=list, description="What its tools found, with links.")
    used: int = Field(0, description="How often it used a tool.")
    rounds: int = Field(0, description="How often it thought.")


def faults(settings: AssignmentSettings) -> list[tuple[str, str]]:
    """What is missing."""
    found = shaped.faults(settings, AssignmentOutput.model_fields)
    if settings.permission != "never" and not settings.who.strip():
        found.append(("who", "Say who decides before it acts."))
    return found


def perform(settings: AssignmentSettings, context: Context) -> Result:
    """Think one round: which tools to use next, or the answer. What its tools gave comes with the context."""
    connection = context.connect(settings.model, "model")
    if context.spent >= settings.money:
        spent = f"{context.spent:.4f}".rstrip("0")
        raise TooLarge(f"The assignment has cost {spent}; its limit is {settings.money:g}. Raise it, or narrow the goal.")
    rounds = len({turn.round for turn in context.talk}) + 1
    left = settings.calls - len(context.talk)
    last = "You have used all your rounds." if rounds >= settings.rounds else "You may use no more tools." if left <= 0 else ""
    thinking = _Thinking(settings, context, connection, min(left, MOST_AT_ONCE), last)
    uses, text, values = thinking.think()
    talk = [brief_of(turn) for turn in context.talk]
    detail = {"messages": thinking.messages, "talk": talk, "model": connection.settings.model, "round": rounds}
    if thinking.told:
        detail["told"] = thinking.told
    if uses:
        return Result({"text": text, CALLS: uses}, detail, thinking.usage)
    output = {**values, "text": text, "sources": sources_of(context.talk), "used": len(context.talk), "rounds": rounds}
    return Result(output, detail, thinking.usage)


class _Thinking:
    """One round: asks the model, and asks again where the answer cannot be used."""

    def __init__(self, settings: AssignmentSettings, context: Context, connection: Connection, most: int, last: str) -> None:
        self.settings, self.context, self.connection, self.most, self.last = settings, context, connection, most, last
        self.shape = shaped.shape_of(settings)
        self.usage = Usage()
        self.told: list[str] = []
        self.messages: list[dict[str, Any]] = []

    def think(self) -> tuple[list[dict[str, Any]], str, dict[str, Any]]:
        """The tools to use next, or none; the text; the values of the answer. Raises `StepFailed`."""
        try:
            return self._talk(in_words=False)
        except chat.NoTools:
            self.told.append("This model’s server knows no tools; they are told to it in words.")
            return self._talk(in_words=True)

    def _talk(self, in_words: bool) -> tuple[list[dict[str, Any]], str, dict[str, Any]]:
        tools: Sequence[Tool] = () if self.last else self.context.tools
        demand = demand_of(self.shape) if self.shape else ""
        goal, standing = self._filled(self.settings.goal), self._filled(self.settings.standing)
        messages = conversation(standing, goal, tools, self.context.talk, demand, in_words=in_words, last=self.last)
        most = self.connection.settings.context
        fitting, shortened = fitted(messages, max(200, most - self.settings.max_tokens)) if most else (messages, [])
        self.messages, self.told = list(fitting), [*self.told, *shortened]
        wrong = ""
        for _ in range(TRIES):
            answer = self._ask([] if in_words else [function_of(tool) for tool in tools])
            try:
                uses = self._uses(answer, tools, in_words)
                if uses:
                    return uses, "" if in_words else answer.text, {}
                if bad := unsound(answer.text, answer.cut):
                    raise AnswerError(bad.says)
                if self.shape is None:
                    return [], answer.text, {}
                values = conform(answer.text, self.shape)
                return [], text_of(values, self.shape), values
            except AnswerError as error:
                wrong = str(error)
                said = answer.text or "(a tool)"
                self.messages += [
                    {"role": "assistant", "content": said},
                    {"role": "user", "content": f"That cannot be used: {wrong}. Try again."},
                ]
        raise StepFailed(BadAnswer(f"The model’s answer cannot be used: {wrong}."), self.usage, {"messages": self.messages})

    def _uses(self, answer: chat.Answer, tools: Sequence[Tool], in_words: bool) -> list[dict[str, Any]]:
        if in_words:
            use = read_use(answer.text, tools) if tools else None
            return [use] if use else []
        uses = []
        for call in answer.calls[: self.most]:
            given = read_json(call.arguments or "{}")
            uses.append(checked(call.name, given if isinstance(given, dict) else {}, tools))
        return uses

    def _ask(self, functions: list[dict[str, Any]]) -> chat.Answer:
        try:
            answer = chat.complete(
                self.context.web,
                server_of(self.connection),
                self.messages,
                temperature=self.settings.temperature,
                max_tokens=self.settings.max_tokens,
                tools=functions,
                on_text=self.context.progress,
                cancelled=self.context.cancelled,
            )
        except chat.NoTools:
            raise
        except OutsideError as error:
            if isinstance(error, chat.Broken):
                spent = cost.price(error.tokens_in, error.tokens_out, self.connection.settings.prices)
                self.usage += Usage(calls=1, tokens_in=error.tokens_in, tokens_out=error.tokens_out, cost=spent)
            raise StepFailed(error, self.usage, {"messages": self.messages}) from error
        spent = cost.price(answer.tokens_in, answer.tokens_out, self.connection.settings.prices)
        self.usage += Usage(calls=1, tokens_in=answer.tokens_in, tokens_out=answer.tokens_out, cost=spent, seconds=answer.seconds)
        return answer

    def _filled(self, text: str) -> str:
        def wrap(path: slots.Path, value: str) -> str:
            return marked(str(path), value) if path.root in self.context.outside else value

        return slots.render(slots.parse(text), self.context.values, wrap=wrap).text


def names_hosts(settings: AssignmentSettings) -> tuple[str, ...]:
    """The sites its tools may read."""
    return tuple(one for one in re.split(r"[\s,]+", settings.sites) if one)


KIND = Assigns(
    name="assignment",
    stage="draft",
    title="Assignment",
    about="Gives a model a goal in plain words and tools to reach it with: the lines inside. It decides which to use, in what order; everything it does is shown, and it asks before it acts.",
    sentence="Assignment “{title}”, at most {rounds} rounds, with:",
    offer="Give {model} an assignment with tools",
    words="agent assistant open goal tools research by itself ai autonomous",
    called="assignment",
    settings=AssignmentSettings,
    output=AssignmentOutput,
    plan=lambda s: AssignmentPlan(s.permission, AskPlan(who=s.who, mail=s.mail)),
    perform=perform,
    gives=shaped.gives,
    faults=faults,
    names_hosts=names_hosts,
    thinks=True,
    brief="{text}",
)
