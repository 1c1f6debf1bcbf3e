"""What was done to rows: of a row, of a run, and the rows that were removed; and taking it back."""

from __future__ import annotations

from typing import Any, Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...runtime import records
from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("rows", __name__, url_prefix="/api", abp_tags=[Tag(name="sheets")])


class SheetPath(BaseModel):
    key: str


class RowPath(BaseModel):
    key: str
    row: int


class ChangePath(BaseModel):
    id: int


class RunPath(BaseModel):
    id: int


class AddressQuery(Body):
    """Of one place of the run only; empty: of all of it."""

    address: str = ""


class RowChangeView(BaseModel):
    """What was done to a row, by a run or by somebody: the cells that changed, before and after (all of them where the row came or
    went). `undone_by` took it back."""

    id: int
    sheet: str
    sheet_name: str
    row: int
    place: int
    at: float
    what: Literal["added", "written", "moved", "removed"]
    who: str
    run: int | None
    run_title: str = ""
    address: str
    before: dict[str, Any]
    after: dict[str, Any]
    undone_by: str


class ChangeIds(Body):
    ids: list[int] = Field(max_length=20_000)


class UndoneView(BaseModel):
    """How many changes were taken back, by which changes (that can be taken back in turn), and why others were not."""

    count: int
    changes: list[int]
    left: list[str]


@bp.get("/sheets/<key>/rows/<int:row>/history", responses={200: Listing[RowChangeView]})
@needs("reader")
def history(path: RowPath) -> Reply:
    """What was done to a row, the latest first."""
    with house().services.store.read() as session:
        return send(_views(session, [one for one in records.history(session, path.row) if _of_sheet(session, one, path.key)]))


@bp.get("/sheets/<key>/removed", responses={200: Listing[RowChangeView]})
@needs("reader")
def removed(path: SheetPath) -> Reply:
    """The rows that were removed in the last thirty days, the latest first."""
    services = house().services
    with services.store.read() as session:
        return send(_views(session, records.removed(session, path.key, services.clock())))


@bp.post("/row-changes/<int:id>/undo", responses={200: UndoneView, 404: Problem})
@needs("maker")
def undo(path: ChangePath) -> Reply:
    """Take one change of a row back; bring a row back that was removed."""
    with house().services.store.write() as session:
        change = session.get(tables.RowChange, path.id)
        if change is None:
            raise Refusal("This change is not known any more.", 404)
        return send(_undone(session, [change]))


@bp.post("/row-changes/undo", responses={200: UndoneView})
@needs("maker")
def undo_many(body: ChangeIds) -> Reply:
    """Take changes of rows back, the last first; what somebody changed since is left."""
    with house().services.store.write() as session:
        change = tables.RowChange
        return send(_undone(session, list(session.scalars(select(change).where(change.id.in_(body.ids))))))


@bp.get("/runs/<int:id>/rows", responses={200: Listing[RowChangeView]})
@needs("reader")
def of_run(path: RunPath, query: AddressQuery) -> Reply:
    """What a run did to rows, in order."""
    with house().services.store.read() as session:
        return send(_views(session, records.changes_of_run(session, path.id, query.address)))


@bp.post("/runs/<int:id>/rows/undo", responses={200: UndoneView})
@needs("maker")
def undo_run(path: RunPath, body: AddressQuery) -> Reply:
    """Take back what a run did to rows; what somebody changed since is left."""
    with house().services.store.write() as session:
        return send(_undone(session, records.changes_of_run(session, path.id, body.address)))


def _of_sheet(session: Session, change: tables.RowChange, sheet: str) -> bool:
    row = session.get(tables.SheetRow, change.row_id)
    return (row.sheet if row is not None else change.sheet) == sheet


def _undone(session: Session, changes: list[tables.RowChange]) -> UndoneView:
    services = house().services
    before = sum(not one.undone_by for one in changes)
    made, left = records.undo(session, changes, records.By(services.clock(), who=g.user.name))
    if before:
        audit(session, services.clock(), g.user.email, "took changes of rows back", f"{before - len(left)} of {before}")
    for sheet in {one.sheet for one in changes} | {str(one.before.get("sheet")) for one in changes if one.what == "moved"}:
        services.bus.publish("sheet", key=sheet)
    return UndoneView(count=before - len(left), changes=[one.id for one in made], left=left)


def _views(session: Session, changes: list[tables.RowChange]) -> list[RowChangeView]:
    names = dict(session.execute(select(tables.Sheet.key, tables.Sheet.name)).all())
    runs = {one.run_id for one in changes if one.run_id is not None}
    titles = dict(session.execute(select(tables.Run.id, tables.Run.title).where(tables.Run.id.in_(runs))).all())
    return [
        RowChangeView(
            id=one.id,
            sheet=one.sheet,
            sheet_name=names.get(one.sheet, one.sheet),
            row=one.row_id,
            place=one.place,
            at=one.at,
            what=one.what,
            who=one.who,
            run=one.run_id,
            run_title=titles.get(one.run_id, "") if one.run_id is not None else "",
            address=one.address,
            before=one.before,
            after=one.after,
            undone_by=one.undone_by,
        )
        for one in changes
    ]
