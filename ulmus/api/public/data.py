"""A sheet for other programs: read by an address with a key in it as CSV or JSON, and written into with a key that may.

A key that reads stands in the address, so that a spreadsheet can fetch it; one that writes comes in the header `Authorization`
(RFC 6750, section 2.1), where no log keeps it. The house keeps a digest of each, and can take each away.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal

from flask import Blueprint, Response, g, request
from flask_openapi3 import Tag
from pydantic import BaseModel, Field, ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.rows import folded, same
from ...runtime import records, sheets
from ...runtime.services import audit
from ...runtime.sheetquery import NotACondition
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..schemas.asked import AskedQuery, asked_of
from ..security.auth import needs, room

MOST_ROWS = 1000
"""Rows in one call that writes."""
LARGEST = 4_000_000
AN_HOUR = 3600
MOST_CALLS = 3000
"""Calls with one key in an hour."""

bp = Part("data", __name__, url_prefix="/api", abp_tags=[Tag(name="sheets for other programs")])
outside = Blueprint("data outside", __name__)


class SheetPath(BaseModel):
    key: str


class KeyPath(BaseModel):
    key: str
    id: str


class TokenPath(BaseModel):
    token: str


class NewKey(Body):
    """A key: what it is for, and whether it may also write."""

    name: str = Field(min_length=1, max_length=80)
    may: Literal["read", "write"] = "read"


class KeyView(BaseModel):
    """A key. Its `token` and addresses are shown once, when it is made."""

    id: str
    name: str
    may: Literal["read", "write"]
    made_at: float
    made_by: str
    used_at: float | None
    token: str = ""
    csv: str = ""
    json_address: str = ""
    write_address: str = ""


class DataQuery(AskedQuery):
    """Which rows, in what order (see the rows of a sheet), from which on, and how many."""

    offset: int = Field(0, ge=0)
    limit: int = Field(1000, ge=1, le=10_000)


class DataRow(BaseModel):
    """A row: its number, by which it is written into, where it stands, and its cells."""

    row: int
    position: int
    cells: dict[str, Any]


class DataView(BaseModel):
    """Rows of a sheet; `total` is how many there are in all."""

    sheet: str
    columns: list[str]
    rows: list[DataRow]
    total: int


class DataBody(Body):
    """Rows, as cells by the name of the column. With `by`, columns that tell a row: where one says the same it is written into, else
    a row is added, or, with `missing` ``pass``, nothing is. A row with a `row` number is written into by that."""

    rows: list[dict[str, str | int | float | bool | None]] = Field(min_length=1, max_length=MOST_ROWS)
    by: list[str] = Field([], max_length=10)
    missing: Literal["add", "pass"] = "add"


class DataDone(BaseModel):
    """How many rows were added, changed, and left as they were."""

    added: int
    changed: int
    left: int


# -- keys -------------------------------------------------------------------------------------------------


@bp.get("/sheets/<key>/keys", responses={200: Listing[KeyView]})
@needs("maker")
def keys(path: SheetPath) -> Reply:
    """The keys by which other programs reach a sheet."""
    wanted = select(tables.SheetKey).where(tables.SheetKey.sheet == path.key).order_by(tables.SheetKey.made_at)
    with house().services.store.read() as session:
        return send([_view(one) for one in session.scalars(wanted)])


@bp.post("/sheets/<key>/keys", responses={201: KeyView, 404: Problem})
@needs("maker")
def make(path: SheetPath, body: NewKey) -> Reply:
    """Make a key; it is shown this once."""
    services, token = house().services, secrets.token_urlsafe(24)
    with services.store.write() as session:
        sheet = session.get_one(tables.Sheet, path.key)
        key = tables.SheetKey(
            digest=_digest(token),
            sheet=path.key,
            may=body.may,
            name=body.name.strip(),
            made_at=services.clock(),
            made_by=g.user.name,
        )
        session.add(key)
        audit(session, services.clock(), g.user.email, "made a key of a sheet", f"{sheet.name}: {key.name}, may {key.may}")
    view = _view(key)
    view.token = token
    if body.may == "read":
        base = f"{services.public_url}/data/{token}"
        view.csv, view.json_address = f"{base}/rows.csv", f"{base}/rows.json"
    else:
        view.write_address = f"{services.public_url}/api/data/rows"
    return send(view, 201)


@bp.delete("/sheets/<key>/keys/<id>", responses={200: Fine, 404: Problem})
@needs("maker")
def take_away(path: KeyPath) -> Reply:
    """Take a key away; whoever has it reaches nothing from now on."""
    services = house().services
    with services.store.write() as session:
        mine = select(tables.SheetKey).where(tables.SheetKey.sheet == path.key, tables.SheetKey.digest.startswith(path.id))
        key = session.scalars(mine).first()
        if key is None or len(path.id) < 12:
            raise Refusal("There is no such key (any more).", 404)
        audit(session, services.clock(), g.user.email, "took a key of a sheet away", f"{path.key}: {key.name}")
        session.delete(key)
    return send(Fine())


def _view(key: tables.SheetKey) -> KeyView:
    may: Literal["read", "write"] = "write" if key.may == "write" else "read"
    return KeyView(id=key.digest[:16], name=key.name, may=may, made_at=key.made_at, made_by=key.made_by, used_at=key.used_at)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


def _opened(token: str, may: str) -> tables.SheetKey:
    """The key of a call, noted as used. Raises `Refusal`."""
    services = house().services
    now = services.clock()
    with services.store.read() as session:
        key = session.get(tables.SheetKey, _digest(token))
    if key is None:
        raise Refusal("There is nothing at this address (any more).", 404 if may == "read" else 401)
    if may == "write" and key.may != "write":
        raise Refusal("This key may read, not write.", 403)
    if not house().crowd.allows(f"key {key.digest}", MOST_CALLS, AN_HOUR, now):
        raise Refusal("This key was used very often in the last hour. Try again later.", 429)
    if key.used_at is None or now - key.used_at > 60:
        with services.store.write() as session:
            session.get_one(tables.SheetKey, key.digest).used_at = now
    return key


# -- reading ----------------------------------------------------------------------------------------------


@bp.get("/data/<token>/rows", responses={200: DataView, 404: Problem, 422: Problem, 429: Problem})
def read(path: TokenPath, query: DataQuery) -> Reply:
    """Rows of a sheet as JSON, by a key that reads."""
    return send(_read(_opened(path.token, "read"), query))


@outside.get("/data/<token>/rows.json")
def as_json(token: str) -> Reply:
    """The same, at an address that says what it is."""
    return send(_read(_opened(token, "read"), _query()))


@outside.get("/data/<token>/rows.csv")
def as_csv(token: str) -> Response:
    """The whole sheet, or the rows that are asked for, as CSV (RFC 4180), with nothing a spreadsheet would run."""
    key, query, services = _opened(token, "read"), _query(), house().services
    with services.store.read() as session:
        sheet = session.get_one(tables.Sheet, key.sheet)
        narrowed = any(request.args.get(name) for name in ("words", "where", "sort", "offset", "limit"))
        rows = _each(session, sheet, query) if narrowed else sheets.each_row(session, sheet.key)
        body, media = sheets.to_file(sheet, rows, "csv")
    return Response(body, mimetype=media, headers={"Cache-Control": "no-store"})


def _each(session: Session, sheet: tables.Sheet, query: DataQuery) -> Iterator[tables.SheetRow]:
    """All rows that are asked for, or so many as are."""
    reads = house().services.sheet_reads
    last = query.offset + query.limit if request.args.get("limit") else None
    try:
        ids, _ = reads.ids(session, sheet, asked_of(query), slice(query.offset, last))
    except NotACondition as error:
        raise Refusal(str(error), 422) from None
    return reads.each_row(session, ids)


def _query() -> DataQuery:
    try:
        return DataQuery.model_validate(request.args.to_dict())
    except ValidationError:
        raise Refusal("This address asks for something that is not known.", 422) from None


def _read(key: tables.SheetKey, query: DataQuery) -> DataView:
    with house().services.store.read() as session:
        sheet = session.get_one(tables.Sheet, key.sheet)
        names = [c["name"] for c in sheet.columns]
        rows, total = _found(session, sheet, query)
        told = [DataRow(row=r.id, position=r.position, cells={n: str(r.cells.get(n, "") or "") for n in names}) for r in rows]
        return DataView(sheet=sheet.name, columns=names, rows=told, total=total)


def _found(session: Session, sheet: tables.Sheet, query: DataQuery) -> tuple[list[tables.SheetRow], int]:
    reads = house().services.sheet_reads
    try:
        ids, total = reads.ids(session, sheet, asked_of(query), slice(query.offset, query.offset + query.limit))
    except NotACondition as error:
        raise Refusal(str(error), 422) from None
    return reads.rows(session, ids), total


# -- writing ----------------------------------------------------------------------------------------------


@bp.post("/data/rows", responses={200: DataDone, 401: Problem, 403: Problem, 422: Problem, 429: Problem})
@room(LARGEST)
def write(body: DataBody) -> Reply:
    """Add rows, or write into those that are there; all of it or nothing. The key comes as ``Authorization: Bearer …``."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token:
        raise Refusal("Send the key in the header Authorization, as “Bearer …”.", 401)
    key, services = _opened(token.strip(), "write"), house().services
    by = records.By(services.clock(), who=f"the key “{key.name}”")
    try:
        with services.store.read() as session:
            asked = _read_rows(session.get_one(tables.Sheet, key.sheet), body)
            # Looked up before anything is written: a large sheet is gone through once, and nobody waits for that.
            there, seen = records.numbers_by(session, key.sheet, [one.told for one in asked if one.told])
        with services.store.write() as session:
            done = _written(session, session.get_one(tables.Sheet, key.sheet), asked, body.missing, there, seen, by)
    except ValueError as error:
        raise Refusal(str(error), 422) from None
    services.bus.publish("sheet", key=key.sheet)
    return send(done)


