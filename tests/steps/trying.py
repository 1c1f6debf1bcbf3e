"""Carrying out one step against the practice town."""

from __future__ import annotations

from typing import Any

from tests.protocols.outside import WithTown
from ulmus.steps import kinds
from ulmus.steps.base import Connection, Context, Result
from ulmus.steps.connections import ModelSettings


class Trying(WithTown):
    """A test class that carries out steps, with the practice model as the only model."""

    def connect(self, key: str, kind: str) -> Connection:
        """The connection a step asks for."""
        return Connection(key, kind, key, self.connection(kind), {})

    def connection(self, kind: str) -> Any:
        """Settings of a connection of a kind."""
        return ModelSettings(base_url=f"{self.town.url}/model/v1", model="practice-1")

    def carry_out(self, kind: str, values: dict[str, Any] | None = None, **settings: Any) -> Result:
        """What a step of `kind` gives."""
        found = kinds()[kind]
        assert found.perform is not None
        context = Context(self.web, self.connect, values or {})
        return found.perform(found.settings.model_validate(settings), context)
