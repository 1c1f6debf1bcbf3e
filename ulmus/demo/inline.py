"""An engine that does one thing after another, so that a past can be made with the clock turned back."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


class Inline:
    """An executor that carries out each job at once, so that history can be made one thing after another."""

    def ready(self) -> None:
        """Always ready."""

    def submit(self, job: Callable[..., Any], *arguments: Any) -> None:
        job(*arguments)

    def stop(self) -> None:
        """Nothing to stop."""
