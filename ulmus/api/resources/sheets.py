"""Sheets: made, brought in from files and taken out as files; their columns; rows sent through workflows."""

from __future__ import annotations

import itertools
from typing import Annotated, BinaryIO, Literal, cast

from flask import Response, g
from flask_openapi3 import FileStorage, Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...protocols.errors import OutsideError
from ...runtime import mirrors, pointing, rowsent, sheets
from ...runtime.runs import counted
from ...runtime.services import audit, connection_name
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send, uploaded
from ..http.describing import Part
from ..security import members
from ..security.auth import needs, room

LARGEST_FILE = 110_000_000
"""Bytes of a file of rows that is brought in."""
GUESSED_FROM = 1000
"""The types of a file's columns are guessed by so many of its rows."""

bp = Part("sheets", __name__, url_prefix="/api", abp_tags=[Tag(name="sheets")])


class SheetPath(BaseModel):
    key: str


class FilePath(BaseModel):
    key: str
    kind: Literal["csv", "xlsx", "ods"]


class Finds(Body):
    """The row of another sheet that a cell names: the sheet's key, and the column of it that says the same."""

    sheet: str = Field(max_length=60)
    by: str = Field(max_length=120)


class Column(Body):
    """A column: its name, type, the choices there are, and the row of another sheet that it finds."""

    name: str = Field(min_length=1, max_length=120)
    type: str = "text"
    choices: list[str] = []
    finds: Finds | None = None


class ElsewhereView(BaseModel):
    """Where a sheet stands that is a file elsewhere: the `store`'s name and the `place` in it, or an address that is only read;
    when it was looked at last, and what came of that."""

    place: str
    store: str
    only_read: bool
    every: float
    looked_at: float | None
    says: str
    failed: bool


class ElsewhereBody(Body):
    """A file elsewhere as a sheet: a `place` in a file store (the key of its `connection`), or an address, which is only read. It is
    looked at `every` so many seconds."""

    name: str = Field(min_length=1, max_length=120)
    connection: str = Field("", max_length=60)
    place: str = Field(min_length=1, max_length=1000)
    every: float = Field(300, ge=30, le=604_800)
    brand: str = Field("", max_length=60)


class SheetView(BaseModel):
    """A sheet; of a file that was brought in: how many rows were `added`, and what of it could not be had."""

    key: str
    name: str
    columns: list[Column]
    rows: int
    added: int = 0
    brand: str = ""
    notes: list[str] = []
    outside: ElsewhereView | None = None


class NewSheet(Body):
    """A new sheet: a name, columns, and the key of the brand whose it is; where that is empty, the house's."""

    name: str = Field(min_length=1, max_length=120)
    columns: list[Column]
    brand: str = Field("", max_length=60)


class WhoseBody(Body):
    """The key of the brand whose something is to be; empty: the house's."""

    brand: str = Field(max_length=60)


class SheetFile(Body):
    """A file with rows (CSV, XLSX, ODS) or a list of feeds (OPML): into a sheet by its key, or into a new one of a brand."""

    file: FileStorage
    into: str = ""
    brand: str = Field("", max_length=60)
    name: str = Field("", max_length=120)
    mark: str = Field("", max_length=40, description="Progress is told under this mark among the live events.")


class ColumnsBody(Body):
    columns: list[Column]
    renamed: dict[str, str] = {}


class MoreColumns(Body):
    """Names of columns a sheet is to have."""

    names: list[Annotated[str, Field(max_length=120)]] = Field(min_length=1, max_length=100)


class SendRows(Body):
    """Rows to be sent through a workflow, `a_day` so many, or all at once; `again`: also those it has had before."""

    workflow: int
    ids: list[int] = Field(min_length=1, max_length=10_000)
    again: bool = False
    a_day: int = Field(0, ge=0, le=10_000)


class SentRows(BaseModel):
    """How many runs began, and how many rows were left out because the workflow has had them, or they are empty."""

    count: int
    left_out: int


class Taker(BaseModel):
    """A live workflow that starts from rows of this sheet. Of one that uses the list up: how many rows are `left`, and until when they
    last (seconds since the epoch); `paced` rows wait to be sent through it day by day."""

    id: int
    name: str
    left: int | None
    until: float | None
    paced: int


def _count(session: Session, sheet: str) -> int:
    return sum(counted(session, "rows", sheet).values())


