"""What settings are written with: a field and its control, and the settings that many kinds of step and connection share."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, Literal, Self

from pydantic import BaseModel, Field, model_validator
from pydantic_core import PydanticUndefined

from ..core.people import Needs
from ..core.workflow.plans import AskPlan, PollPlan, Then
from ..protocols.jsonpath import check


def batched(element: Mapping[str, Any], settings: Mapping[str, Any]) -> dict[str, Any]:
    """The scope of a start whose items may come together: one item's values, or all of them as a list."""
    if settings.get("runs") == "together":
        return {**dict.fromkeys(element, "any"), "items": [dict(element)], "count": "number", "title": "text"}
    return dict(element)


def setting(
    title: str,
    about: str = "",
    *,
    control: str,
    default: Any = PydanticUndefined,
    needs: str = "",
    labels: Mapping[str, str] | None = None,
    more: bool = False,
    when: str = "",
    takes: str = "",
    begins: Any = None,
    told: str = "",
    last: bool = False,
    **limits: Any,
) -> Any:
    """A settings field with its control (see `ulmus.core.workflow.controls`).

    `labels` are the words for a choice; `more` puts the field out of the way until asked for; `when` shows it only
    while another setting has one of some values, written ``name=value`` or ``name=value|other``, or while it has any, written ``name``; `takes` are the values a
    new line begins with there, `begins` what it begins with by itself (words before such values, in a text); `last` puts it behind all others; `told` says which words of a description fill it in.
    """
    extra: dict[str, Any] = {"control": control}
    named = (
        ("needs", needs),
        ("labels", dict(labels or {})),
        ("more", more),
        ("when", when),
        ("takes", takes),
        ("begins", begins),
        ("told", told),
        ("last", last),
    )
    for name, value in named:
        if value:
            extra[name] = value
    return Field(default, title=title, description=about, json_schema_extra=extra, **limits)


def told_by_mail(when: str = "") -> Any:
    """The setting of lines that put something before a person: by which mail server they are told of it."""
    return setting(
        "Tell them by mail through",
        "Empty: colleagues find it under Approvals.",
        control="connection",
        needs="mail",
        default="",
        labels={"": "those without an account only"},
        when=when,
    )


def answered_by_mail() -> Any:
    """The setting of lines that put something before a person: into which mailbox their answers by mail come."""
    return setting(
        "Answers by mail come into",
        "A reply of theirs counts: a plain yes, or what should be different. Empty: only the link does.",
        control="connection",
        needs="mailbox",
        default="",
        labels={"": "no mailbox"},
        when="mail",
        more=True,
    )


class Settings(BaseModel):
    """Base of all settings: unknown fields are refused."""

    model_config = {"extra": "forbid", "frozen": True}


def people(title: str, about: str = "Mail addresses, or slots with them. They need no account.", **more: Any) -> Any:
    """A setting that names people (see `core.people`)."""
    return setting(title, about, control="people", max_length=1000, **more)


class _Asked(Settings):
    who: str = people("Who decides", min_length=1)


class _Several(Settings):
    needs: Needs = setting(
        "Where there are several",
        control="choice",
        default="one",
        labels={
            "one": "any one of them decides",
            "all": "all of them must say yes",
            "order": "one after another, each must say yes",
        },
        more=True,
    )


class _Told(Settings):
    mail: str = told_by_mail()
    replies: str = answered_by_mail()
    outside: bool = setting(
        "Mail people without an account in any case",
        "Where nothing is chosen above: by the house’s mail server, where there is one only.",
        control="switch",
        default=True,
        more=True,
    )
    room: str = setting(
        "Tell them in the room",
        "It is shown there with its link. Where the room shows real addresses, an answer to it there counts.",
        control="connection",
        needs="room chatroom",
        default="",
        labels={"": "in no room"},
        more=True,
    )
    remind: float = setting(
        "Remind them each",
        "So long as it is not answered, three times at most. 0: never.",
        control="duration",
        default=0,
        ge=0,
        le=2_678_400,
        when="mail",
        more=True,
    )
    within: float = setting(
        "An answer is due after", "0: there is no hurry.", control="duration", default=0, ge=0, le=31_536_000, more=True
    )


_THEN = {
    "wait": "wait on, and say so",
    "approve": "go on as if approved",
    "decline": "leave it",
    "other": "ask another",
}


def _then(*may: Then) -> Any:
    labels: dict[str, str] = {name: _THEN[name] for name in may}
    return setting("When nobody answered by then", control="choice", default="wait", labels=labels, when="within", more=True)


