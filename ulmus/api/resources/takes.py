"""Takes side by side: their drafts for each sample, a person's choices among them, and the tallies."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel
from sqlalchemy import select

from ...core import flow
from ...core.drafting.tally import Choice, Made, approved, share, tally
from ...core.workflow import Line, Workflow, World, drawn, is_shared, take_name, takes_of
from ...readmodels.journals import rehearsed
from ...readmodels.lessons import LessonView, of_line
from ...readmodels.models import CellView, FindingView
from ...readmodels.views import cell_view
from ...runtime import results
from ...runtime.dependencies import fingerprint, outermost
from ...runtime.execution import lot
from ...runtime.proofing import Cell, Column
from ...steps import kinds
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

#: What a person may say to a draft, and how many of the latest drafts are counted.
DECIDED = ("approve", "back", "decline")
MOST_COUNTED = 2000

bp = Part("takes", __name__, url_prefix="/api", abp_tags=[Tag(name="takes")])


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
    """A sample, or a place inside a block for it, with the drafts of all takes; `judged` is whether one of them was chosen as they stand."""

    sample: int
    place: str = ""
    label: str
    drafts: list[TakeDraft]
    judged: bool


class ShareView(BaseModel):
    """How many of the people a take's letters went to did something, with the bounds of that share."""

    of: int
    did: int
    low: float
    high: float


class ApprovedView(BaseModel):
    """What came of a take in live runs: drafts decided on, those that passed unedited at the first look, and the bounds
    of that share; where letters went out, how many answered and how many pressed a link."""

    decided: int
    unedited: int
    low: float
    high: float
    answered: ShareView | None = None
    pressed: ShareView | None = None


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
    live: ApprovedView | None = None


class TakesView(BaseModel):
    samples: list[SampleDrafts]
    tallies: list[TallyView]


class ChoiceBody(Body):
    """The take liked best; `place` is where inside a block its drafts stand."""

    sample: int
    place: str = ""
    take: str


@dataclass(frozen=True)
class _Draft:
    """One take's draft: its cell, its text, and the key that tells it apart (empty where it is not fresh)."""

    cell: CellView
    text: str = ""
    key: str = ""


@dataclass(frozen=True)
class _Group:
    """The drafts of all takes for one sample, or for one place inside a block."""

    sample: tables.Sample
    place: str
    label: str
    drafts: dict[str, _Draft]

    @property
    def keys(self) -> list[str]:
        """The keys of those that are fresh."""
        return [draft.key for draft in self.drafts.values() if draft.key]


def _read(path: TakesPath) -> tuple[Line, list[Line], list[_Group]]:
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        found = select(tables.Sample).where(tables.Sample.workflow_id == path.id, tables.Sample.shown.is_(True))
        samples = list(session.scalars(found.order_by(tables.Sample.place, tables.Sample.id)))
    workflow = Workflow.model_validate(record.document)
    line = workflow.line(path.step)
    takes = [line, *takes_of(line, kinds())] if line is not None else []
    if line is None or len(takes) < 2:
        raise Refusal("This draft has no other takes. Add one to compare.", 404)
    columns = house().proofs.columns(workflow, samples)
    if path.step in outermost(workflow):
        groups = [group for s in samples for group in _inside(workflow, takes, s, columns[s.id])]
    else:
        groups = [_Group(s, "", s.label, {t.id: _drafted(t, s, columns[s.id].cells.get(t.id)) for t in takes}) for s in samples]
    return line, takes, groups


def _drafted(take: Line, sample: tables.Sample, cell: Cell | None) -> _Draft:
    """A take of a draft of the page itself."""
    if cell is None:
        return _Draft(CellView(step=take.id, sample=sample.id, state="empty"))
    view = cell_view(take, sample.id, cell.state, cell.result, World(), cell.partial)
    if cell.state != "fresh" or cell.result is None:
        return _Draft(view)
    return _Draft(view, str(cell.result.output.get("text", "")), cell.key)


def _inside(workflow: Workflow, takes: list[Line], sample: tables.Sample, column: Column) -> Iterator[_Group]:
    """The drafts inside a block, place by place."""
    block = column.cells.get(takes[0].id)
    detail = block.result.detail if block is not None and block.result is not None else {}
    by_place: dict[str, dict[str, _Draft]] = {}
    labels: dict[str, str] = {}
    for take in takes:
        for iteration_view in rehearsed(workflow, take, detail, sample.id):
            place = str(flow.Address.parse(iteration_view.address)._replace(step=takes[0].id))
            output = detail["places"][iteration_view.address]["output"]
            fresh = iteration_view.cell.state == "fresh" and block is not None and block.state == "fresh"
            key = fingerprint([place, take.id, take.settings, output]) if fresh else ""
            if block is not None and block.state in ("stale", "running"):
                iteration_view.cell.state = block.state
            by_place.setdefault(place, {})[take.id] = _Draft(iteration_view.cell, str(output.get("text", "")) if fresh else "", key)
            labels[place] = f"{sample.label} · {iteration_view.label}" if iteration_view.label else sample.label
    for place, drafts in by_place.items():
        missing = {t.id: _Draft(CellView(step=t.id, sample=sample.id, state="empty")) for t in takes if t.id not in drafts}
        yield _Group(sample, place, labels[place], {t.id: ({**drafts, **missing})[t.id] for t in takes})


