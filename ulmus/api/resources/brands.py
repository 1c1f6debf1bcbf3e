"""Brands: facts, voice, examples with their measured style, and what all workflows of a client together may spend."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from ...core.drafting import guide as guides
from ...core.drafting import voice
from ...core.workflow.kinds import is_for_readers
from ...core.workflow.world import BRAND_FACTS
from ...protocols import chat
from ...protocols.errors import OutsideError
from ...readmodels.lessons import LessonView, of_brand
from ...runtime import pointing
from ...runtime.asking import let_out
from ...runtime.periods import said
from ...runtime.services import audit
from ...steps import kinds
from ...steps.shared.models import server_of
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security import members
from ..security.auth import needs

bp = Part("brands", __name__, url_prefix="/api", abp_tags=[Tag(name="brands")])
RECENT = 12
MOST_EXAMPLES = 60


class BrandPath(BaseModel):
    key: str


class BrandLimits(Body):
    """Money a day and a month; empty where there is no limit."""

    day_money: float | None = Field(None, ge=0, le=1_000_000)
    month_money: float | None = Field(None, ge=0, le=1_000_000)


class BrandSpending(BrandLimits):
    """A brand's limits, and what it has spent today and this month."""

    name: str
    spent_day: float
    spent_month: float


class BrandSummary(BaseModel):
    key: str
    name: str
    about: str
    workflows: int
    examples: int


class BrandBody(Body):
    """A brand as its screen saves it."""

    name: str = Field(min_length=1, max_length=120)
    facts: dict[str, str] = {}
    liked: list[str] = Field([], max_length=MOST_EXAMPLES)
    disliked: list[str] = Field([], max_length=MOST_EXAMPLES)


class NewBrand(Body):
    name: str = Field(min_length=1, max_length=120)


class Made(BaseModel):
    key: str


class MeasureView(BaseModel):
    """One measure of style: the middle value of the liked examples, and of what went out lately."""

    name: str
    title: str
    unit: str
    examples: float
    pieces: float | None = None


class VoiceView(BaseModel):
    """How far a text is from the brand's voice: a verdict in words, and in what it differs."""

    verdict: str = ""
    differences: list[str] = []


class PieceVoice(VoiceView):
    text: str
    link: str = ""
    at: float | None = None
    despite: list[str] = []


class BrandView(BrandBody):
    key: str
    measures: list[MeasureView] = []
    person: str = ""
    opening: str = ""
    recent: list[PieceVoice] = []
    used_by: list[str] = []


class VoiceBody(Body):
    text: str = Field(max_length=200_000)


class GuidePoint(BaseModel):
    """What to do, and sentences of the liked examples that show it."""

    says: str
    shown: list[str]


class Guide(BaseModel):
    """A guide as a text for prompts, and its points."""

    text: str
    points: list[GuidePoint]


def spending(session: Session, brand: tables.Brand, now: float) -> BrandSpending:
    """How a brand stands against its limits."""
    today = dt.datetime.fromtimestamp(now).date().isoformat()
    of_brand = select(tables.WorkflowRecord.id).where(tables.WorkflowRecord.brand == brand.key)
    total = select(func.sum(tables.Spending.cost)).where(tables.Spending.workflow_id.in_(of_brand))
    month = tables.Spending.day.between(f"{today[:7]}-01", today)
    return BrandSpending(
        name=brand.name,
        day_money=(brand.limits or {}).get("day_money"),
        month_money=(brand.limits or {}).get("month_money"),
        spent_day=session.scalar(total.where(tables.Spending.day == today)) or 0.0,
        spent_month=session.scalar(total.where(month)) or 0.0,
    )