class _ThenAny(Settings):
    then: Then = _then("wait", "approve", "decline", "other")


class _ThenQuestion(Settings):
    then: Literal["wait", "decline", "other"] = _then("wait", "decline", "other")


class _Other(Settings):
    other: str = people("Ask then", default="", when="then=other", more=True)

    def asking(self, **what: Any) -> AskPlan:
        """The plan of a line that asks, with what is asked."""
        named = {"who", "needs", "mail", "outside", "replies", "room", "remind", "within", "then", "other"} & type(
            self
        ).model_fields.keys()
        return AskPlan(**{name: getattr(self, name) for name in named}, **what)


class AsksPeople(_Other, _ThenAny, _Told, _Several, _Asked):
    """Whom a line asks for a yes, how they are told, and what happens where nobody answers. Settings come in the order of the last
    base to the first."""


class AsksQuestion(_Other, _ThenQuestion, _Told, _Asked):
    """The same for a question: one answer is enough, since two may differ; and nobody’s silence is one."""


LAST: dict[str, Any] = {"last": True}
"""Of a connection's setting: it stands behind those of its kind."""
WITH_OAUTH: dict[str, Any] = {"last": True, "with": "oauth"}
"""The same, and it is shown only where the connection signs in by OAuth 2."""
LIMITS: dict[str, Any] = {**LAST, "under": "Limits and quotas"}
"""The same, and it stands under a heading that is opened when it is wanted."""
PIECES: dict[str, Any] = {**LIMITS, "of": "pieces"}
"""The same, of a connection that pieces go out through."""
NUMBERS: dict[str, Any] = {**LAST, "under": "What it tells of a piece"}


class Limited(Settings):
    """What a connection can be told about going easy on the other side."""

    at_once: int = Field(
        64, title="At most at a time", description="Calls under way; more wait their turn.", ge=1, le=64, json_schema_extra=LIMITS
    )
    a_minute: int | None = Field(
        None, title="At most a minute", description="Empty where there is no limit.", ge=1, le=100_000, json_schema_extra=LIMITS
    )
    pieces_a_day: int | None = Field(
        None,
        title="Pieces a day",
        description="So many go out through it, a letter of a mailing counting as one; then a person is asked. Empty: no limit.",
        ge=1,
        le=10_000_000,
        json_schema_extra=PIECES,
    )
    pieces_a_month: int | None = Field(
        None, title="Pieces a month", description="The same for a month.", ge=1, le=100_000_000, json_schema_extra=PIECES
    )


class Asked(Settings):
    """How often a connection that is asked for answers may be asked; then a person is asked how to go on."""

    calls_a_day: int | None = Field(
        None,
        title="Calls a day",
        description="So many times it is asked, in proofs too; then runs pause, and a person is asked. Empty: no limit.",
        ge=1,
        le=100_000_000,
        json_schema_extra=LIMITS,
    )
    calls_a_month: int | None = Field(
        None, title="Calls a month", description="The same for a month.", ge=1, le=1_000_000_000, json_schema_extra=LIMITS
    )


class Metered(Asked):
    """The same for one that counts tokens."""

    tokens_a_day: int | None = Field(
        None,
        title="Tokens a day",
        description="Read and written together. Empty: no limit.",
        ge=1,
        le=1_000_000_000_000,
        json_schema_extra=LIMITS,
    )
    tokens_a_month: int | None = Field(
        None, title="Tokens a month", description="The same for a month.", ge=1, le=10_000_000_000_000, json_schema_extra=LIMITS
    )


_AFTER = re.compile(r"(\d+(?:\.\d+)?)\s*(hour|day|week)s?", re.IGNORECASE)
_SECONDS = {"hour": 3600.0, "day": 86_400.0, "week": 604_800.0}
LONGEST_AFTER = 366 * 86_400.0


