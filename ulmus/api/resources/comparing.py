"""Two versions of a page compared on real items, with nothing going out."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ...core.workflow import Workflow
from ...readmodels.models import ChangeView
from ...readmodels.views import marked
from ...runtime.comparing import MOST_ITEMS, Comparison, items_of
from ...store import tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("comparing", __name__, url_prefix="/api", abp_tags=[Tag(name="workflows")])


class ComparingPath(BaseModel):
    id: int


class ItemsQuery(BaseModel):
    """Which items: the samples that are shown, and what the runs of the last days began with."""

    samples: bool = True
    days: float = Field(7, ge=0, le=366)


class ItemsView(BaseModel):
    """How many items there are, and the names of some."""

    count: int
    labels: list[str]


class TrialBody(Body):
    """Which versions: numbers of revisions, or 0 for the page as it is now; and on which items, at most so many."""

    before: int = Field(ge=0)
    after: int = Field(0, ge=0)
    samples: bool = True
    days: float = Field(7, ge=0, le=366)
    most: int = Field(20, ge=1, le=MOST_ITEMS)


class OutcomeView(BaseModel):
    """What came of one draft: its text, everything that is wrong with it in words, and what it took."""

    text: str
    wrong: list[str]
    calls: int
    cost: float


class PairView(BaseModel):
    """A draft of an item before and after: which line's, at which place of it; what the change did; and the texts set against each
    other."""

    item: str
    step: str
    place: str
    came: str
    before: OutcomeView
    after: OutcomeView
    changes: list[ChangeView] = []


class DifferenceView(BaseModel):
    """How many of the drafts something holds for, before and after, how many the change mended and broke, and the difference of the
    shares with its bounds (95 %); and the bounds of each share."""

    of: int
    before: int
    after: int
    mended: int
    broke: int
    low: float
    high: float
    before_low: float
    before_high: float
    after_low: float
    after_high: float


class LineTrialView(BaseModel):
    """What the change came to for one draft's line, which may have tests; cost and calls of one draft, before and after."""

    step: str
    has_tests: bool
    passes: DifferenceView
    rules: DifferenceView
    tests: DifferenceView
    sources: DifferenceView
    cost: list[float]
    calls: list[float]


class ComparisonView(BaseModel):
    """The last comparison of a workflow, as far as it is; `going` while it is under way."""

    before: str
    after: str
    of: int
    done: int
    going: bool
    lines: list[LineTrialView]
    pairs: list[PairView]
    failed: list[str]


class ComparisonOrNone(BaseModel):
    comparison: ComparisonView | None = None


def _view(made: Comparison) -> ComparisonView:
    """Broken ones first, then mended ones, then what differs."""
    order = {"broke": 0, "mended": 1, "other": 2, "same": 3}
    pairs = [
        PairView(
            item=pair.item,
            step=pair.step,
            place=pair.place,
            came=pair.came,
            before=OutcomeView(**_outcome(pair.before)),
            after=OutcomeView(**_outcome(pair.after)),
            changes=marked(pair.before.text, pair.after.text) if pair.before.text != pair.after.text else [],
        )
        for pair in sorted(made.pairs, key=lambda pair: order[pair.came])
    ]
    return ComparisonView(
        before=made.before,
        after=made.after,
        of=made.of,
        done=made.done,
        going=made.done < made.of and not made.stop.is_set(),
        lines=[LineTrialView.model_validate(asdict(one) | {"has_tests": one.step in made.with_tests}) for one in made.lines],
        pairs=pairs,
        failed=made.failed,
    )


def _outcome(one: Any) -> dict[str, Any]:
    return {"text": one.text, "wrong": list(one.wrong), "calls": one.calls, "cost": one.cost}


@bp.get("/workflows/<int:id>/comparison/items", responses={200: ItemsView})
@needs("reader")
def items(path: ComparingPath, query: ItemsQuery) -> Reply:
    """What two versions could be compared on."""
    services = house().services
    with services.store.read() as session:
        found = items_of(session, path.id, query.samples, query.days, services.clock())
    return send(ItemsView(count=len(found), labels=[one.label for one in found[:8]]))


@bp.get("/workflows/<int:id>/comparison", responses={200: ComparisonOrNone})
@needs("reader")
def comparison(path: ComparingPath) -> Reply:
    """The last comparison of this workflow."""
    made = house().comparisons.of(path.id)
    return send(ComparisonOrNone(comparison=_view(made) if made is not None else None))


@bp.post("/workflows/<int:id>/comparison", responses={200: Fine, 404: Problem, 409: Problem})
@needs("maker")
def compare(path: ComparingPath, body: TrialBody) -> Reply:
    """Carry two versions out on the same items, in rehearsal. Answers at once; how it gets on is told by live events."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        versions = []
        for number in (body.before, body.after):
            wanted = select(tables.Revision).where(tables.Revision.workflow_id == path.id, tables.Revision.number == number)
            revision = session.scalar(wanted) if number else None
            if number and revision is None:
                raise Refusal(f"There is no revision {number} of this page.", 404)
            document = revision.document if revision is not None else record.document
            name = f"revision {number}" if number else "the page as it is now"
            versions.append((name, Workflow.model_validate(document)))
        found = items_of(session, path.id, body.samples, body.days, services.clock(), body.most)
    if body.before == body.after:
        raise Refusal("Choose two different versions.", 409)
    if not found:
        raise Refusal("There is nothing to compare them on: keep a sample, or choose more days.", 409)
    house().comparisons.begin(path.id, versions[0], versions[1], found)
    return send(Fine())


@bp.delete("/workflows/<int:id>/comparison", responses={200: Fine})
@needs("maker")
def stop(path: ComparingPath) -> Reply:
    """Stop it; what it has so far stays."""
    house().comparisons.stop(path.id)
    return send(Fine())
