"""What steps may look at in the house: sheets and kept files."""

from __future__ import annotations

import re

from sqlalchemy import select

from ..protocols.errors import OutsideError
from ..steps.base import Row, Shelf
from ..store import tables
from . import files
from .services import Services

_LINK = re.compile(r"/api/files/([0-9a-f]{64})\Z")


def shelf(services: Services) -> Shelf:
    """The house as steps see it."""

    def rows(sheet: str) -> list[Row]:
        with services.store.read() as session:
            if session.get(tables.Sheet, sheet) is None:
                raise OutsideError(f"There is no sheet “{sheet}” here. Choose one.")
            found = select(tables.SheetRow).where(tables.SheetRow.sheet == sheet).order_by(tables.SheetRow.position)
            return [Row(row.id, row.position, dict(row.cells)) for row in session.scalars(found)]

    def file(link: str) -> tuple[str, str, bytes] | None:
        found = _LINK.search(link)
        if found is None or not link.startswith((services.public_url, "/api/")):
            return None
        kept = files.fetch(services, found.group(1))
        if kept is None:
            raise OutsideError("This file is not kept here any more.")
        record, content = kept
        return record.name, record.type, content

    return Shelf(rows, file)
