"""The page behind a signed link, for a person who has no account. Looking decides nothing."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import load_only

from ...core.pieces import attached
from ...readmodels.approvals import AnswerForm, ComposedView, Measured, NoteView, PartOfDraft, Source, approval_view
from ...readmodels.models import ChangeView, FindingView, VersionView
from ...readmodels.queue import AskedPerson, TakenYes
from ...runtime import links
from ...runtime.asking import people
from ...store import tables
from ..http.base import Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..http.kept import send_kept
from ..schemas.answers import Answer, Text, measure, not_taken, take
from ..schemas.wants import Times, set_times, wants_of
from ..security.auth import room

bp = Part("letters", __name__, url_prefix="/api", abp_tags=[Tag(name="approvals")])
LARGEST_LETTER = 1_000_000
LARGEST_WANTS = 10_000


class TokenPath(BaseModel):
    token: str


class LetterFilePath(TokenPath):
    sha: str = Field(pattern="^[0-9a-f]{64}$")


class AskedByMail(BaseModel):
    """What the page behind a signed link shows."""

    title: str
    text: str
    state: str
    round: int
    last: bool
    limit: int | None
    channel: str
    findings: list[FindingView]
    versions: list[VersionView]
    notes: list[NoteView]
    sources: list[Source]
    decided_by: str
    act: str = ""
    question: bool = False
    broken: list[str] = []
    despite: list[str] = []
    parts: list[PartOfDraft] = []
    pieces: list[ComposedView] = []
    asks: AnswerForm = AnswerForm()
    others: list[PartOfDraft] = []
    rewrite: list[ChangeView] = []
    people: list[AskedPerson] = []
    needs: str = "one"
    brand_name: str = ""
    workflow_name: str = ""
    goes_at: float | None = None
    deadline_at: float | None = None
    deadline_then: str = ""
    taken: TakenYes | None = None
    me: str = ""
    waiting: int = 0


@bp.get("/letters/<token>", responses={200: AskedByMail, 410: Problem})
def letter(path: TokenPath) -> Reply:
    """The draft behind a signed link. Looking decides nothing."""
    number, who = _whose(path.token)
    full = approval_view(house().services, house().engine, house().journals, number, who)
    told = full.model_dump(include=set(AskedByMail.model_fields))
    return send(AskedByMail(**told, me=who, waiting=_others(number, who)))


@bp.post("/letters/<token>", responses={200: Fine, 409: Problem, 410: Problem})
@room(LARGEST_LETTER)
def answer_letter(path: TokenPath, body: Answer) -> Reply:
    """Answer by a signed link, in the name of the person the link was sent to."""
    approval_id, who = _whose(path.token)
    take(approval_id, body, who, who)
    return send(Fine())


@bp.post("/letters/<token>/measure", responses={200: Measured, 409: Problem, 410: Problem})
@room(LARGEST_LETTER)
def measured_letter(path: TokenPath, body: Text) -> Reply:
    """The rules on a text that is being changed behind a signed link."""
    return send(measure(_opened(path.token), body, trying=False))


@bp.post("/letters/<token>/taken-back", responses={200: Fine, 409: Problem, 410: Problem})
def take_back_letter(path: TokenPath) -> Reply:
    """What a model read as this person's yes is none; the question stays open."""
    number, who = _whose(path.token)
    not_taken(number, who)
    return send(Fine())


@bp.get("/letters/<token>/times", responses={200: Times, 410: Problem})
def times(path: TokenPath) -> Reply:
    """When the person a link was sent to is told."""
    with house().services.store.read() as session:
        told = wants_of(session, _whose(path.token)[1])
    return send(Times(zone=told.zone, quiet=told.quiet, collect=told.collect))


@bp.put("/letters/<token>/times", responses={200: Fine, 410: Problem, 422: Problem})
@room(LARGEST_WANTS)
def change_times(path: TokenPath, body: Times) -> Reply:
    """Set when the person a link was sent to is told. Who decides in their place is not set by a link: mails are handed on."""
    who = _whose(path.token)[1]
    set_times(who, body, who)
    return send(Fine())


@bp.get("/letters/<token>/files/<sha>", responses={404: Problem, 410: Problem})
def letter_file(path: LetterFilePath) -> Response:
    """A file that goes along with what is asked about; no other."""
    shown = approval_view(house().services, house().engine, house().journals, _opened(path.token))
    along = [link for composed in shown.pieces if composed.piece for link in attached(composed.piece.piece)]
    along += [option.text for option in shown.asks.options if option.picture]
    if not any(link.endswith(f"/{path.sha}") for link in along):
        raise Refusal("This file is not here.", 404)
    return send_kept(path.sha)


def _opened(token: str) -> int:
    return _whose(token)[0]


def _others(number: int, who: str) -> int:
    """How much else waits for a person's word. A link opens what it was sent for and nothing else: mails are handed on."""
    approval = tables.Approval
    light = load_only(approval.people, approval.needs)
    with house().services.store.read() as session:
        others = session.scalars(select(approval).where(approval.state == "open", approval.id != number).options(light))
        return sum(who.casefold() in {one.casefold() for one in people.waited_for(other)} for other in others)


def _whose(token: str) -> tuple[int, str]:
    """The question behind a signed link, and the address of whoever it was sent to."""
    try:
        number, who = links.check(house().services.sealer.key, token)
    except links.LinkError as error:
        raise Refusal(str(error), 410) from None
    if not who:
        with house().services.store.read() as session:
            approval = session.get(tables.Approval, number)
            who = str(approval.people[0]["who"]) if approval is not None and approval.people else ""
    return number, who
