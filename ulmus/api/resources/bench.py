"""The workbench: the page with its proofs, the values to point at, and the kinds of line."""

from __future__ import annotations

from typing import Any, Literal
from zoneinfo import available_timezones

from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import slots
from ...core.mailings import READER
from ...core.slots.filters import FILTERS
from ...core.workflow import Line, Workflow, World, check, scope_before, sentence, settings_of, takes_of
from ...core.workflow.plans import FormPlan, HandPlan
from ...core.workflow.takes import MARK
from ...readmodels.journals import gathered, rehearsed
from ...readmodels.models import CellView, LineProblemView, LineView, PartView, ResultView
from ...readmodels.views import cell_view, given, held_by, is_pushed, line_views, problem_view, result_view
from ...runtime import clients
from ...runtime.dependencies import outermost
from ...runtime.execution import plan_of
from ...runtime.proofing import Cell, Column, values_at
from ...runtime.services import world
from ...runtime.sharing import examples
from ...steps import kinds
from ...store import sight, tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs
from .samples import SampleView, samples_of

bp = Part("bench", __name__, url_prefix="/api", abp_tags=[Tag(name="bench")])


class BenchPath(BaseModel):
    id: int


class CellPath(BaseModel):
    id: int
    sample: int
    step: str


class PlaceQuery(Body):
    """Which carrying-out of a line inside a block; empty for the first."""

    place: str = ""


class ValuesPath(BaseModel):
    id: int
    step: str


class ValuesQuery(Body):
    sample: int | None = None


class LeadingView(BaseModel):
    """The page that this one follows, and whose it is; without a number where it is out of sight."""

    id: int
    name: str
    brand: str


class BenchView(BaseModel):
    """Everything the workbench shows at once."""

    id: int
    name: str
    brand: str
    brand_key: str = ""
    state: str
    version: int
    revision: int | None
    changed: bool
    document: dict[str, Any]
    lines: list[LineView]
    samples: list[SampleView]
    cells: list[CellView]
    looked_at: float | None = None
    found: str = ""
    failed: bool = False
    pushed: bool = False
    problems: list[LineProblemView] = []
    start_fields: dict[str, str] = {}
    fields: list[dict[str, Any]] = []
    follows: LeadingView | None = None
    clients: int = 0


class RunProofs(Body):
    """Which cells to make: all that are out of date, or those of some samples and steps; `again` makes fresh ones anew."""

    samples: list[int] | None = None
    steps: list[str] | None = None
    again: bool = False


class ValueView(BaseModel):
    """A value that can be pointed at, with what it is in the chosen sample."""

    path: str
    root: str
    title: str
    about: str
    type: str
    value: Any = None
    known: bool = False
    inside: list[str] = []


class KindView(BaseModel):
    """A kind of line: `holds` says what may stand inside; `fails` whether it can fail in a way the page may answer, `tries_again`
    whether another try could help; `named_by` which setting says what it is called. `elements` are the names of what the
    elements of its list are made of, where it gives one; `gives` those of what every line of it gives."""

    name: str
    stage: str
    title: str
    about: str
    form: dict[str, Any]
    holds: Literal["", "steps", "lanes"] = ""
    fails: bool = True
    tries_again: bool = True
    named_by: str = ""
    elements: list[str] = []
    gives: list[str] = []


class Catalogue(BaseModel):
    """Kinds of line, filters, and what can be chosen in settings."""

    kinds: list[KindView]
    filters: list[dict[str, str]]
    connections: list[dict[str, str]]
    sheets: list[dict[str, Any]]
    brands: list[dict[str, str]]
    workflows: list[dict[str, str]]
    zones: list[str]


