"""The page where anybody joins a list, and the one its mail leads to, where they say yes. Opening either changes nothing."""

from __future__ import annotations

from flask import request
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from ...protocols.errors import OutsideError
from ...runtime import joining, links
from ...store import tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import room
from .forms import TRAP

bp = Part("joining", __name__, url_prefix="/api", abp_tags=[Tag(name="mailings")])
LARGEST = 10_000
AN_HOUR, A_DAY, EACH_A_DAY = 10, 1000, 3
"""So many mails that ask back from one place an hour, altogether a day, and to one address a day."""


class TokenPath(BaseModel):
    token: str


class AnswerPath(TokenPath):
    answer: str


class JoinView(BaseModel):
    """A list one may join: its name, what its page says, and whether it asks for a name."""

    name: str
    words: str
    asks_name: bool


class JoinBody(Body):
    """Who wants to join. What people do not see is filled in by programs only."""

    address: str = Field(max_length=320)
    name: str = Field("", max_length=200)
    leave_this_empty: str = Field("", max_length=1000)


class YesView(BaseModel):
    """Which list an address is to be put on."""

    name: str
    address: str


@bp.get("/join/<token>", responses={200: JoinView, 404: Problem})
def look(path: TokenPath) -> Reply:
    """The list one may join."""
    with house().services.store.read() as session:
        known, sheet = _opened(session, path.token)
    asks = bool(joining.name_column([str(one["name"]) for one in sheet.columns]))
    return send(JoinView(name=sheet.name, words=known.words, asks_name=asks))


@bp.post("/join/<token>", responses={200: Fine, 404: Problem, 422: Problem, 429: Problem})
@room(LARGEST)
def ask(path: TokenPath, body: JoinBody) -> Reply:
    """Ask to join: the address is asked back by mail. The answer is the same whoever stands on the list already."""
    services, crowd = house().services, house().crowd
    if getattr(body, TRAP):
        return send(Fine())
    with services.store.read() as session:
        _opened(session, path.token)
    now = services.clock()
    if not crowd.allows(f"join {request.remote_addr}", AN_HOUR, 3600, now) or not crowd.allows(
        "join altogether", A_DAY, 86_400, now
    ):
        raise Refusal("This was asked very often from here. Please try again later.", 429)
    if not crowd.allows(f"join {body.address.strip().casefold()}", EACH_A_DAY, 86_400, now):
        return send(Fine())
    try:
        joining.ask_back(services, house().engine.outsides, path.token, body.address, body.name)
    except OutsideError as error:
        raise Refusal(error.message, 422) from None
    return send(Fine())


@bp.get("/join/<token>/<answer>", responses={200: YesView, 404: Problem})
def asked(path: AnswerPath) -> Reply:
    """What a yes would do. Looking does nothing."""
    with house().services.store.read() as session:
        _, sheet = _opened(session, path.token)
    return send(YesView(name=sheet.name, address=_read(path, sheet)[0]))


@bp.post("/join/<token>/<answer>", responses={200: Fine, 404: Problem})
@room(LARGEST)
def yes(path: AnswerPath) -> Reply:
    """Say yes: the address stands on the list from now on."""
    with house().services.store.write() as session:
        known, sheet = _opened(session, path.token)
        address, name = _read(path, sheet)
        joining.join(session, known, sheet, address, name)
    house().services.bus.publish("sheet", key=sheet.key)
    return send(Fine())


def _opened(session: Session, token: str) -> tuple[tables.MailingList, tables.Sheet]:
    try:
        return joining.opened(session, token)
    except links.LinkError as error:
        raise Refusal(str(error), 404) from None


def _read(path: AnswerPath, sheet: tables.Sheet) -> tuple[str, str]:
    try:
        of, address, name = joining.read(house().services.sealer.key, path.answer)
    except links.LinkError as error:
        raise Refusal(str(error), 404) from None
    if of != sheet.key:
        raise Refusal("This link is for another list.", 404)
    return address, name