@bp.get("/sheets", responses={200: Listing[SheetView]})
@needs("reader")
def listing() -> Reply:
    """All sheets."""
    with house().services.store.read() as session:
        found = session.scalars(select(tables.Sheet).order_by(tables.Sheet.name))
        return send([_with_outside(session, _view(sheet, _count(session, sheet.key))) for sheet in found])


def _with_outside(session: Session, view: SheetView) -> SheetView:
    record = session.get(tables.OutsideSheet, view.key)
    if record is not None:
        view.outside = ElsewhereView(
            place=record.place,
            store=connection_name(session, record.connection) if record.connection else "",
            only_read=not record.connection,
            every=record.every,
            looked_at=record.looked_at,
            says=record.says,
            failed=record.failed,
        )
    return view


@bp.post("/sheets/outside", responses={201: SheetView, 422: Problem, 502: Problem})
@needs("maker")
def open_outside(body: ElsewhereBody) -> Reply:
    """Have a file elsewhere as a sheet: read, watched, and written where it stands in a file store."""
    services = house().services
    place = body.place.strip()
    if not body.connection and not place.startswith(("http://", "https://")):
        raise Refusal("Choose the file store, or give an address that begins with https://.", 422)
    with services.store.read() as session:
        brand = members.whose(session, body.brand)
    try:
        key = mirrors.open_sheet(services, body.name.strip(), body.connection, place, body.every, brand)
    except ValueError as error:
        raise Refusal(str(error), 422) from None
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    services.bus.publish("sheet", key=key)
    with services.store.read() as session:
        return send(_with_outside(session, _view(session.get_one(tables.Sheet, key), _count(session, key))), 201)


@bp.post("/sheets/<key>/outside/look", responses={200: SheetView, 404: Problem})
@needs("maker")
def look_outside(path: SheetPath) -> Reply:
    """Bring a sheet and its file together now."""
    services = house().services
    with services.store.read() as session:
        session.get_one(tables.OutsideSheet, path.key)
    mirrors.look(services, path.key)
    with services.store.read() as session:
        return send(_with_outside(session, _view(session.get_one(tables.Sheet, path.key), _count(session, path.key))))


@bp.delete("/sheets/<key>/outside", responses={200: Fine, 404: Problem})
@needs("maker")
def let_go(path: SheetPath) -> Reply:
    """Part a sheet from its file: both stay as they are, and go their own ways."""
    with house().services.store.write() as session:
        session.delete(session.get_one(tables.OutsideSheet, path.key))
    house().services.bus.publish("sheet", key=path.key)
    return send(Fine())


@bp.post("/sheets", responses={201: SheetView, 422: Problem})
@needs("maker")
def create(body: NewSheet) -> Reply:
    """Make a sheet."""
    with house().services.store.write() as session:
        brand = members.whose(session, body.brand)
        try:
            sheet = sheets.create(
                session, body.name, [c.model_dump(exclude_defaults=True) | {"type": c.type} for c in body.columns], brand
            )
        except ValueError as error:
            raise Refusal(str(error), 422) from None
    return send(_view(sheet, 0), 201)


@bp.post("/sheets/file", responses={201: SheetView, 422: Problem})
@needs("maker")
@room(LARGEST_FILE)
def bring(form: SheetFile) -> Reply:
    """Bring in a file: its first line names the columns, and those the sheet does not have yet come at its end."""
    file, services = uploaded(), house().services
    called = (file.filename or "").rsplit(".", 1)[0]

    def told(rows: int) -> None:
        services.bus.publish("bringing", mark=form.mark, rows=rows)

    try:
        heads, rows, notes = sheets.from_file(cast(BinaryIO, file.stream), file.filename or "")
        first = list(itertools.islice(rows, GUESSED_FROM))
        with services.store.read() as session:
            into = session.get_one(tables.Sheet, form.into) if form.into else None
            brand = members.whose(session, form.brand) if into is None else None
            as_there = into.columns if into is not None else []
        known = {one["name"] for one in as_there}
        guessed = sheets.guessed(heads, first)
        # Rows are read and put as their types are before anything is written.
        draft = tables.Sheet(key="", name="", columns=[*as_there, *(one for one in guessed if one["name"] not in known)])
        with sheets.staged(draft, itertools.chain(first, rows), told) as encoded, services.store.write() as session:
            if form.into:
                sheet = session.get_one(tables.Sheet, form.into)
                sheets.widen(sheet, guessed)
            else:
                sheet = sheets.create(session, form.name.strip() or called[:120] or "Sheet", guessed, brand)
            added = sheets.add_staged(session, sheet, encoded)
            count = _count(session, sheet.key)
    except ValueError as error:
        raise Refusal(str(error), 422) from None
    services.bus.publish("sheet", key=sheet.key)
    return send(_view(sheet, count, added, notes), 201)


