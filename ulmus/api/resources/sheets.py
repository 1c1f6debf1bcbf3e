"""Sheets: grids with typed columns; rows by the page, edits cell by cell, files in, CSV out."""

from __future__ import annotations

from typing import Any, Literal

from flask import Response
from flask_openapi3 import APIBlueprint, FileStorage, Tag
from pydantic import BaseModel, Field
from sqlalchemy import Float, cast, delete, func, select
from sqlalchemy.orm import Session

from ...protocols.documents import LARGEST
from ...runtime import rowsent, sheets
from ...runtime.runs import counted
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send, uploaded
from ..security.auth import needs

bp = APIBlueprint("sheets", __name__, url_prefix="/api", abp_tags=[Tag(name="sheets")])


class SheetPath(BaseModel):
    key: str


class FilePath(BaseModel):
    key: str
    kind: Literal["csv", "xlsx", "ods"]


class RowPath(BaseModel):
    key: str
    row: int


class Column(Body):
    name: str = Field(min_length=1, max_length=120)
    type: str = "text"


class SheetView(BaseModel):
    key: str
    name: str
    columns: list[Column]
    rows: int


class RowView(BaseModel):
    id: int
    position: int
    cells: dict[str, Any]
    run: int | None


class RowQuery(Body):
    words: str = ""
    sort: str = ""
    down: bool = False
    offset: int = Field(0, ge=0)
    limit: int = Field(200, ge=1, le=1000)


class RowsView(BaseModel):
    rows: list[RowView]
    total: int


class NewSheet(Body):
    """A new sheet: a name and columns."""

    name: str = Field(min_length=1, max_length=120)
    columns: list[Column]


class SheetFile(Body):
    """A file with rows (CSV, XLSX, ODS) or a list of feeds (OPML): into a sheet by its key, or into a new one."""

    file: FileStorage
    into: str = ""
    name: str = Field("", max_length=120)


class ColumnsBody(Body):
    columns: list[Column]
    renamed: dict[str, str] = {}


class NewRows(Body):
    """Rows as cells by column name."""

    rows: list[dict[str, str]]


class CellsBody(Body):
    cells: dict[str, str]


class RowIds(Body):
    ids: list[int] = Field(max_length=10_000)


class Counted(BaseModel):
    count: int


class SendRows(Body):
    """Rows to be sent through a workflow; `again`: also those it has had before."""

    workflow: int
    ids: list[int] = Field(min_length=1, max_length=10_000)
    again: bool = False


class SentRows(BaseModel):
    """How many runs began, and how many rows were left out because the workflow has had them, or they are empty."""

    count: int
    left_out: int


class Taker(BaseModel):
    """A live workflow that starts from rows of this sheet."""

    id: int
    name: str


def _count(session: Session, sheet: str) -> int:
    return sum(counted(session, "rows", sheet).values())


@bp.get("/sheets", responses={200: Listing[SheetView]})
@needs("reader")
def listing() -> Reply:
    """All sheets."""
    with house().services.store.read() as session:
        sheet_views = [_view(s, _count(session, s.key)) for s in session.scalars(select(tables.Sheet).order_by(tables.Sheet.name))]
    return send(sheet_views)


@bp.post("/sheets", responses={201: SheetView, 422: Problem})
@needs("maker")
def create(body: NewSheet) -> Reply:
    """Make a sheet."""
    with house().services.store.write() as session:
        try:
            sheet = sheets.create(session, body.name, [c.model_dump() for c in body.columns])
        except ValueError as error:
            raise Refusal(str(error), 422) from None
    return send(_view(sheet, 0), 201)


@bp.post("/sheets/file", responses={201: SheetView, 422: Problem})
@needs("maker")
def bring(form: SheetFile) -> Reply:
    """Bring in a file: its first line names the columns, and those the sheet does not have yet come at its end."""
    file = uploaded()
    called = (file.filename or "").rsplit(".", 1)[0]
    try:
        heads, rows = sheets.from_file(file.stream.read(LARGEST + 1), file.filename or "")
        with house().services.store.write() as session:
            if form.into:
                sheet = session.get_one(tables.Sheet, form.into)
                sheets.widen(sheet, heads)
            else:
                named = [{"name": h, "type": "text"} for h in heads]
                sheet = sheets.create(session, form.name.strip() or called[:120] or "Sheet", named)
            sheets.add_rows(session, sheet, rows)
    except ValueError as error:
        raise Refusal(str(error), 422) from None
    house().services.bus.publish("sheet", key=sheet.key)
    return send(_view(sheet, len(rows)), 201)


@bp.put("/sheets/<key>/columns", responses={200: SheetView, 422: Problem})
@needs("maker")
def columns(path: SheetPath, body: ColumnsBody) -> Reply:
    """Change the columns."""
    with house().services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        try:
            sheets.set_columns(session, sheet, [c.model_dump() for c in body.columns], body.renamed)
        except ValueError as error:
            raise Refusal(str(error), 422) from None
        count = _count(session, path.key)
    house().services.bus.publish("sheet", key=path.key)
    return send(_view(sheet, count))


