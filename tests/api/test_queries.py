"""Every query of every screen finds its rows by an index: how much has gathered over the years costs no screen anything."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Engine, event

from tests.api.visitor import WithApi
from ulmus.runtime import workflows

#: Tables whose rows grow with use, not with what people set up.
GROW = (
    "runs",
    "journal",
    "pieces",
    "approvals",
    "seen",
    "sheet_rows",
    "timers",
    "arrivals",
    "audit",
    "proofs",
    "proof_cells",
    "spending",
    "files",
    "backlog",
    "web_sessions",
    "step_memory",
    "judgements",
)
#: The newest so many are read off the end of an index.
_NEWEST = re.compile(r"ORDER BY runs\.started_at DESC, runs\.id DESC\s+LIMIT \? OFFSET \?$")
_SCAN = re.compile(rf"^SCAN (?:TABLE )?({'|'.join(GROW)})\b(?!.*VIRTUAL)")


class Queries(WithApi):
    maxDiff = None
    found: dict[str, str] | None = None

    @classmethod
    def setUpClass(cls) -> None:
        event.listen(Engine, "before_cursor_execute", cls.look)
        cls.addClassCleanup(event.remove, Engine, "before_cursor_execute", cls.look)

    @classmethod
    def look(cls, connection: Any, cursor: Any, statement: str, parameters: Any, *_: Any) -> None:
        """Note what is read by going through a whole table: the plan's words by the statement."""
        if cls.found is None or not statement.lstrip().upper().startswith(("SELECT", "UPDATE", "DELETE")):
            return
        given = parameters[0] if isinstance(parameters, list) else parameters
        plan = connection.connection.dbapi_connection.execute(f"EXPLAIN QUERY PLAN {statement}", given).fetchall()
        for *_, words in plan:
            if _SCAN.match(words) and not _NEWEST.search(statement):
                cls.found[statement] = words

    def setUp(self) -> None:
        super().setUp()
        self.workflow = self.live()
        self.posted = self.new_item(self.workflow)
        self.answer(self.posted)
        self.until(self.posted, "done")
        self.asked = self.new_item(self.workflow)
        self.question(self.asked)
        workflows.capture(self.engine, self.workflow)

    @contextmanager
    def explained(self) -> Iterator[dict[str, str]]:
        """What is read by going through a whole table meanwhile."""
        found = type(self).found = {}
        try:
            yield found
        finally:
            type(self).found = None

    def test_the_screens(self) -> None:
        id_, run = self.workflow, self.posted
        approval = self.owner.get("/approvals")["open"][0]["id"]
        sample = self.owner.get(f"/workflows/{id_}/bench")["samples"][0]["id"]
        for path in (
            "/session",
            "/today",
            "/house",
            "/workflows",
            f"/workflows/{id_}/bench",
            f"/workflows/{id_}/before",
            f"/workflows/{id_}/forecast",
            f"/workflows/{id_}/revisions",
            f"/workflows/{id_}/start",
            f"/workflows/{id_}/cells/{sample}/post",
            f"/workflows/{id_}/values/post",
            "/approvals",
            f"/approvals/{approval}",
            "/runs",
            "/runs?state=failed",
            f"/runs?workflow={id_}",
            f"/runs?workflow={id_}&state=done",
            f"/runs?before={run}",
            f"/runs/{run}",
            f"/runs/{run}/steps/post",
            f"/runs/{run}/iterations/post",
            "/sheets",
            "/sheets/log/rows",
            "/sheets/log/workflows",
            "/brands",
            "/brands/marrowbank",
            "/brands/marrowbank/limits",
            "/connections",
            "/templates",
        ):
            with self.subTest(path), self.explained() as found:
                self.owner.get(
                    *path.split("?")[:1], **dict(p.split("=") for p in path.split("?")[1].split("&")) if "?" in path else {}
                )
                self.assertEqual(found, {})

    def test_what_is_looked_at_again_and_again(self) -> None:
        engine, now = self.engine, self.services.clock()
        with self.explained() as found:
            for look in engine.ticker.parts:
                look(now)
            engine.polling.enabled = True
            engine.polling.tick(now + 1000)
            engine.polling.wake()
            engine.polling.tick(now + 1000)
            engine.runs.tick(now)
            engine.outbox.recover()
            engine.runs.recover()
            run = self.new_item(self.workflow)
            self.answer(run)
            self.until(run, "done")
        self.assertEqual(found, {})
