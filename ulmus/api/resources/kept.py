"""What the house keeps, and for how long."""

from __future__ import annotations

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ...runtime import terms
from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("kept", __name__, url_prefix="/api/house", abp_tags=[Tag(name="house", description="The house itself")])


class TermsView(BaseModel):
    """Days after its end for which a run is kept of which nothing went out, or something did; 0 for ever."""

    nothing: int
    something: int


class TermsBody(Body):
    """Terms of a brand, or of the house for no brand; ``None`` gives a brand those of the house."""

    brand: str = Field("", max_length=60)
    terms: terms.Terms | None


class BrandTerms(BaseModel):
    """A brand and its own terms; ``None`` where those of the house hold for it."""

    key: str
    name: str
    terms: TermsView | None


class SizeView(BaseModel):
    """What takes room in the data folder: its bytes, and how many there are; 0 where that is not told."""

    what: str
    bytes: int
    count: int


class KeptView(BaseModel):
    """Sizes, terms, and of how many runs the coming nights remove everything or what they did."""

    sizes: list[SizeView]
    house: TermsView
    brands: list[BrandTerms]
    to_remove: int
    to_empty: int


@bp.get("/kept", responses={200: KeptView})
@needs("owner")
def show() -> Reply:
    """What is kept, how much room it takes, and for how long it is kept."""
    services = house().services
    sizes = terms.sizes(services.store)
    with services.store.read() as session:
        own = terms.of_brands(session)
        brands = [
            BrandTerms(key=b.key, name=b.name, terms=TermsView(**own[b.key].model_dump()) if b.key in own else None)
            for b in session.scalars(select(tables.Brand).order_by(tables.Brand.name))
        ]
        everywhere = TermsView(**terms.of_house(session).model_dump())
        to_remove, to_empty = terms.count(session, services.clock())
    return send(
        KeptView(
            sizes=[SizeView(what=what, bytes=size, count=number) for what, (size, number) in sizes.items()],
            house=everywhere,
            brands=brands,
            to_remove=to_remove,
            to_empty=to_empty,
        )
    )


@bp.put("/kept", responses={200: Fine, 404: Problem, 422: Problem})
@needs("owner")
def change(body: TermsBody) -> Reply:
    """Set for how long runs are kept; it holds from the next night on."""
    services = house().services
    with services.store.write() as session:
        try:
            terms.set_terms(session, body.brand, body.terms)
        except KeyError:
            raise Refusal("There is no such brand.", 404) from None
        told = "those of the house" if body.terms is None else f"{body.terms.nothing or '∞'} and {body.terms.something or '∞'} days"
        audit(session, services.clock(), g.user.email, "set how long runs are kept", f"{body.brand or 'the house'}: {told}")
    return send(Fine())