@bp.get("/brands", responses={200: Listing[BrandSummary]})
@needs("reader")
def listing() -> Reply:
    """Every brand."""
    with house().services.store.read() as session:
        used = dict(
            session.execute(
                select(tables.WorkflowRecord.brand, func.count())
                .where(tables.WorkflowRecord.brand.is_not(None), tables.THERE)
                .group_by(tables.WorkflowRecord.brand)
            ).all()
        )
        return send(
            [
                BrandSummary(
                    key=b.key,
                    name=b.name,
                    about=str(b.facts.get("about", "")),
                    workflows=used.get(b.key, 0),
                    examples=len((b.examples or {}).get("liked", [])),
                )
                for b in session.scalars(select(tables.Brand).order_by(tables.Brand.name))
            ]
        )


@bp.post("/brands", responses={201: Made, 409: Problem})
@needs("maker")
def add(body: NewBrand) -> Reply:
    """A new brand, with nothing known of it yet."""
    key = re.sub(r"\W+", "_", body.name.lower()).strip("_")[:50] or "brand"
    services = house().services
    members.whole_house("You are kept to some brands. Somebody who sees all of the house adds another.")
    with services.store.write() as session:
        if session.get(tables.Brand, key) is not None:
            raise Refusal(f"There is a brand called “{body.name}” already.", 409)
        session.add(tables.Brand(key=key, name=body.name.strip(), facts={}))
        audit(session, services.clock(), g.user.email, "added a brand", body.name)
    return send(Made(key=key), 201)


@bp.get("/brands/<key>", responses={200: BrandView})
@needs("reader")
def whole(path: BrandPath) -> Reply:
    """A brand, the style of its examples, and how what went out lately stands against it."""
    with house().services.store.read() as session:
        brand = session.get_one(tables.Brand, path.key)
        recent = _recent(session, path.key)
        approved = let_out(session, [piece.run_id for piece in recent if piece.run_id is not None])
        used = list(
            session.scalars(select(tables.WorkflowRecord.name).where(tables.WorkflowRecord.brand == path.key, tables.THERE))
        )
    examples = brand.examples or {}
    view = BrandView(
        key=brand.key,
        name=brand.name,
        facts={name: str(brand.facts.get(name, "")) for name in BRAND_FACTS if name != "name"},
        liked=list(examples.get("liked", [])),
        disliked=list(examples.get("disliked", [])),
        used_by=sorted(used),
    )
    style = _style(view.liked)
    went_out = _style([said(piece.kind, piece.content) for piece in recent])
    if style:
        view.person, view.opening = style.person, style.opening
        for name, title, unit, value in voice.table_of(style):
            here = went_out.middle[name] if went_out else None
            view.measures.append(MeasureView(name=name, title=title, unit=unit, examples=value, pieces=here))
    for piece in recent:
        text, receipt = said(piece.kind, piece.content), piece.receipt or {}
        judged = _judged(text, style) if style else VoiceView()
        link, despite = str(receipt.get("link", "")), approved.get(piece.run_id or 0, ("", []))[1]
        view.recent.append(PieceVoice(**judged.model_dump(), text=text, link=link, at=piece.sent_at, despite=despite))
    return send(view)


@bp.put("/brands/<key>", responses={200: Fine})
@needs("maker")
def save(path: BrandPath, body: BrandBody) -> Reply:
    """Save a brand's facts, voice and examples."""
    services = house().services
    facts = {name: body.facts.get(name, "").strip()[:10_000] for name in BRAND_FACTS if name != "name"}
    kept = {
        name: list(dict.fromkeys(text.strip()[:20_000] for text in texts if text.strip()))
        for name, texts in (("liked", body.liked), ("disliked", body.disliked))
    }
    with services.store.write() as session:
        brand = session.get_one(tables.Brand, path.key)
        brand.name, brand.facts, brand.examples = body.name.strip(), {n: f for n, f in facts.items() if f}, kept
        audit(session, services.clock(), g.user.email, "changed a brand", brand.name)
    return send(Fine())


