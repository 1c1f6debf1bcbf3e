"""Wait: for a time, until a moment, until a call or a mail arrives."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import ForCall, ForMail, WaitPlan
from ..api import Settings, Waits, setting


class WaitSettings(Settings):
    how: Literal["for", "until", "call", "mail"] = setting(
        "Wait",
        control="choice",
        default="for",
        labels={
            "for": "for a time",
            "until": "until a moment",
            "call": "until a call arrives at <<run.link>>",
            "mail": "until a mail arrives",
        },
    )
    seconds: float = setting("How long", control="duration", default=3600, told="pause", ge=1, le=31_536_000, when="how=for")
    moment: str = setting(
        "Until",
        "A time such as 17:00, or a date and time, from a value too.",
        control="slots",
        default="",
        max_length=200,
        when="how=until",
    )
    box: str = setting("Mailbox", control="connection", needs="mailbox", default="", when="how=mail")
    sender: str = setting(
        "From", "An address, or a part of one; from a value too.", control="slots", default="", max_length=200, when="how=mail"
    )
    subject: str = setting("With this in the subject", control="slots", default="", max_length=200, when="how=mail")
    longest: float = setting("At the longest", control="duration", default=86_400, ge=1, le=31_536_000, when="how=call|mail")
    otherwise: Literal["go_on", "fail"] = setting(
        "If nothing arrives",
        control="choice",
        default="go_on",
        labels={"go_on": "go on without", "fail": "fail"},
        when="how=call|mail",
    )


class WaitOutput(BaseModel):
    came: str = Field("", description="yes where something arrived, no otherwise.")
    item: dict[str, Any] = Field({}, description="What arrived.")


def plan(settings: WaitSettings) -> WaitPlan:
    """For what it waits, and how long."""
    if settings.how == "for":
        return WaitPlan(seconds=settings.seconds)
    if settings.how == "until":
        return WaitPlan(moment=settings.moment)
    awaited = ForCall() if settings.how == "call" else ForMail(settings.box, settings.sender, settings.subject)
    return WaitPlan(settings.longest, awaited=awaited, strict=settings.otherwise == "fail")


def says(output: Mapping[str, Any]) -> str:
    """Whether what was waited for came."""
    return "It arrived." if output.get("came") == "yes" and output.get("item") else "The wait is over."


def faults(settings: WaitSettings) -> list[tuple[str, str]]:
    """A moment has to be said, and a mailbox chosen."""
    if settings.how == "until" and not settings.moment.strip():
        return [("moment", "Say until when.")]
    return [("box", "Choose the mailbox to look into.")] if settings.how == "mail" and not settings.box else []


KIND = Waits(
    name="wait",
    stage="flow",
    title="Wait",
    about="Goes on later: after a time, at a moment, when another system calls back, or when a mail comes.",
    sentence="Wait {how}[ · {seconds}][ · {moment}][ · from {sender}][ · at most {longest}]",
    offer="Wait for a time, a call or a reply",
    words="pause delay sleep until later mail days hours minutes timer hold",
    called="wait",
    settings=WaitSettings,
    output=WaitOutput,
    plan=plan,
    faults=faults,
    says=says,
)
