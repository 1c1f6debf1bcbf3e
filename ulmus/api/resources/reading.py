"""For reading: two texts set against each other, pictures from outside, conditions as their parts."""

from __future__ import annotations

import dataclasses

from flask import Response
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...core.drafting.shapes import ShapeError, ShapeField, shape_from
from ...core.evidence import Level
from ...core.evidence import evidence as found_in
from ...core.slots import SlotError, clauses_of, parse_condition
from ...protocols.errors import OutsideError
from ...protocols.net import Fetched
from ...readmodels.models import ChangeView, OpinionView
from ...readmodels.views import marked
from ...steps.api import Context
from ...steps.shared.models import ask
from ..http.base import Body, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..http.waited import Waited
from ..security.auth import needs

bp = Part("reading", __name__, url_prefix="/api", abp_tags=[Tag(name="reading")])
PICTURES = {"image/png", "image/jpeg", "image/gif", "image/webp", "image/avif"}
LONGEST = 60_000
LARGEST_PICTURE = 4_000_000
PATIENCE = 15.0
_brought: Waited[Fetched] = Waited()


class CompareBody(Body):
    before: str = Field(max_length=LONGEST)
    after: str = Field(max_length=LONGEST)


class PictureQuery(Body):
    address: str = Field(pattern="^https?://", max_length=2000)


class ConditionBody(Body):
    text: str = Field(max_length=4000)


class ClauseView(BaseModel):
    """One comparison: a value as written, how it is compared, and with what; `right` holds texts, or a path where `value`."""

    left: str
    how: str
    right: list[str] = []
    value: bool = False


class ConditionView(BaseModel):
    """A condition taken apart; `plain` where it is a row of comparisons joined by one word, `message` where it is wrong."""

    plain: bool
    joined: str = "and"
    clauses: list[ClauseView] = []
    message: str = ""


class ShapeBody(Body):
    """An example of the JSON wanted, or a JSON Schema."""

    text: str = Field(max_length=LONGEST)


@bp.post("/shapes", responses={200: Listing[ShapeField], 422: Problem})
@needs("reader")
def shape(body: ShapeBody) -> Reply:
    """The fields of an answer, from an example or a schema."""
    try:
        return send(shape_from(body.text))
    except ShapeError as error:
        raise Refusal(str(error), 422) from None


class EvidenceBody(Body):
    """A draft, what it was made from (name → text), and what a model said of some of its sentences."""

    text: str = Field(max_length=LONGEST)
    sources: dict[str, str] = Field(max_length=400)
    opinions: list[OpinionView] = Field(default=[], max_length=60)


class ClaimView(BaseModel):
    """A number, date, name, quotation or link that stands in no source, with its place in the draft."""

    kind: str
    text: str
    start: int
    end: int


class SupportView(BaseModel):
    """One sentence of a draft: its place, its level in words, how likely it is borne out (0 to 1), by which passage of which source,
    why it is doubted, and sums by which its figures come out. `unsure`: no passage was found, and nothing speaks against it."""

    text: str
    start: int
    end: int
    level: Level
    score: float
    source: str
    passage: str
    missing: list[ClaimView]
    reasons: list[str]
    sums: list[str]
    flagged: bool
    unsure: bool


class OpinionBody(Body):
    """Sentences of a draft, and its sources by name."""

    sentences: list[str] = Field(min_length=1, max_length=30)
    sources: dict[str, str] = Field(max_length=400)


class OpinionsView(BaseModel):
    """A model's opinion on each sentence, and what asking cost."""

    opinions: list[OpinionView]
    cost: float


@bp.post("/evidence", responses={200: Listing[SupportView]})
@needs("reader")
def evidence(body: EvidenceBody) -> Reply:
    """Where the sources support a draft, sentence by sentence. In code; no model is asked, but what one said already counts where the
    passage it showed stands in a source."""
    found = found_in(body.text, body.sources)
    if body.opinions:
        from ...core.drafting import opinion as asking  # used seldom

        given = [one.model_dump() | {"number": n} for n, one in enumerate(body.opinions, 1)]
        found = asking.weighed(found, asking.opinions_of({"items": given}, [one["text"] for one in given], body.sources))
    return send(
        [SupportView.model_validate(dataclasses.asdict(s) | {"flagged": s.flagged, "unsure": s.unsure}) for s in found.sentences]
    )


@bp.post("/opinion", responses={200: OpinionsView, 409: Problem, 502: Problem})
@needs("maker")
def opinion(body: OpinionBody) -> Reply:
    """A model's second opinion on sentences, with passages that were looked for in the sources."""
    from ...core.drafting import opinion as asking  # used seldom

    services = house().services
    context = Context(services.web, services.connect, {})
    system, user = asking.opinion_messages(body.sentences, body.sources)
    try:
        values, usage, _ = ask(context, services.first("model"), system["content"], user["content"], asking.SHAPE)
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    opinions = asking.opinions_of(values, body.sentences, body.sources)
    return send(OpinionsView(opinions=[OpinionView.model_validate(dataclasses.asdict(one)) for one in opinions], cost=usage.cost))


@bp.post("/compare", responses={200: Listing[ChangeView]})
@needs("reader")
def compare(body: CompareBody) -> Reply:
    """The second text set against the first, word by word."""
    return send(marked(body.before, body.after))


@bp.get("/pictures")
@needs("reader")
def picture(query: PictureQuery) -> Response:
    """A picture from outside, fetched here so that the reader's machine calls nobody. One that is slow to come is fetched on, and
    is there when it is asked for again."""
    web = house().services.web
    try:
        fetched = _brought.get(query.address, lambda: web.fetch(query.address, max_bytes=LARGEST_PICTURE, max_seconds=PATIENCE))
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    if fetched is None:
        raise Refusal("This picture takes long to come. Ask for it again in a while.", 504)
    if fetched.status >= 400 or fetched.content_type not in PICTURES:
        raise Refusal("There is no picture at this address.", 404)
    headers = {"Cache-Control": "private, max-age=3600", "Content-Security-Policy": "sandbox"}
    return Response(fetched.body, mimetype=fetched.content_type, headers=headers)


@bp.post("/conditions", responses={200: ConditionView, 422: Problem})
@needs("reader")
def condition(body: ConditionBody) -> Reply:
    """A condition taken apart, for editing it in pieces."""
    if not body.text.strip():
        return send(ConditionView(plain=True))
    found = parse_condition(body.text)
    if isinstance(found, SlotError):
        return send(ConditionView(plain=False, message=found.message))
    parts = clauses_of(found)
    if parts is None:
        return send(ConditionView(plain=False))
    joined, clauses = parts
    views = [ClauseView(left=clause.left, how=clause.how, right=list(clause.right), value=clause.is_value) for clause in clauses]
    return send(ConditionView(plain=True, joined=joined, clauses=views))
