"""The page behind a signed link, for a person who has no account. Looking decides nothing."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field

from ...core.pieces import attached
from ...readmodels.approvals import ComposedView, Measured, NoteView, PartOfDraft, Source, approval_view
from ...readmodels.models import FindingView, VersionView
from ...runtime import links
from ...store import tables
from ..http.base import Fine, Problem, Refusal, Reply, house, send
from ..http.kept import send_kept
from ..schemas.answers import Answer, Text, measure, take
from ..security.auth import room

bp = APIBlueprint("letters", __name__, url_prefix="/api", abp_tags=[Tag(name="approvals")])
LARGEST_LETTER = 1_000_000


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


@bp.get("/letters/<token>", responses={200: AskedByMail, 410: Problem})
def letter(path: TokenPath) -> Reply:
    """The draft behind a signed link. Looking decides nothing."""
    full = approval_view(house().services, house().engine, house().journals, _opened(path.token))
    return send(AskedByMail(**full.model_dump(include=set(AskedByMail.model_fields))))


@bp.post("/letters/<token>", responses={200: Fine, 409: Problem, 410: Problem})
@room(LARGEST_LETTER)
def answer_letter(path: TokenPath, body: Answer) -> Reply:
    """Answer by a signed link, in the name of the person the link was sent to."""
    approval_id = _opened(path.token)
    with house().services.store.read() as session:
        who = session.get_one(tables.Approval, approval_id).who
    take(approval_id, body, who)
    return send(Fine())


@bp.post("/letters/<token>/measure", responses={200: Measured, 409: Problem, 410: Problem})
@room(LARGEST_LETTER)
def measured_letter(path: TokenPath, body: Text) -> Reply:
    """The rules on a text that is being changed behind a signed link."""
    return send(measure(_opened(path.token), body, trying=False))


@bp.get("/letters/<token>/files/<sha>", responses={404: Problem, 410: Problem})
def letter_file(path: LetterFilePath) -> Response:
    """A file that goes along with what is asked about; no other."""
    shown = approval_view(house().services, house().engine, house().journals, _opened(path.token)).pieces
    along = (link for composed in shown if composed.piece for link in attached(composed.piece.piece))
    if not any(link.endswith(f"/{path.sha}") for link in along):
        raise Refusal("This file is not here.", 404)
    return send_kept(path.sha)


def _opened(token: str) -> int:
    try:
        return links.check(house().services.sealer.key, token)
    except links.LinkError as error:
        raise Refusal(str(error), 410) from None
