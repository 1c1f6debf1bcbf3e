"""A person's data: found, given out, removed."""

from __future__ import annotations

from flask import Response, g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...core.mentions import MARK, Mentions
from ...runtime import persondata
from ...runtime.services import audit
from ..http.base import Body, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("person", __name__, url_prefix="/api/house/person", abp_tags=[Tag(name="house", description="The house itself")])


class PersonBody(Body):
    """What a person is called: mail addresses, names, other words that are theirs alone."""

    terms: list[str] = Field(min_length=1, max_length=40)


class RemoveBody(PersonBody):
    """`rows`: whether rows of sheets go whole; `mark` stands where the person stood."""

    rows: bool = True
    mark: str = Field(MARK, min_length=1, max_length=60)


class MentionView(BaseModel):
    """A place, some words around what was looked for, and where it is shown."""

    title: str
    words: str
    link: str


class MentionsView(BaseModel):
    """So many places of a group, and the first of them."""

    group: str
    count: int
    first: list[MentionView]


class PersonView(BaseModel):
    """What there is of a person: places by group, what people change by hand, and what has to end first."""

    places: list[MentionsView]
    by_hand: list[MentionView]
    open: list[MentionView]


class RemovedView(BaseModel):
    """How many places of each group were removed or marked, and how many are left to people."""

    removed: dict[str, int]
    by_hand: int


@bp.post("/find", responses={200: PersonView, 422: Problem})
@needs("owner")
def find(body: PersonBody) -> Reply:
    """Everything the house holds of a person. That somebody looked is in the trail, and not for whom."""
    services = house().services
    found = persondata.find(services, _mentions(body))
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "looked for a person’s data")
    return send(
        PersonView(
            places=[
                MentionsView(group=group, count=count, first=_views(found.examples[group])) for group, count in found.counts.items()
            ],
            by_hand=_views(found.by_hand),
            open=_views(found.open),
        )
    )


@bp.post("/archive", responses={422: Problem})
@needs("owner")
def give_out(body: PersonBody) -> Response:
    """All of it as one ZIP file."""
    services = house().services
    content = persondata.archive(services, _mentions(body))
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "gave out a person’s data")
    head = {"Content-Disposition": 'attachment; filename="person.zip"'}
    return Response(content, mimetype="application/zip", headers=head)


@bp.post("/remove", responses={200: RemovedView, 409: Problem, 422: Problem})
@needs("owner")
def remove(body: RemoveBody) -> Reply:
    """Remove a person everywhere: rows and files go, elsewhere a mark stands in their place. It cannot be taken back."""
    services, mentions = house().services, _mentions(body)
    if any(mentions.within(body.mark)):
        raise Refusal("The mark itself speaks of the person. Choose another.", 422)
    try:
        removed = persondata.remove(services, mentions, g.user.email, body.rows, body.mark)
    except persondata.StillOpen as error:
        raise Refusal(str(error), 409) from None
    return send(RemovedView(removed=removed, by_hand=len(persondata.find(services, mentions).by_hand)))


def _mentions(body: PersonBody) -> Mentions:
    try:
        return Mentions(tuple(body.terms))
    except ValueError as error:
        raise Refusal(str(error), 422) from None


def _views(examples: list[persondata.Example]) -> list[MentionView]:
    return [MentionView(**vars(one)) for one in examples]
