"""Start: another system calls (a webhook)."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import CallInPlan
from ..api import Settings, Start, setting


class CallInSettings(Settings):
    proof: Literal["link", "signed"] = setting(
        "Callers prove themselves by",
        control="choice",
        default="link",
        labels={"link": "knowing the address", "signed": "signing each call"},
    )
    title: str = setting(
        "Name of the run", "From the call, such as <<call.body.name>>.", control="text", default="", max_length=200, more=True
    )
    known_by: str = setting(
        "Known by",
        "A value in the call that is the same when it is delivered again, such as <<call.body.id>>: the second begins no run.",
        control="text",
        default="",
        max_length=200,
        more=True,
    )
    answer: Literal["now", "result"] = setting(
        "Answer",
        control="choice",
        default="now",
        labels={"now": "at once, that it was taken", "result": "with the result, once it is there"},
    )
    seconds: float = setting("Wait for the result at most", control="duration", default=25, ge=1, le=55, when="answer=result")
    reply: str = setting(
        "The result",
        "The values of this line are given back.",
        control="line",
        default="",
        max_length=40,
        labels={"": "the last text"},
        when="answer=result",
    )


class CallInOutput(BaseModel):
    body: dict[str, Any] = Field({}, description="What the call brought, from JSON or form fields.")
    query: dict[str, Any] = Field({}, description="The values in its address.")
    arrived: str = Field("", description="When it arrived (ISO 8601, UTC).")
    title: str = Field("", description="What the run is called.")


KIND = Start(
    name="call",
    stage="start",
    title="A call arrives",
    about="Starts when another system calls the workflow’s own address (a webhook), with JSON or form fields.",
    sentence="When a call arrives[, answered {answer}]",
    offer="A call from another system",
    words="webhook http api post json",
    called="call",
    common=0.2,
    settings=CallInSettings,
    output=CallInOutput,
    plan=lambda s: CallInPlan(
        signed=s.proof == "signed",
        title=s.title,
        known_by=s.known_by,
        answers_later=s.answer == "result",
        seconds=s.seconds,
        reply=s.reply,
    ),
    gives_outside=True,
    can_feed_itself=True,
    brief="{title}",
)