@bp.get("/catalogue", responses={200: Catalogue})
@needs("reader")
def catalogue() -> Reply:
    """What a page can be made of here."""
    with house().services.store.read() as session:
        connections = [{"key": c.key, "name": c.name, "kind": c.kind} for c in session.scalars(select(tables.Connection))]
        sheets = [
            {"key": s.key, "name": s.name, "columns": [c["name"] for c in s.columns]} for s in session.scalars(select(tables.Sheet))
        ]
        brands = [{"key": b.key, "name": b.name} for b in session.scalars(select(tables.Brand))]
        records = session.scalars(select(tables.WorkflowRecord).where(tables.THERE).order_by(tables.WorkflowRecord.name))
        called = [{"key": str(w.id), "name": w.name} for w in records]
    views = [
        KindView(
            name=k.name,
            stage=k.stage,
            title=k.title,
            about=k.about,
            form=k.settings.model_json_schema(),
            holds=held_by(k),
            fails=k.can_fail,
            tries_again=k.can_be_tried_again,
            named_by=next((name for name, setting in settings_of(k.settings).items() if setting.told == "title"), ""),
            gives=list(k.scope()),
            elements=list(inner[0]) if isinstance(inner := k.scope().get("items"), list) else [],
        )
        for k in kinds().values()
    ]
    filters = [{"name": f.name, "usage": f.usage, "about": f.about} for f in FILTERS.values()]
    return send(
        Catalogue(
            kinds=views,
            filters=filters,
            connections=connections,
            sheets=sheets,
            brands=brands,
            workflows=called,
            zones=sorted(available_timezones()),
        )
    )


class NamePath(BaseModel):
    name: str = Field(max_length=60)


class Explained(BaseModel):
    """A setting, or a value a line gives."""

    title: str
    about: str
    required: bool = False


class ExampleView(BaseModel):
    """A line of a template, as it is read and as lines that can be pasted."""

    template: str
    sentence: list[PartView]
    lines: dict[str, Any]


class KindHelp(BaseModel):
    """A kind of line explained: what it does, its settings, what it gives, and an example."""

    title: str
    stage: str
    about: str
    settings: list[Explained]
    gives: list[Explained]
    example: ExampleView | None


@bp.get("/kinds/<name>", responses={200: KindHelp, 404: Problem})
@needs("reader")
def explained(path: NamePath) -> Reply:
    """What a kind of line does, for whoever stands on one."""
    kind = kinds().get(path.name)
    if kind is None:
        raise Refusal("This Ulmus does not know such a line.", 404)
    found, example = examples().get(kind.name), None
    if found is not None:
        line = Line.model_validate(found[1])
        with house().services.store.read() as session:
            parts = sentence(line, kind, world(session))
        lines = {"format": "ulmus-lines", "version": 1, "lines": [found[1]]}
        example = ExampleView(template=found[0], sentence=[PartView(what=p.what, text=p.text) for p in parts], lines=lines)
    settings = [
        Explained(title=field.title or name, about=field.description or "", required=field.is_required())
        for name, field in kind.settings.model_fields.items()
    ]
    gives = [Explained(title=name, about=field.description or "") for name, field in kind.output.model_fields.items()]
    return send(KindHelp(title=kind.title, stage=kind.stage, about=kind.about, settings=settings, gives=gives, example=example))