@dataclass(frozen=True)
class _Asked:
    """A row that was sent: its cells, its number where it says one, or what tells it."""

    cells: dict[str, str]
    number: int | None
    told: dict[str, str]


def _read_rows(sheet: tables.Sheet, body: DataBody) -> list[_Asked]:
    """The rows of a call. Raises `ValueError` where they name what is not there, or nothing tells one."""
    names = {c["name"] for c in sheet.columns}
    if unknown := (set(body.by) | {name for row in body.rows for name in row}) - names - {"row"}:
        raise ValueError(f"The sheet has no column “{sorted(unknown)[0]}”.")
    return [_read_row(row, names, body.by) for row in body.rows]


def _read_row(row: dict[str, Any], names: set[str], by: list[str]) -> _Asked:
    cells = {name: _text(value) for name, value in row.items() if name in names}
    if "row" in row and "row" not in names:
        number = str(row["row"])
        if not number.isdigit():
            raise ValueError(f"“{number[:40]}” is no row’s number.")
        return _Asked(cells, int(number), {})
    told = {name: cells.get(name, "") for name in by}
    if silent := next((name for name, value in told.items() if not folded(value)), ""):
        raise ValueError(f"A row says nothing in “{silent}”, by which it is told.")
    return _Asked(cells, None, told)


def _written(
    session: Session,
    sheet: tables.Sheet,
    asked: list[_Asked],
    missing: str,
    there: dict[tuple[str, ...], int],
    seen: int,
    by: records.By,
) -> DataDone:
    """Write the rows: into those that were found and still say so, or that came since."""
    added = changed = left = 0
    for one in asked:
        number = one.number
        if one.told:
            number = there.get(tuple(map(folded, one.told.values())))
            row = session.get(tables.SheetRow, number) if number is not None else None
            if row is None or row.sheet != sheet.key or not same(row.cells, one.told):
                number = records.by_columns(session, sheet.key, one.told, seen)
        if number is not None:
            made = records.put_cells(session, sheet, [(number, one.cells)], by)
            changed, left = changed + len(made), left + (not made)
        elif missing == "add":
            added += len(records.add(session, sheet, [one.cells], by))
        else:
            left += 1
    return DataDone(added=added, changed=changed, left=left)


def _text(value: str | float | bool | None) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value)
