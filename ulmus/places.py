"""Where what belongs to the app lies: inside the package once it is installed, beside it in a checkout."""

from __future__ import annotations

from pathlib import Path

_PACKAGE = Path(__file__).parent
_CHECKOUT = _PACKAGE.parent


def _first(installed: Path, in_checkout: Path) -> Path:
    return installed if installed.exists() else in_checkout


APP = _first(_PACKAGE / "app", _CHECKOUT / "frontend" / "dist")
"""The built front end."""
DEMO = _first(_PACKAGE / "demo_data", _CHECKOUT / "demo")
"""Workflow files and data of the demonstration."""
