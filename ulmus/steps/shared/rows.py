"""What the starts that watch a sheet have in common."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


def columns_of(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The columns of the sheet as values; any name goes where the sheet is not known."""
    sheet = world.sheets.get(settings.get("sheet")) if world else None
    return dict.fromkeys(sheet[1], "text") if sheet else {"*": "any"}