@bp.get("/workflows/<int:id>/bench", responses={200: BenchView})
@needs("reader")
def bench(path: BenchPath) -> Reply:
    """The workbench of one workflow."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        if record.state == "removed":
            raise Refusal(f"“{record.name}” was deleted. Its runs, and what it let out, are under Runs.", 404)
        samples = samples_of(session, path.id)
        revision = session.get(tables.Revision, record.revision_id) if record.revision_id else None
        start = session.get(tables.Start, path.id)
        around = world(session)
        brand = session.get(tables.Brand, record.brand) if record.brand else None
    workflow = Workflow.model_validate(record.document)
    shown = [s for s in samples if s.shown]
    columns = house().proofs.columns(workflow, shown)
    cells, costs = [], {}
    inner = outermost(workflow)
    for line in workflow.every_step:
        row = [columns[s.id].cells[line.id] for s in shown]
        if line.id in inner:
            cells += [_inner(workflow, one, columns[s.id].cells[one.id]) for one in (line, *takes_of(line, kinds())) for s in shown]
            continue
        cells += [cell_view(line, c.sample, c.state, c.result, around, c.partial, c.stops) for c in row]
        spent = [c.result.usage.get("cost", 0.0) for c in row if c.result is not None]
        costs[line.id] = sum(spent) / len(spent) if spent else 0.0
        for take in takes_of(line, kinds()):
            made = [columns[s.id].cells.get(take.id) or Cell(take.id, s.id, "empty") for s in shown]
            cells += [cell_view(take, c.sample, c.state, c.result, around, c.partial) for c in made]
    problems = check(workflow, kinds(), around)
    live = record.state == "live"
    with house().services.store.read() as session:
        leading, following = _leading(session, record), len(clients.followers(session, record.id))
    return send(
        BenchView(
            id=record.id,
            name=record.name,
            brand=brand.name if brand else "",
            brand_key=brand.key if brand else "",
            state=record.state,
            version=record.version,
            revision=revision.number if revision else None,
            changed=revision is not None and revision.document != record.document,
            document=record.document,
            lines=line_views(workflow, around, problems, costs),
            samples=[SampleView(id=s.id, label=s.label, shown=s.shown, item=s.item) for s in samples],
            start_fields=_start_fields(workflow, around),
            fields=_fields(workflow.start),
            cells=cells,
            looked_at=start.looked_at if start and live else None,
            found=start.found if start and live else "",
            failed=bool(start and start.failed and live),
            pushed=is_pushed(workflow.start),
            problems=[problem_view(p) for p in problems],
            follows=leading,
            clients=following,
        )
    )


def _leading(session: Session, record: tables.WorkflowRecord) -> LeadingView | None:
    leading = session.get(tables.WorkflowRecord, record.follows) if record.follows else None
    if leading is None:
        return LeadingView(id=0, name="", brand="") if record.follows and sight.brands() is not None else None
    brand = session.get(tables.Brand, leading.brand or "")
    return LeadingView(id=leading.id, name=leading.name, brand=brand.name if brand is not None else "")


@bp.get("/workflows/<int:id>/cells/<int:sample>/<step>", responses={200: ResultView})
@needs("reader")
def cell(path: CellPath, query: PlaceQuery) -> Reply:
    """One result in full."""
    workflow, samples = _load(path.id, [path.sample])
    line = line_or_take(workflow, path.step)
    if line is None or not samples:
        raise Refusal("This line is not on the page any more.", 404)
    column = house().proofs.columns(workflow, samples)[path.sample]
    if line.id == workflow.start.id:
        return send(ResultView(step=line.id, state="fresh", output=samples[0].item))
    base = line.id.split(MARK)[0]
    inside = base in outermost(workflow)
    found = column.cells.get(base if inside else line.id) or Cell(line.id, path.sample, "empty")
    if inside:
        return send(_inner_result(workflow, line, found, values_at(workflow, column, line.id), query.place))
    return send(result_view(workflow, line, found.state, found.result, column.values, _world()))


@bp.post("/workflows/<int:id>/proofs", responses={200: Fine})
@needs("maker")
def make(path: BenchPath, body: RunProofs) -> Reply:
    """Make proofs. Answers at once; the cells follow by live events."""
    workflow, samples = _load(path.id, body.samples)
    house().proofs.run(path.id, workflow, samples, set(body.steps) if body.steps is not None else None, body.again)
    return send(Fine())


@bp.delete("/workflows/<int:id>/proofs", responses={200: Fine})
@needs("maker")
def stop(path: BenchPath) -> Reply:
    """Stop what is being made."""
    house().proofs.stop(path.id)
    return send(Fine())


@bp.get("/workflows/<int:id>/values/<step>", responses={200: Listing[ValueView]})
@needs("reader")
def values(path: ValuesPath, query: ValuesQuery) -> Reply:
    """The values a line can point at, with their real content in a sample."""
    workflow, samples = _load(path.id, [query.sample] if query.sample else None)
    column = house().proofs.columns(workflow, samples[:1])[samples[0].id] if samples else Column()
    step = path.step.split("~")[0]
    found = values_at(workflow, column, step)
    about = {line.id: kinds().get(line.kind) for line in workflow.lines}
    with house().services.store.read() as session:
        around = world(session)
    out: list[ValueView] = []
    line = workflow.line(step)
    for root, known in {**scope_before(workflow, kinds(), step, around), **_of_its_own(line, around)}.items():
        if root == "brand" and not workflow.brand:
            continue
        kind = about.get(root)
        title = kind.title if kind else {"brand": "The brand", "run": "The run", READER: "Each reader"}.get(root, root)
        fields = known if isinstance(known, dict) else {"": known}
        for name, shape in fields.items():
            if name == "*":
                continue
            told = kind.output.model_fields[name].description or "" if kind and name in kind.output.model_fields else ""
            here = (
                found.get(root) if name == "" else (found.get(root) or {}).get(name) if isinstance(found.get(root), dict) else None
            )
            out += _values(slots.Path((root, name)) if name else slots.Path((root,)), root, title, told, shape, here)
    return send(out)


def _of_its_own(line: Line | None, around: World) -> dict[str, Any]:
    """What texts of a line may name that nothing else on the page has: the columns of a mailing's list."""
    kind = kinds().get(line.kind) if line is not None else None
    if line is None or kind is None:
        return {}
    texts = (setting for setting in settings_of(kind.settings).values() if setting.control.own_roots)
    sheet = next((around.sheets.get(str(line.settings.get(text.needs, ""))) for text in texts), None)
    return {READER: dict.fromkeys(sheet[1], "text")} if sheet else {}