@bp.get("/sheets/<key>/rows", responses={200: RowsView})
@needs("reader")
def rows(path: SheetPath, query: RowQuery) -> Reply:
    """Rows, in their order or sorted by a column, those that contain all words."""
    row = tables.SheetRow
    with house().services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        wanted = select(row).where(row.sheet == path.key)
        for word in query.words.split():
            wanted = wanted.where(_any_cell_like(sheet, word))
        if query.words.split():
            total = session.scalar(select(func.count()).select_from(wanted.subquery())) or 0
        else:
            total = _count(session, path.key)
        by = _order(sheet, query.sort)
        wanted = wanted.order_by(by.desc() if query.down else by, row.position)
        sheet_rows = list(session.scalars(wanted.offset(query.offset).limit(query.limit)))
    return send(
        RowsView(rows=[RowView(id=r.id, position=r.position, cells=r.cells, run=r.run_id) for r in sheet_rows], total=total)
    )


@bp.post("/sheets/<key>/rows", responses={201: Counted, 422: Problem})
@needs("maker")
def add(path: SheetPath, body: NewRows) -> Reply:
    """Add rows at the end."""
    with house().services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        try:
            count = sheets.add_rows(session, sheet, body.rows)
        except ValueError as error:
            raise Refusal(str(error), 422) from None
    house().services.bus.publish("sheet", key=path.key)
    return send(Counted(count=count), 201)


@bp.patch("/sheets/<key>/rows/<int:row>", responses={200: Fine, 422: Problem})
@needs("maker")
def change(path: RowPath, body: CellsBody) -> Reply:
    """Change some cells of a row."""
    with house().services.store.write() as session:
        row = session.get_one(tables.SheetRow, path.row)
        if row.sheet != path.key:
            raise Refusal("This row is in another sheet.", 404)
        try:
            row.cells = {**row.cells, **{name: sheets.check_cell(v) for name, v in body.cells.items()}}
        except ValueError as error:
            raise Refusal(str(error), 422) from None
    house().services.bus.publish("sheet", key=path.key)
    return send(Fine())


@bp.get("/sheets/<key>/workflows", responses={200: Listing[Taker]})
@needs("reader")
def takers(path: SheetPath) -> Reply:
    """The live workflows that chosen rows can be sent through."""
    with house().services.store.read() as session:
        found = rowsent.takers(session, path.key)
    return send([Taker(id=number, name=name) for number, name in found])


@bp.post("/sheets/<key>/rows/send", responses={201: SentRows, 409: Problem})
@needs("maker")
def send_rows(path: SheetPath, body: SendRows) -> Reply:
    """Begin a run of a workflow for each of the chosen rows."""
    try:
        count, left_out = rowsent.send_through(house().engine, body.workflow, path.key, body.ids, body.again)
    except ValueError as error:
        raise Refusal(str(error), 409) from None
    return send(SentRows(count=count, left_out=left_out), 201)


@bp.post("/sheets/<key>/rows/delete", responses={200: Counted})
@needs("maker")
def remove(path: SheetPath, body: RowIds) -> Reply:
    """Delete rows."""
    with house().services.store.write() as session:
        gone = session.execute(delete(tables.SheetRow).where(tables.SheetRow.sheet == path.key, tables.SheetRow.id.in_(body.ids)))
    house().services.bus.publish("sheet", key=path.key)
    return send(Counted(count=gone.rowcount))  # type: ignore[attr-defined]


@bp.get("/sheets/<key>/file/<kind>")
@needs("reader")
def export(path: FilePath) -> Response:
    """The sheet as CSV, XLSX or ODS, with nothing a spreadsheet would run."""
    with house().services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        sheet_rows = list(
            session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == path.key).order_by(tables.SheetRow.position))
        )
    body, media = sheets.to_file(sheet, sheet_rows, path.kind)
    return Response(body, mimetype=media, headers={"Content-Disposition": f'attachment; filename="{path.key}.{path.kind}"'})


def _view(sheet: tables.Sheet, count: int) -> SheetView:
    return SheetView(key=sheet.key, name=sheet.name, columns=[Column(**c) for c in sheet.columns], rows=count)


def _cell(name: str) -> Any:
    # Found by key and not by a JSON path: a column's name may hold any character.
    each = func.json_each(tables.SheetRow.cells).table_valued("key", "value")
    return select(each.c.value).where(each.c.key == name).correlate(tables.SheetRow).scalar_subquery()


def _any_cell_like(sheet: tables.Sheet, word: str) -> Any:
    whole: Any = func.coalesce(_cell(sheet.columns[0]["name"]), "")
    for column in sheet.columns[1:]:
        whole = whole + " " + func.coalesce(_cell(column["name"]), "")
    return whole.ilike(f"%{word}%")


def _order(sheet: tables.Sheet, name: str) -> Any:
    found = next((c for c in sheet.columns if c["name"] == name), None)
    if found is None:
        return tables.SheetRow.position
    return cast(_cell(name), Float) if found["type"] == "number" else func.lower(_cell(name))
