"""Takes side by side: their drafts for each sample, a person's choices among them, and the tallies."""

from __future__ import annotations

from flask import g
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel
from sqlalchemy import delete, select

from ..core.drafting.tally import Choice, Made, tally
from ..core.workflow import Line, Workflow, take_name, takes_of
from ..runtime.proofing import Column
from ..steps import kinds
from ..store import tables
from .auth import needs
from .base import FindingView, Fine, Problem, Refusal, Reply, house, send
from .views import cell_view

bp = APIBlueprint("takes", __name__, url_prefix="/api", abp_tags=[Tag(name="takes")])


class TakesPath(BaseModel):
    id: int
    step: str


class TakeDraft(BaseModel):
    """One take's draft for one sample."""

    take: str
    state: str
    text: str = ""
    message: str = ""
    findings: list[FindingView] = []
    cost: float = 0.0
    chosen: bool = False


class SampleDrafts(BaseModel):
    """A sample with the drafts of all takes; `judged` is whether one of them was chosen as they stand."""

    sample: int
    label: str
    drafts: list[TakeDraft]
    judged: bool


class TallyView(BaseModel):
    """What a take came to; costs and lengths are means, `low` and `high` bound the share of comparisons it wins."""

    take: str
    name: str
    made: int
    kept: int
    cost: float
    characters: int
    preferred: int
    compared: int
    low: float
    high: float


class TakesView(BaseModel):
    samples: list[SampleDrafts]
    tallies: list[TallyView]


class ChoiceBody(BaseModel):
    sample: int
    take: str


def _columns(path: TakesPath) -> tuple[Line, list[Line], list[tables.Sample], dict[int, Column]]:
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        found = select(tables.Sample).where(tables.Sample.workflow_id == path.id, tables.Sample.shown.is_(True))
        samples = list(session.scalars(found.order_by(tables.Sample.place, tables.Sample.id)))
    workflow = Workflow.model_validate(record.document)
    line = workflow.line(path.step)
    takes = [line, *takes_of(line, kinds())] if line is not None else []
    if line is None or len(takes) < 2:
        raise Refusal("This draft has no other takes. Add one to compare.", 404)
    return line, takes, samples, house().proofs.columns(workflow, samples)


@bp.get("/workflows/<int:id>/takes/<step>", responses={200: TakesView, 404: Problem})
@needs("reader")
def show(path: TakesPath) -> Reply:
    """The takes of a draft side by side."""
    line, takes, samples, columns = _columns(path)
    with house().services.store.read() as session:
        mine = select(tables.Judgement).where(tables.Judgement.workflow_id == path.id, tables.Judgement.step == path.step)
        judged = list(session.scalars(mine))
    choices = [Choice(j.chosen, tuple(j.among)) for j in judged]
    made, out = [], []
    for sample in samples:
        drafts = []
        keys = []
        for take in takes:
            cell = columns[sample.id].cells.get(take.id)
            if cell is None:
                drafts.append(TakeDraft(take=take.id, state="empty"))
                continue
            view = cell_view(take, sample.id, cell.state, cell.result, cell.partial)
            fresh = cell.state == "fresh" and cell.result is not None
            text = str(cell.result.output.get("text", "")) if fresh and cell.result is not None else ""
            findings = [f for f in view.findings if f.strength == "must"]
            if fresh:
                keys.append(cell.key)
                kept = all(f.kept for f in findings)
                made.append(Made(take.id, sample.id, cell.key, kept, view.usage.cost, len(text)))
            drafts.append(
                TakeDraft(
                    take=take.id,
                    state=cell.state,
                    text=text,
                    message=view.message,
                    findings=view.findings,
                    cost=view.usage.cost,
                    chosen=fresh and any(c.chosen == cell.key for c in choices),
                )
            )
        whole = len(keys) == len(takes) and any(set(c.among) == set(keys) for c in choices)
        out.append(SampleDrafts(sample=sample.id, label=sample.label, drafts=drafts, judged=whole))
    tallies = [
        TallyView(name=take_name(line, t.take), **vars(t))
        for t in tally([take.id for take in takes], made, _standing(choices, made))
    ]
    return send(TakesView(samples=out, tallies=tallies))


@bp.post("/workflows/<int:id>/takes/<step>/choices", responses={200: Fine, 409: Problem})
@needs("reviewer")
def choose(path: TakesPath, body: ChoiceBody) -> Reply:
    """Like one take best for a sample; a later choice among the same drafts takes the earlier one's place."""
    _, takes, _, columns = _columns(path)
    column = columns.get(body.sample)
    cells = {take.id: column.cells.get(take.id) for take in takes} if column else {}
    keys = [cell.key for cell in cells.values() if cell is not None and cell.state == "fresh"]
    chosen = cells.get(body.take)
    if chosen is None or chosen.key not in keys or len(keys) < 2:
        raise Refusal("These drafts are not all fresh. Run the row first.", 409)
    services = house().services
    with services.store.write() as session:
        session.execute(
            delete(tables.Judgement).where(
                tables.Judgement.workflow_id == path.id,
                tables.Judgement.step == path.step,
                tables.Judgement.sample_id == body.sample,
                tables.Judgement.by == g.user.email,
            )
        )
        session.add(
            tables.Judgement(
                workflow_id=path.id,
                step=path.step,
                sample_id=body.sample,
                chosen=chosen.key,
                among=sorted(keys),
                by=g.user.email,
                at=services.clock(),
            )
        )
    return send(Fine())


def _standing(choices: list[Choice], made: list[Made]) -> list[Choice]:
    keys = {one.key for one in made}
    return [c for c in choices if set(c.among) <= keys]