def _values(path: slots.Path, root: str, title: str, about: str, shape: Any, value: Any) -> list[ValueView]:
    """A value, and those that stand under it."""
    if isinstance(shape, dict):
        here = value if isinstance(value, dict) else {}
        return [
            one
            for name, inner in shape.items()
            for one in _values(slots.Path((*path.parts, name)), root, title, about, inner, here.get(name))
        ]
    word = "list" if isinstance(shape, list) else str(shape)
    view = ValueView(path=str(path), root=root, title=title, about=about, type=word, value=value, known=value is not None)
    if isinstance(shape, list) and isinstance(shape[0], dict):
        view.inside = list(shape[0])
    return [view]


def _inner(workflow: Workflow, line: Line, cell: Cell) -> CellView:
    """The cell of a line inside a block: what its carryings-out came to."""
    view = CellView(step=line.id, sample=cell.sample, state=cell.state, partial=cell.partial)
    if cell.state == "running" and cell.done + cell.at_work:
        view.count, view.counts = cell.done + cell.at_work, {"fresh": cell.done, "running": cell.at_work}
        return view
    if cell.state == "muted" or cell.result is None:
        return view
    cells = [one.cell for one in rehearsed(workflow, line, cell.result.detail, cell.sample)]
    if not cells:
        view.state = "passed" if cell.state == "fresh" else cell.state
        return view
    view = gathered(line, cells) if len(cells) > 1 else cells[0]
    if cell.state in ("stale", "running"):
        view.state = cell.state
    view.at = cell.result.at
    return view


def _inner_result(workflow: Workflow, line: Line, cell: Cell, values: dict[str, Any], place: str) -> ResultView:
    """One carrying-out of a line inside a block in full, with the others to choose from."""
    view = ResultView(step=line.id, state=cell.state, given=given(workflow, line, values))
    if cell.result is None:
        return view
    view.iterations = rehearsed(workflow, line, cell.result.detail, cell.sample)
    chosen = next((i.address for i in view.iterations if i.address == place), view.iterations[0].address if view.iterations else "")
    record = cell.result.detail.get("places", {}).get(chosen)
    if record is None:
        return view
    proof = tables.Proof(
        key="", ok=record["ok"], output=record["output"], detail=record["detail"], usage=record["usage"], at=cell.result.at
    )
    full = result_view(workflow, line, cell.state, proof, values, _world())
    full.iterations, full.address = view.iterations, chosen
    return full


def _world() -> World:
    with house().services.store.read() as session:
        return world(session)


def line_or_take(workflow: Workflow, step: str) -> Line | None:
    """A line of the page, or one of its takes."""
    known = (take for line in workflow.every_step for take in takes_of(line, kinds()))
    return workflow.line(step) or next((take for take in known if take.id == step), None)


def _start_fields(workflow: Workflow, around: Any) -> dict[str, str]:
    """What an item of the start is made of, for typing one in: names and types."""
    kind = kinds().get(workflow.start.kind)
    given = kind.given(workflow.start.settings, around) if kind else {}
    return {name: shape if isinstance(shape, str) else "list" for name, shape in given.items() if name != "*"}


def _fields(start: Line) -> list[dict[str, Any]]:
    """The fields a start has somebody fill in; none where it brings its items itself."""
    plan = plan_of(start) if start.kind in kinds() else None
    return [field.model_dump(mode="json") for field in plan.fields] if isinstance(plan, FormPlan | HandPlan) else []


def _load(workflow_id: int, wanted: list[int] | None) -> tuple[Workflow, list[tables.Sample]]:
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        samples = samples_of(session, workflow_id)
    chosen = [s for s in samples if (s.id in wanted if wanted is not None else s.shown)]
    return Workflow.model_validate(record.document), chosen
