"""Puts the built front end and the demonstration's data into the wheel."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

BESIDE = {"frontend/dist": "ulmus/app", "demo": "ulmus/demo_data"}


class Beside(BuildHookInterface):  # type: ignore[type-arg]
    """An editable install finds them in the tree; a wheel holds them."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        if self.target_name != "wheel" or version == "editable":
            return
        for place, inside in BESIDE.items():
            path = Path(self.root) / place
            if not path.exists():
                raise FileNotFoundError(f"{place} is missing. Run: make build")
            build_data["force_include"][str(path)] = inside