class Numbered(Settings):
    """Where a channel tells what came of a piece in numbers, and when it is asked for them."""

    numbers_at: str = Field(
        "",
        title="Where it tells a piece’s numbers",
        description="By GET, such as /api/stats?of=<<link>>; <<link>> is the piece’s address, <<id>> its last part. Empty: it is not asked.",
        max_length=1000,
        json_schema_extra=NUMBERS,
    )
    numbers: str = Field(
        "",
        title="Its numbers",
        description="A line each: a name, and the JSONPath (RFC 9535) it stands at, such as likes: $.likes.",
        max_length=2000,
        json_schema_extra=NUMBERS,
    )
    numbers_after: str = Field(
        "1 day, 7 days",
        title="Asked for them after",
        description="Such as 3 hours, 1 day, 7 days; what it says then stands beside the piece.",
        max_length=200,
        json_schema_extra=NUMBERS,
    )

    @property
    def paths(self) -> dict[str, str]:
        """The JSONPath of each number, by its name; none where the channel is not asked."""
        if not self.numbers_at.strip():
            return {}
        pairs = (line.partition(":") for line in self.numbers.splitlines() if line.strip())
        return {name.strip(): path.strip() for name, _, path in pairs}

    @property
    def delays(self) -> tuple[float, ...]:
        """After how many seconds it is asked."""
        return tuple(sorted({float(n) * _SECONDS[word.lower()] for n, word in _AFTER.findall(self.numbers_after)}))

    @model_validator(mode="after")
    def _asks_something(self) -> Self:
        if not self.numbers_at.strip():
            return self
        if not self.paths:
            raise ValueError("say which numbers it tells: a line each, such as likes: $.likes")
        for name, path in self.paths.items():
            if not name or not path or (words := check(path)):
                raise ValueError(words if name and path else "write each number as its name, a colon and a JSONPath")
        left = re.sub(r"\band\b", "", _AFTER.sub("", self.numbers_after)).strip(" ,;")
        if left or not self.delays or self.delays[-1] > LONGEST_AFTER:
            raise ValueError("write after how long as hours, days or weeks, such as 1 day, 7 days")
        return self


class Granted(Limited):
    """What a connection can be told about signing in by OAuth 2 (RFC 6749)."""

    oauth: Literal["no", "client_credentials", "authorization_code"] = Field(
        "no",
        title="OAuth 2",
        description="Where the other side gives tokens instead of a key that is typed in.",
        json_schema_extra={
            **LAST,
            "labels": {
                "no": "no",
                "client_credentials": "as a program (client credentials)",
                "authorization_code": "as a person, who agrees there (authorization code)",
            },
        },
    )
    token_at: str = Field("", title="Address that gives tokens", max_length=500, json_schema_extra=WITH_OAUTH)
    authorize_at: str = Field(
        "",
        title="Address where a person agrees",
        description="Only where a person agrees.",
        max_length=500,
        json_schema_extra=WITH_OAUTH,
    )
    client_id: str = Field("", title="Client identity", max_length=300, json_schema_extra=WITH_OAUTH)
    scope: str = Field("", title="Scopes", description="Parted by spaces.", max_length=1000, json_schema_extra=WITH_OAUTH)

    @model_validator(mode="after")
    def _complete(self) -> Granted:
        missing = [name for name in ("token_at", "client_id") if self.oauth != "no" and not getattr(self, name)]
        missing += ["authorize_at"] if self.oauth == "authorization_code" and not self.authorize_at else []
        if missing:
            titles = ", ".join(f"“{type(self).model_fields[name].title}”" for name in missing)
            raise ValueError(f"OAuth 2 also needs {titles}")
        return self


class Timely(Settings):
    """Settings of a line whose piece may go out later. Times are those of the page, in its zone."""

    goes: Literal["now", "at", "place"] = setting(
        "It goes out",
        control="choice",
        default="now",
        labels={"now": "at once", "at": "at a time", "place": "at the channel’s next free place"},
        more=True,
        last=True,
    )
    goes_at: str = setting(
        "At",
        "A time such as 17:00, or a date and time, from a value too.",
        control="slots",
        default="",
        max_length=200,
        when="goes=at",
        more=True,
        last=True,
    )
    not_before: str = setting(
        "Not before",
        "A time, or a date and time; may be empty.",
        control="slots",
        default="",
        max_length=200,
        more=True,
        last=True,
    )
    not_after: str = setting(
        "Not after",
        "The same. What is late then waits for a person.",
        control="slots",
        default="",
        max_length=200,
        more=True,
        last=True,
    )


class Batched(Settings):
    """Settings of a start whose polls may give several items."""

    runs: Literal["each", "together"] = setting(
        "Several at once",
        "One run for each, or one run with all of them as a list.",
        control="choice",
        default="each",
        labels={"each": "a run each", "together": "one run with all of them"},
        more=True,
    )
    most: int = setting(
        "At most",
        "New items taken at one look; the rest wait for the next.",
        control="number",
        default=50,
        ge=1,
        le=1000,
        more=True,
    )

    def polling(self, every: float) -> PollPlan:
        """How such a start listens."""
        return PollPlan(every=every, most=self.most, together=self.runs == "together")
