"""The rows of a sheet as a grid shows them: found, sorted, in groups, summed up; written many at once; looked at by several people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...runtime import records, sheets
from ...runtime.sheetquery import Asked, NotACondition, Sum
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..schemas.asked import AskedQuery, Where, asked_of, list_of
from ..security.auth import needs

MOST_WRITTEN, MOST_CHOSEN = 5000, 5000
Found = TypeVar("Found")

bp = Part("grid", __name__, url_prefix="/api", abp_tags=[Tag(name="sheets")])


class SheetPath(BaseModel):
    key: str


class RowPath(BaseModel):
    key: str
    row: int


class ViewPath(BaseModel):
    key: str
    id: int


class RowView(BaseModel):
    """A row; `wrong` says of cells that are not of their column's type what is wrong."""

    id: int
    position: int
    cells: dict[str, Any]
    run: int | None
    wrong: dict[str, str] = {}


class RowsView(BaseModel):
    rows: list[RowView]
    total: int


class RowQuery(AskedQuery):
    offset: int = Field(0, ge=0)
    limit: int = Field(200, ge=1, le=1000)


class ChosenView(BaseModel):
    ids: list[int]
    total: int


class SumsQuery(AskedQuery):
    """What columns come to: a JSON list of `column` and `what`."""

    sums: str = Field("", max_length=10_000)


class Wanted(Body):
    column: str
    what: Sum


class GroupView(BaseModel):
    """Rows in which a column says the same."""

    label: str
    count: int


class SumView(BaseModel):
    """What a column comes to; nothing where it holds nothing of the kind."""

    column: str
    what: Sum
    value: float | str | None


class WrittenRow(Body):
    """Texts for some cells of a row, by its number."""

    row: int
    cells: dict[str, str]


class WrittenBody(Body):
    """Cells of rows that are there, and rows that come at the end: all of it or nothing."""

    rows: list[WrittenRow] = Field([], max_length=MOST_WRITTEN)
    add: list[dict[str, str]] = Field([], max_length=MOST_WRITTEN)


class CellsBody(Body):
    cells: dict[str, str]


class NewRows(Body):
    """Rows as cells by column name."""

    rows: list[dict[str, str]] = Field(max_length=MOST_WRITTEN)


class RowIds(Body):
    ids: list[int] = Field(max_length=MOST_WRITTEN)


class ChangedView(BaseModel):
    """How many rows were changed, and the numbers of the changes, by which they can be taken back."""

    count: int
    changes: list[int]


class PlaceBody(Body):
    """Where one is in a sheet: the row's number and the column; `leaving` where one goes."""

    row: int = 0
    column: str = Field("", max_length=120)
    leaving: bool = False


class ShownBody(Body):
    """A way of looking at a sheet: what is kept and in what order, in which groups, which columns are hidden, stand first and stay
    put, how wide they are (pixels), and what stands under them."""

    words: str = Field("", max_length=500)
    where: list[Where] = Field([], max_length=50)
    sort: str = ""
    down: bool = False
    group: str = ""
    hidden: list[str] = Field([], max_length=200)
    order: list[str] = Field([], max_length=200)
    frozen: int = Field(0, ge=0, le=10)
    widths: dict[str, int] = Field({}, max_length=200)
    sums: dict[str, Sum] = Field({}, max_length=200)


class NamedBody(Body):
    name: str = Field(min_length=1, max_length=80)
    shows: ShownBody


class NamedView(BaseModel):
    id: int
    name: str
    shows: ShownBody


@bp.get("/sheets/<key>/rows", responses={200: RowsView, 422: Problem})
@needs("reader")
def rows(path: SheetPath, query: RowQuery) -> Reply:
    """Rows, in their order or sorted by a column, those that contain all words and fit all conditions."""
    services = house().services
    with services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        asked = asked_of(query)
        if asked == Asked():
            # As they stand: found by their place, without a list of all of them.
            row = tables.SheetRow
            total = sheets.held(session, path.key)
            as_they_stand = select(row).where(row.sheet == path.key).order_by(row.position)
            found = list(session.scalars(as_they_stand.offset(query.offset).limit(query.limit)))
            if query.offset == 0:
                services.sheet_reads.prepare(session, sheet)
        else:
            part = slice(query.offset, query.offset + query.limit)
            ids, total = _or_refused(lambda: services.sheet_reads.ids(session, sheet, asked, part))
            found = services.sheet_reads.rows(session, ids)
        return send(RowsView(rows=[_row(sheet, one) for one in found], total=total))


def _row(sheet: tables.Sheet, row: tables.SheetRow) -> RowView:
    return RowView(id=row.id, position=row.position, cells=row.cells, run=row.run_id, wrong=sheets.wrong(sheet, row.cells))


@bp.get("/sheets/<key>/numbers", responses={200: ChosenView, 422: Problem})
@needs("reader")
def numbers(path: SheetPath, query: AskedQuery) -> Reply:
    """The numbers of the rows that are asked for, as many as can be chosen at once, and how many there are."""
    services = house().services
    with services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        ids, total = _or_refused(lambda: services.sheet_reads.ids(session, sheet, asked_of(query), slice(0, MOST_CHOSEN)))
    return send(ChosenView(ids=ids, total=total))


@bp.get("/sheets/<key>/rows/<int:row>", responses={200: RowView, 404: Problem})
@needs("reader")
def one(path: RowPath) -> Reply:
    """One row, by its number."""
    with house().services.store.read() as session:
        return send(_row(session.get_one(tables.Sheet, path.key), _in_sheet(session, path)))