@bp.delete("/brands/<key>", responses={200: Fine, 409: Problem})
@needs("owner")
def remove(path: BrandPath) -> Reply:
    """Delete a brand that nothing belongs to any more. What went out for it stays on record."""
    services = house().services
    with services.store.write() as session:
        brand = session.get_one(tables.Brand, path.key)
        if why := pointing.brand_kept(session, path.key):
            raise Refusal(why, 409)
        session.execute(delete(tables.AssistantKey).where(tables.AssistantKey.brand == path.key))
        session.delete(brand)
        audit(session, services.clock(), g.user.email, "deleted a brand", brand.name)
    return send(Fine())


@bp.post("/brands/<key>/voice", responses={200: VoiceView})
@needs("reader")
def voice_of(path: BrandPath, body: VoiceBody) -> Reply:
    """How far a text is from the brand's voice; nothing where it has no liked examples."""
    with house().services.store.read() as session:
        brand = session.get_one(tables.Brand, path.key)
    style = _style(list((brand.examples or {}).get("liked", [])))
    return send(_judged(body.text, style) if style and body.text.strip() else VoiceView())


@bp.post("/brands/<key>/guide", responses={200: Guide, 409: Problem, 502: Problem})
@needs("maker")
def guide(path: BrandPath) -> Reply:
    """A guide to the voice, written by a model from the liked examples, to be read and changed. Nothing is saved."""
    services = house().services
    with services.store.read() as session:
        brand = session.get_one(tables.Brand, path.key)
    liked = list((brand.examples or {}).get("liked", []))
    style = _style(liked)
    if style is None:
        raise Refusal("Add a few liked examples first: the guide is written from them.", 409)
    messages = guides.guide_messages(brand.name, liked[:RECENT], style)
    try:
        connection = services.connect(services.first("model"), "model")
        answer = chat.complete(services.web, server_of(connection), messages, temperature=0.2, max_tokens=1200)
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    points = guides.guide_of(answer.text, liked)
    if not points:
        raise Refusal("The model wrote no guide. Ask it again.", 502)
    shown = [GuidePoint(says=one.says, shown=list(one.shown)) for one in points]
    return send(Guide(text=guides.text_of_guide(points), points=shown))


@bp.get("/brands/<key>/lessons", responses={200: Listing[LessonView]})
@needs("reader")
def lessons(path: BrandPath) -> Reply:
    """What is changed again and again in the brand's drafts when they are approved."""
    with house().services.store.read() as session:
        return send(of_brand(session, path.key))


@bp.get("/brands/<key>/limits", responses={200: BrandSpending})
@needs("reader")
def show(path: BrandPath) -> Reply:
    """A brand's limits and spending."""
    services = house().services
    with services.store.read() as session:
        return send(spending(session, session.get_one(tables.Brand, path.key), services.clock()))


@bp.put("/brands/<key>/limits", responses={200: Fine})
@needs("owner")
def change(path: BrandPath, body: BrandLimits) -> Reply:
    """Set a brand's limits."""
    services = house().services
    with services.store.write() as session:
        brand = session.get_one(tables.Brand, path.key)
        brand.limits = body.model_dump(exclude_none=True)
        audit(session, services.clock(), g.user.email, "set limits", brand.name)
    return send(Fine())


def _recent(session: Session, key: str) -> list[tables.Piece]:
    """The brand's last pieces that went out with a text."""
    publishing = [name for name, kind in kinds().items() if is_for_readers(kind)]
    found: Any = (
        select(tables.Piece)
        .join(tables.Run, tables.Run.id == tables.Piece.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        .where(tables.WorkflowRecord.brand == key, tables.Piece.state == "sent", tables.Piece.kind.in_(publishing))
        .order_by(tables.Piece.sent_at.desc())
        .limit(3 * RECENT)
    )
    pieces = [piece for piece in session.scalars(found) if "path" not in piece.content and said(piece.kind, piece.content)]
    return pieces[:RECENT]


def _style(texts: list[str]) -> voice.Style | None:
    try:
        return voice.style_of(texts)
    except ValueError:
        return None


def _judged(text: str, style: voice.Style) -> VoiceView:
    differences = voice.differences(text, style)
    return VoiceView(verdict=voice.verdict(differences), differences=[one.says for one in differences])
