"""The house itself: why it is held, what it would do once it is let go, what is wrong with its data."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any, Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...runtime import holding
from ...steps import registry
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("house", __name__, url_prefix="/api/house", abp_tags=[Tag(name="house", description="The house itself")])
HELD = "This house is a copy and is held: nothing can be changed before an owner has started it on Today."


class HoldView(BaseModel):
    """Why the house is held: a backup made at `since` was restored, or it was moved after it was last used then."""

    why: Literal["restored", "moved"]
    since: float


class LeftOutView(BaseModel):
    """A kind that another distribution brings and that cannot be used here: its name, whose it is, and why."""

    name: str
    distribution: str
    why: str


class HouseView(BaseModel):
    """The house as it stands: held or not, what is wrong with it, in words, kinds that were left out, and whether workers carry out
    steps elsewhere."""

    hold: HoldView | None = None
    troubles: list[str] = []
    left_out: list[LeftOutView] = []
    workers: bool = False


class SendsView(BaseModel):
    piece: int
    run: int
    title: str
    text: str
    channel: str
    can_be_asked: bool


class CarriesView(BaseModel):
    workflow: int
    name: str
    runs: int


class HandsOutView(BaseModel):
    workflow: int
    name: str
    items: int
    titles: list[str]
    why: str


class HeldView(BaseModel):
    """What the house would do once it is let go."""

    sends: list[SendsView]
    more_sends: int
    carries: list[CarriesView]
    hands_out: list[HandsOutView]


class LetGo(Body):
    """`copy`: the original may have gone on since. `run_for`: workflows whose new items are run for; the others pass over."""

    is_copy: bool = Field(alias="copy")
    run_for: list[int] = Field([], max_length=10_000)


def house_view() -> HouseView:
    """The house as it stands."""
    hold = house().engine.hold
    view = HoldView(why=hold.why, since=hold.since) if hold is not None else None
    left_out = [LeftOutView(**vars(trouble)) for trouble in registry.troubles()]
    elsewhere, troubles = house().elsewhere, house().services.health.troubles()
    if elsewhere is not None and (words := elsewhere.trouble()):
        troubles = [*troubles, words]
    return HouseView(hold=view, troubles=troubles, left_out=left_out, workers=elsewhere is not None)


@bp.get("", responses={200: HouseView})
@needs("reader")
def show() -> Reply:
    """Whether the house is held, and what is wrong with its data."""
    return send(house_view())


@bp.get("/held", responses={200: HeldView})
@needs("owner")
def held() -> Reply:
    """What the house would send, run and hand out again. Looks at the starts of live workflows."""
    if house().engine.hold is None:
        raise Refusal("This house is not held.", 409)
    told: Any = asdict(holding.overview(house().engine))
    return send(HeldView.model_validate(told))


@bp.post("/let-go", responses={200: Fine, 409: Problem})
@needs("owner")
def let_go(body: LetGo) -> Reply:
    """Let the house go on."""
    try:
        holding.let_go(house().engine, g.user.email, body.is_copy, body.run_for)
    except ValueError as error:
        raise Refusal(str(error), 409) from None
    return send(Fine())