@bp.get("/sheets/<key>/groups", responses={200: Listing[GroupView], 422: Problem})
@needs("reader")
def groups(path: SheetPath, query: AskedQuery) -> Reply:
    """The groups of rows by a column, in the order of the rows; those in which it is empty last."""
    services = house().services
    with services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        found = _or_refused(lambda: services.sheet_reads.groups(session, sheet, asked_of(query)))
    return send([GroupView(label=group.label, count=group.count) for group in found])


@bp.get("/sheets/<key>/sums", responses={200: Listing[SumView], 422: Problem})
@needs("reader")
def sums(path: SheetPath, query: SumsQuery) -> Reply:
    """What columns of the rows come to."""
    services = house().services
    wanted = [(one.column, one.what) for one in list_of(Wanted, query.sums)[:200]]
    with services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        found = _or_refused(lambda: services.sheet_reads.sums(session, sheet, asked_of(query), wanted))
    return send([SumView(column=c, what=what, value=value) for (c, what), value in zip(wanted, found, strict=True)])


def _or_refused(work: Callable[[], Found]) -> Found:
    try:
        return work()
    except NotACondition as error:
        raise Refusal(str(error), 422) from None


# -- writing ----------------------------------------------------------------------------------------------


@bp.post("/sheets/<key>/write", responses={200: ChangedView, 422: Problem})
@needs("maker")
def write(path: SheetPath, body: WrittenBody) -> Reply:
    """Write into cells of many rows, and add rows: all of it or nothing."""

    def work(session: Session, sheet: tables.Sheet, by: records.By) -> list[tables.RowChange]:
        changed = records.put_cells(session, sheet, ((row.row, row.cells) for row in body.rows), by)
        return changed + records.add(session, sheet, body.add, by)

    return send(_changed(path.key, work))


@bp.post("/sheets/<key>/rows", responses={201: ChangedView, 422: Problem})
@needs("maker")
def add(path: SheetPath, body: NewRows) -> Reply:
    """Add rows at the end."""
    return send(_changed(path.key, lambda session, sheet, by: records.add(session, sheet, body.rows, by)), 201)


@bp.patch("/sheets/<key>/rows/<int:row>", responses={200: Fine, 404: Problem, 422: Problem})
@needs("maker")
def change(path: RowPath, body: CellsBody) -> Reply:
    """Change some cells of a row."""
    with house().services.store.read() as session:
        _in_sheet(session, path)
    _changed(path.key, lambda session, sheet, by: records.put_cells(session, sheet, [(path.row, body.cells)], by))
    return send(Fine())


@bp.post("/sheets/<key>/rows/delete", responses={200: ChangedView})
@needs("maker")
def remove(path: SheetPath, body: RowIds) -> Reply:
    """Remove rows; for thirty days they can be brought back."""
    return send(_changed(path.key, lambda session, sheet, by: records.remove(session, sheet, body.ids, by)))


def _changed(key: str, work: Callable[[Session, tables.Sheet, records.By], list[tables.RowChange]]) -> ChangedView:
    services = house().services
    try:
        with services.store.write() as session:
            sheet = session.get_one(tables.Sheet, key)
            changes = work(session, sheet, records.By(services.clock(), who=g.user.name))
            view = ChangedView(count=len(changes), changes=[one.id for one in changes])
    except ValueError as error:
        raise Refusal(str(error), 422) from None
    services.bus.publish("sheet", key=key)
    return view


def _in_sheet(session: Session, path: RowPath) -> tables.SheetRow:
    row = session.get_one(tables.SheetRow, path.row)
    if row.sheet != path.key:
        raise Refusal("This row is in another sheet.", 404)
    return row


@bp.post("/sheets/<key>/here", responses={200: Fine})
@needs("reader")
def here(path: SheetPath, body: PlaceBody) -> Reply:
    """Tell the others who look at this sheet in which cell one is. Nothing is kept."""
    told = {"row": body.row, "column": body.column, "leaving": body.leaving}
    house().services.bus.publish("cell", key=path.key, who=g.user.email, name=g.user.name, **told)
    return send(Fine())


# -- views by name ----------------------------------------------------------------------------------------


@bp.get("/sheets/<key>/views", responses={200: Listing[NamedView]})
@needs("reader")
def views(path: SheetPath) -> Reply:
    """The ways of looking at a sheet that were kept."""
    wanted = select(tables.SheetView).where(tables.SheetView.sheet == path.key).order_by(tables.SheetView.name)
    with house().services.store.read() as session:
        return send([_view(one) for one in session.scalars(wanted)])


@bp.post("/sheets/<key>/views", responses={201: NamedView, 404: Problem, 422: Problem})
@needs("maker")
def keep(path: SheetPath, body: NamedBody) -> Reply:
    """Keep a way of looking at a sheet under a name; one of that name is changed."""
    view = tables.SheetView
    with house().services.store.write() as session:
        session.get_one(tables.Sheet, path.key)
        record = session.scalar(select(view).where(view.sheet == path.key, view.name == body.name.strip()))
        if record is None:
            record = view(sheet=path.key, name=body.name.strip())
            session.add(record)
        record.shows = body.shows.model_dump(mode="json")
        session.flush()
        kept = _view(record)
    house().services.bus.publish("sheet", key=path.key)
    return send(kept, 201)


@bp.delete("/sheets/<key>/views/<int:id>", responses={200: Fine, 404: Problem})
@needs("maker")
def forget(path: ViewPath) -> Reply:
    """Take a view away; the rows stay."""
    with house().services.store.write() as session:
        record = session.get_one(tables.SheetView, path.id)
        if record.sheet != path.key:
            raise Refusal("This view is of another sheet.", 404)
        session.delete(record)
    house().services.bus.publish("sheet", key=path.key)
    return send(Fine())


def _view(record: tables.SheetView) -> NamedView:
    return NamedView(id=record.id, name=record.name, shows=ShownBody.model_validate(record.shows))
