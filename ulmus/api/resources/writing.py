"""Writing the page: what can come next, and one change at a time, each by name; nobody's change is overwritten."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...core.workflow import Workflow, edits, finder
from ...core.workflow.edits import EditError, Place
from ...protocols.errors import OutsideError
from ...runtime import sketching, workflows
from ...runtime.services import audit, world
from ...steps import kinds
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs
from .revisions import LineChangeView, changes_between

bp = Part("writing", __name__, url_prefix="/api", abp_tags=[Tag(name="writing")])


class WorkflowPath(BaseModel):
    id: int


class OfferQuery(Body):
    """The line that what is looked for follows, empty for the start itself, ``-`` for the end; and the words typed."""

    line: str = ""
    words: str = Field("", max_length=200)


class OfferView(BaseModel):
    kind: str
    stage: str
    title: str
    about: str
    settings: dict[str, Any]
    lacks: str
    target: str = ""
    kind_title: str = ""


class EditBody(Body):
    """One change to the page as it was at `version`. Which fields count depends on `what`:

    add: `kind` and `settings` after `line` · start: `kind` and `settings` of the start · paste: `lines` (JSON of the
    format ulmus-lines) after `line` · move: `line` to `index` in `parent` · up, down, in, out, duplicate, remove, add_lane,
    remove_lane, spread (have it stand among destinations): `line` · rename: `line` to `name` · put_behind: the lines `moving`, in this order, behind `line`.
    """

    version: int
    what: Literal[
        "add",
        "start",
        "paste",
        "move",
        "up",
        "down",
        "in",
        "out",
        "duplicate",
        "remove",
        "rename",
        "add_lane",
        "remove_lane",
        "put_behind",
        "spread",
    ]
    line: str = ""
    kind: str = ""
    settings: dict[str, Any] = {}
    lines: dict[str, Any] = {}
    parent: str = ""
    index: int = 0
    name: str = Field("", max_length=80)
    moving: list[str] = Field([], max_length=100)


class HereBody(Body):
    """On which line somebody is, empty for none; `leaving` as they go."""

    line: str = Field("", max_length=60)
    leaving: bool = False


class Edited(BaseModel):
    """The page after the change, and the line to look at next."""

    version: int
    document: dict[str, Any]
    line: str


@bp.get("/workflows/<int:id>/offers", responses={200: Listing[OfferView]})
@needs("maker")
def offers(path: WorkflowPath, query: OfferQuery) -> Reply:
    """What can come after a line, the most sensible first."""
    with house().services.store.read() as session:
        workflow = Workflow.model_validate(session.get_one(tables.WorkflowRecord, path.id).document)
        around = world(session)
    try:
        found = finder.find(workflow, kinds(), query.line, query.words, around, g.user.email)
    except EditError as error:
        raise Refusal(str(error), 409) from None
    return send([OfferView(**vars(offer)) for offer in found])


class FilledBody(Body):
    """A line with its settings as they are set, and which of them was chosen just now."""

    line: str
    settings: dict[str, Any]
    changed: str


class FilledView(BaseModel):
    """What other settings of the line become by that."""

    settings: dict[str, Any]


@bp.post("/workflows/<int:id>/filled", responses={200: FilledView, 409: Problem})
@needs("maker")
def filled(path: WorkflowPath, body: FilledBody) -> Reply:
    """What settings of a line mean once another was chosen, such as the cells of a sheet. Nothing is changed."""
    with house().services.store.read() as session:
        workflow = Workflow.model_validate(session.get_one(tables.WorkflowRecord, path.id).document)
        around = world(session)
    try:
        return send(FilledView(settings=finder.filled(workflow, kinds(), body.line, body.settings, body.changed, around)))
    except EditError as error:
        raise Refusal(str(error), 409) from None


class SaidBody(Body):
    """What is to change, in words; with `line`, what is to happen behind that one. `model` is the key of a connection, empty for the
    first there is."""

    words: str = Field(min_length=3, max_length=4000)
    line: str = Field("", max_length=60)
    model: str = Field("", max_length=60)


class SaidView(BaseModel):
    """The page as it would be, what differs in it, and notes on what could not be done. Nothing is changed before it is taken."""

    document: dict[str, Any]
    changes: list[LineChangeView]
    notes: list[str]


@bp.post("/workflows/<int:id>/said", responses={200: SaidView, 409: Problem, 502: Problem})
@needs("maker")
def said(path: WorkflowPath, body: SaidBody) -> Reply:
    """Have a model turn what is said of a page into changes of it, to be looked at."""
    services = house().services
    with services.store.read() as session:
        page = Workflow.model_validate(session.get_one(tables.WorkflowRecord, path.id).document)
        around = world(session)
    if body.line and page.line(body.line) is None:
        raise Refusal("This line is not on the page any more.", 409)
    try:
        found, usage = sketching.change_page(services, body.words, page, body.model, g.user.email, body.line)
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "had a change drafted", f"{page.name}: {usage.cost:.4f}")
    changes = changes_between(page, found.workflow, around)
    notes = found.notes or ([] if changes else ["Nothing in it is a change that could be told. Say which line, and what of it."])
    return send(SaidView(document=found.workflow.model_dump(mode="json"), changes=changes, notes=notes))


@bp.post("/workflows/<int:id>/here", responses={200: Fine})
@needs("reader")
def here(path: WorkflowPath, body: HereBody) -> Reply:
    """Tell the others on this page where one is. Nothing is kept."""
    house().services.bus.publish("here", id=path.id, who=g.user.email, name=g.user.name, line=body.line, leaving=body.leaving)
    return send(Fine())


@bp.post("/workflows/<int:id>/edits", responses={200: Edited, 409: Problem, 422: Problem})
@needs("maker")
def edit(path: WorkflowPath, body: EditBody) -> Reply:
    """Make one change. Refused, with nothing overwritten, where someone else saved meanwhile."""
    services = house().services
    with services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        if record.version != body.version:
            raise Refusal("Someone else changed this page meanwhile. Load it again to see their changes.", 409)
        try:
            page, line = _DO[body.what](Workflow.model_validate(record.document), body)
        except EditError as error:
            raise Refusal(str(error), 422) from None
        version = workflows.save(session, path.id, page, body.version, services.clock())
    services.bus.publish("page", id=path.id, version=version)
    return send(Edited(version=version, document=page.model_dump(mode="json"), line=line))


def _add(page: Workflow, body: EditBody) -> tuple[Workflow, str]:
    _known(body.kind)
    line = finder.made(finder.Offer(body.kind, "", "", "", body.settings), kinds(), page)
    new, names = edits.add(page, [line], edits.after(page, body.line, kinds()), kinds())
    return new, names[0]


def _start(page: Workflow, body: EditBody) -> tuple[Workflow, str]:
    _known(body.kind)
    start = finder.made(finder.Offer(body.kind, "", "", "", body.settings), kinds(), page)
    return page.model_copy(update={"start": start}), start.id


def _paste(page: Workflow, body: EditBody) -> tuple[Workflow, str]:
    lines = edits.from_text(body.lines)
    if not lines:
        raise EditError("This text holds no copied lines.")
    new, names = edits.add(page, lines, edits.after(page, body.line, kinds()), kinds())
    return new, names[0]


def _remove(page: Workflow, body: EditBody) -> tuple[Workflow, str]:
    ids = [line.id for line in page.lines]
    at = ids.index(body.line) if body.line in ids else 1
    new = edits.remove(page, body.line)
    left = [line.id for line in new.lines]
    return new, left[min(at, len(left) - 1)]


def _shifted(way: str) -> Callable[[Workflow, EditBody], tuple[Workflow, str]]:
    return lambda page, body: (edits.shift(page, body.line, way, kinds()), body.line)


def _known(kind: str) -> None:
    if kind not in kinds():
        raise EditError(f"This Ulmus does not know the kind “{kind}”.")


_DO: dict[str, Callable[[Workflow, EditBody], tuple[Workflow, str]]] = {
    "add": _add,
    "start": _start,
    "paste": _paste,
    "remove": _remove,
    "move": lambda page, body: (edits.move(page, body.line, Place(body.parent, body.index), kinds()), body.line),
    "put_behind": lambda page, body: (edits.put_behind(page, body.moving, body.line, kinds()), (body.moving or [body.line])[0]),
    "duplicate": lambda page, body: edits.duplicate(page, body.line, kinds()),
    "spread": lambda page, body: (edits.spread(page, body.line, kinds()), body.line),
    "rename": lambda page, body: (edits.rename(page, body.line, body.name, kinds()), body.name.strip().lower()),
    "add_lane": lambda page, body: (edits.add_lane(page, body.line, kinds())[0], body.line),
    "remove_lane": lambda page, body: (edits.remove_lane(page, body.line), edits.holder_of(page, body.line).id),
    **{way: _shifted(way) for way in ("up", "down", "in", "out")},
}