@bp.put("/sheets/<key>/columns", responses={200: SheetView, 422: Problem})
@needs("maker")
def columns(path: SheetPath, body: ColumnsBody) -> Reply:
    """Change the columns."""
    with house().services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        try:
            sheets.set_columns(
                session, sheet, [c.model_dump(exclude_defaults=True) | {"type": c.type} for c in body.columns], body.renamed
            )
        except ValueError as error:
            raise Refusal(str(error), 422) from None
        count = _count(session, path.key)
    house().services.bus.publish("sheet", key=path.key)
    return send(_view(sheet, count))


@bp.post("/sheets/<key>/columns", responses={200: SheetView, 422: Problem})
@needs("maker")
def widen(path: SheetPath, body: MoreColumns) -> Reply:
    """Give a sheet columns of text it lacks, at its end; those it has stay as they are."""
    with house().services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        try:
            sheets.widen(sheet, [{"name": name.strip(), "type": "text"} for name in body.names])
        except ValueError as error:
            raise Refusal(str(error), 422) from None
        count = _count(session, path.key)
    house().services.bus.publish("sheet", key=path.key)
    return send(_view(sheet, count))


@bp.put("/sheets/<key>/brand", responses={200: Fine, 422: Problem})
@needs("maker")
def belongs(path: SheetPath, body: WhoseBody) -> Reply:
    """Say whose a sheet is: members who are kept to other brands do not see it."""
    services = house().services
    members.whole_house("Whose a sheet is says somebody who sees all of the house.")
    with services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        sheet.brand = members.whose(session, body.brand)
        audit(session, services.clock(), g.user.email, "said whose a sheet is", f"{sheet.name}: {sheet.brand or 'the house'}")
    services.bus.publish("sheet", key=path.key)
    return send(Fine())


@bp.delete("/sheets/<key>", responses={200: Fine, 409: Problem})
@needs("maker")
def remove(path: SheetPath) -> Reply:
    """Delete a sheet that no page uses, with its rows, their history, its views and keys. A file elsewhere that it stood for stays."""
    services = house().services
    with services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        if why := pointing.sheet_kept(session, path.key):
            raise Refusal(why, 409)
        rows, name = _count(session, path.key), sheet.name
        sheets.remove(session, sheet)
        audit(session, services.clock(), g.user.email, "deleted a sheet", f"{name}, {rows} rows")
    services.bus.publish("sheet", key=path.key)
    return send(Fine())


@bp.get("/sheets/<key>/workflows", responses={200: Listing[Taker]})
@needs("reader")
def takers(path: SheetPath) -> Reply:
    """The live workflows that chosen rows can be sent through."""
    with house().services.store.read() as session:
        found = rowsent.takers(session, path.key, house().services.clock())
    return send([Taker(**vars(one)) for one in found])


@bp.post("/sheets/<key>/rows/send", responses={201: SentRows, 409: Problem})
@needs("maker")
def send_rows(path: SheetPath, body: SendRows) -> Reply:
    """Begin a run of a workflow for each of the chosen rows."""
    try:
        count, left_out = rowsent.send_through(house().engine, body.workflow, path.key, body.ids, body.again, body.a_day)
    except ValueError as error:
        raise Refusal(str(error), 409) from None
    return send(SentRows(count=count, left_out=left_out), 201)


@bp.get("/sheets/<key>/file/<kind>")
@needs("reader")
def export(path: FilePath) -> Response:
    """The sheet as CSV, XLSX or ODS, with nothing a spreadsheet would run."""
    with house().services.store.read() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        body, media = sheets.to_file(sheet, sheets.each_row(session, path.key), path.kind)
    return Response(body, mimetype=media, headers={"Content-Disposition": f'attachment; filename="{path.key}.{path.kind}"'})


def _view(sheet: tables.Sheet, count: int, added: int = 0, notes: list[str] | None = None) -> SheetView:
    return SheetView(
        key=sheet.key,
        name=sheet.name,
        columns=[Column(**c) for c in sheet.columns],
        rows=count,
        added=added,
        brand=sheet.brand or "",
        notes=notes or [],
    )
