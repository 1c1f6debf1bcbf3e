"""Carrying out one step against the practice town."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from typing import Any

from tests.protocols.outside import WithTown
from ulmus.core.drafting import Known
from ulmus.core.workflow import Line
from ulmus.runtime.execution import filled
from ulmus.steps import connection_kinds, kinds
from ulmus.steps.api import Connection, Context, Result, Row, Workspace

SECRETS = {"service": {"key": "contacts-key"}, "files": {"password": "files-key"}, "search": {"key": "search-key"}}


class Trying(WithTown):
    """A test class that carries out steps, with one connection of each kind, called by its kind."""

    rows: list[dict[str, Any]] = []

    def setUp(self) -> None:
        super().setUp()

    def settings(self, kind: str) -> dict[str, Any]:
        """Settings of the connection of a kind."""
        url = self.town.url
        return {
            "model": {"base_url": f"{url}/model/v1", "model": "practice-1"},
            "search": {"description": f"{url}/search/opensearch.xml"},
            "service": {"base_url": url},
            "files": {"url": f"{url}/files/", "user": "office"},
        }[kind]

    def connect(self, key: str, kind: str) -> Connection:
        """The connection a step asks for."""
        settings = connection_kinds()[kind].settings.model_validate(self.settings(kind))
        return Connection(key, kind, key, settings, SECRETS.get(kind, {}))

    def workspace(self) -> Workspace:
        """A house with one sheet."""
        return Workspace(rows=lambda sheet: [Row(i, i, cells) for i, cells in enumerate(self.rows, start=1)])

    def carry_out(
        self,
        kind: str,
        values: dict[str, Any] | None = None,
        *,
        outside: Collection[str] = (),
        known: Known | None = None,
        **settings: Any,
    ) -> Result:
        """What a step of `kind` gives, its slots filled in as in a run; `outside` are roots of material."""
        found = kinds()[kind]
        assert found.perform is not None
        workspace = replace(self.workspace(), known=known) if known else self.workspace()
        context = Context(self.web, self.connect, values or {}, frozenset(outside), workspace=workspace, seed="a")
        return found.perform(filled(found, Line(id="it", kind=kind, settings=settings), context.values), context)
