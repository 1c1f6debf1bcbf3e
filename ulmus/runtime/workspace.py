"""What steps may look at in the house: sheets and kept files."""

from __future__ import annotations

import re
from functools import partial
from typing import Any

from sqlalchemy import func, select

from ..core.drafting import Known
from ..core.drafting.repeats import Published
from ..core.workflow.kinds import is_for_readers
from ..protocols.errors import NotFound, OutsideError
from ..protocols.languages import language_of
from ..protocols.net import Enough, Fetched, Web
from ..steps import kinds
from ..steps.api import Called, Row, Workspace
from ..store import tables
from . import called, files, leaving, periods, results
from .linked import Linker
from .services import Services, connection_name

MOST_PIECES = 10_000
MOST_LINKS = 5000
FRESH_SECONDS = 600.0
LINK_SECONDS = 5.0
_LINK = re.compile(r"/api/files/([0-9a-f]{64})\Z")


def workspace(services: Services, brand: str | None = None) -> Workspace:
    """The house as the steps of a page of `brand` see it."""

    def rows(sheet: str) -> list[Row]:
        with services.store.read() as session:
            record = session.get(tables.Sheet, sheet)
            if record is None:
                raise NotFound(f"There is no sheet “{sheet}” here. Choose one.")
            row, filled = tables.SheetRow, Linker(session, record).filled
            found = select(row.id, row.position, row.cells).where(row.sheet == sheet).order_by(row.position)
            return [Row(id_, position, filled(cells)) for id_, position, cells in session.execute(found)]

    def file(link: str) -> tuple[str, str, bytes] | None:
        found = _LINK.search(link)
        if found is None or not link.startswith((services.public_url, "/api/")):
            return None
        kept = files.fetch(services, found.group(1))
        if kept is None:
            raise NotFound("This file is not kept here any more.")
        record, content = kept
        return record.name, record.type, content

    def keep(name: str, kind: str, content: bytes) -> dict[str, Any]:
        return files.keep(services, name, kind, content)

    def sheet_name(sheet: str) -> str:
        with services.store.read() as session:
            found = session.get(tables.Sheet, sheet)
        return found.name if found is not None else sheet

    def name_of(key: str) -> str:
        with services.store.read() as session:
            return connection_name(session, key)

    def period(since: float, until: float) -> dict[str, Any]:
        with services.store.read() as session:
            return periods.record(session, brand, since, until)

    def workflow(key: str) -> Called | None:
        with services.store.read() as session:
            return called.called(session, key)

    return Workspace(
        rows,
        sheet_name,
        file,
        known(services, brand),
        keep,
        partial(leaving.place, services),
        partial(leaving.why_not, services),
        partial(leaving.gone, services),
        partial(results.of_piece, services),
        name_of,
        period,
        workflow,
    )


def known(services: Services, brand: str | None) -> Known:
    """What the measuring of drafts of a brand needs to know."""
    return Known(lambda: _published(services, brand), partial(dead, services.web), language_of=language_of)


def _published(services: Services, brand: str | None) -> Published:
    """The last pieces that went out, of the brand or into a channel that the brand's pieces go into, made ready once for as long as
    nothing more goes out."""
    publishing = [name for name, kind in kinds().items() if is_for_readers(kind)]
    went = (tables.Piece.state == "sent", tables.Piece.kind.in_(publishing))
    mine = tables.WorkflowRecord.brand == brand
    channels = _with_brand(select(tables.Piece.connection)).where(*went, mine, tables.Piece.connection != "")
    sent = (*went, mine | tables.Piece.connection.in_(channels))
    with services.published_lock, services.store.read() as session:
        newest = session.scalar(_with_brand(select(func.max(tables.Piece.id))).where(*sent)) or 0
        kept = services.published.get(brand)
        if kept is None or kept[0] != newest:
            found = _with_brand(select(tables.Piece.kind, tables.Piece.content)).where(*sent).order_by(tables.Piece.id.desc())
            # A file that was saved is no piece that readers have seen.
            seen = [(kind, content) for kind, content in session.execute(found.limit(MOST_PIECES)) if "path" not in content]
            texts = [periods.said(kind, content) for kind, content in seen]
            kept = services.published[brand] = (newest, Published(texts))
    return kept[1]


def _with_brand(query: Any) -> Any:
    return query.join(tables.Run, tables.Run.id == tables.Piece.run_id).join(
        tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id
    )


def _no_more(answer: Fetched, piece: bytes) -> None:
    raise Enough


def dead(web: Web, link: str) -> str:
    """What is wrong with a link, tried at most every ten minutes; a site that is slow or has a fault of its own counts as
    answering."""

    def tried() -> str:
        try:
            answer = web.fetch(link, max_seconds=LINK_SECONDS, take=_no_more)
        except OutsideError as error:
            return "" if error.retryable else error.message
        return f"status {answer.status}" if answer.status in (404, 410) else ""

    return str(web.memory("links tried", MOST_LINKS, FRESH_SECONDS).get_or(link, tried))