@bp.get("/workflows/<int:id>/takes/<step>", responses={200: TakesView, 404: Problem})
@needs("reader")
def show(path: TakesPath) -> Reply:
    """The takes of a draft side by side."""
    line, takes, groups = _read(path)
    with house().services.store.read() as session:
        mine = select(tables.Judgement).where(tables.Judgement.workflow_id == path.id, tables.Judgement.step == path.step)
        judged = list(session.scalars(mine))
    choices = [Choice(j.chosen, tuple(j.among)) for j in judged]
    made, out = [], []
    for group in groups:
        drafts = []
        for name, draft in group.drafts.items():
            view = draft.cell
            if draft.key:
                kept = all(f.kept for f in view.findings if f.strength == "must")
                made.append(Made(name, group.sample.id, draft.key, kept, view.usage.cost, len(draft.text)))
            drafts.append(
                TakeDraft(
                    take=name,
                    state=view.state,
                    text=draft.text,
                    message=view.message,
                    findings=view.findings,
                    cost=view.usage.cost,
                    chosen=bool(draft.key) and any(c.chosen == draft.key for c in choices),
                )
            )
        whole = len(group.keys) == len(takes) and any(set(c.among) == set(group.keys) for c in choices)
        out.append(SampleDrafts(sample=group.sample.id, place=group.place, label=group.label, drafts=drafts, judged=whole))
    live = _live(path.id, line, takes)
    tallies = [
        TallyView(name=take_name(line, kinds(), t.take), **vars(t), live=live.get(t.take))
        for t in tally([take.id for take in takes], made, _standing(choices, made))
    ]
    return send(TakesView(samples=out, tallies=tallies))


def _live(workflow_id: int, line: Line, takes: list[Line]) -> dict[str, ApprovedView]:
    """What came of each take in live runs that were shared between them. A take that was changed since begins anew."""
    if not is_shared(line, kinds()):
        return {}
    first = (
        select(tables.Approval, tables.Run.revision_id)
        .join(tables.Run, tables.Run.id == tables.Approval.run_id)
        .where(tables.Run.workflow_id == workflow_id, tables.Approval.draft == line.id, tables.Approval.round == 1)
        .where(tables.Approval.state.in_(DECIDED))
        .order_by(tables.Approval.id.desc())
        .limit(MOST_COUNTED)
    )
    passed: dict[str, list[bool]] = {take.id: [] for take in takes}
    wrote_at: dict[tuple[int, str], str] = {}
    with house().services.store.read() as session:
        pages = house().engine.pages
        for approval, revision in session.execute(first).all():
            page = pages.get(session, revision)
            then = page.lines.get(line.id)
            if then is None or not is_shared(then, kinds()):
                continue
            wrote = drawn(then, kinds(), lot(approval.run_id, approval.address, page.loops))
            now = next((take for take in takes if take.id == wrote.id), None)
            if now is not None and _own(now) == _own(wrote):
                unedited = approval.state == "approve" and approval.final_text.strip() == approval.text.strip()
                passed[now.id].append(unedited)
                wrote_at[approval.run_id, approval.address.rpartition("/")[0]] = now.id
        came = results.came_of(session, {run for run, _ in wrote_at})
    shares = _shares(wrote_at, came)
    return {take: ApprovedView(**vars(approved(found)), **shares.get(take, {})) for take, found in passed.items()}


def _shares(wrote_at: dict[tuple[int, str], str], came: list[results.Came]) -> dict[str, dict[str, ShareView]]:
    """What the letters of each take came to. A letter is by the take that wrote where it stands, or around it."""
    sums: dict[str, list[int]] = {}
    for one in came:
        place = one.address.rpartition("/")[0]
        while (take := wrote_at.get((one.run, place))) is None and place:
            place = place.rpartition("/")[0]
        if take is not None:
            now = sums.setdefault(take, [0, 0, 0])
            for n, value in enumerate((one.readers, one.answered, one.pressed)):
                now[n] += value
    return {
        take: {
            "answered": ShareView(**vars(share(answered, readers))),
            "pressed": ShareView(**vars(share(pressed, readers))),
        }
        for take, (readers, answered, pressed) in sums.items()
    }


def _own(take: Line) -> dict[str, Any]:
    """The settings that make a take what it is."""
    return {name: value for name, value in take.settings.items() if name not in kinds()[take.kind].not_in_results}


@bp.get("/workflows/<int:id>/lessons/<step>", responses={200: Listing[LessonView]})
@needs("reader")
def lessons(path: TakesPath) -> Reply:
    """What is changed again and again in the drafts of a line when they are approved."""
    with house().services.store.read() as session:
        return send(of_line(session, path.id, path.step))


@bp.post("/workflows/<int:id>/takes/<step>/choices", responses={200: Fine, 409: Problem})
@needs("reviewer")
def choose(path: TakesPath, body: ChoiceBody) -> Reply:
    """Like one take best for a sample; a later choice among the same drafts takes the earlier one's place."""
    _, _, groups = _read(path)
    group = next((one for one in groups if (one.sample.id, one.place) == (body.sample, body.place)), None)
    chosen = group.drafts.get(body.take) if group is not None else None
    if group is None or chosen is None or not chosen.key or len(group.keys) < 2:
        raise Refusal("These drafts are not all fresh. Run the row first.", 409)
    among, services = sorted(group.keys), house().services
    with services.store.write() as session:
        mine = select(tables.Judgement).where(
            tables.Judgement.workflow_id == path.id,
            tables.Judgement.step == path.step,
            tables.Judgement.sample_id == body.sample,
            tables.Judgement.by == g.user.email,
        )
        for earlier in session.scalars(mine):
            if earlier.among == among or not body.place:
                session.delete(earlier)
        session.add(
            tables.Judgement(
                workflow_id=path.id,
                step=path.step,
                sample_id=body.sample,
                chosen=chosen.key,
                among=among,
                by=g.user.email,
                at=services.clock(),
            )
        )
    return send(Fine())


def _standing(choices: list[Choice], made: list[Made]) -> list[Choice]:
    keys = {one.key for one in made}
    return [c for c in choices if set(c.among) <= keys]
