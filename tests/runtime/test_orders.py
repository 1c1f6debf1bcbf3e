"""Jobs whose steps stand in another order, as far as what they read allows it, end as they did before."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import select

from practice_town.app import Town
from tests.runtime.house import reachable
from tests.short import long
from ulmus import demo
from ulmus.core.workflow import Line, Workflow, read_file
from ulmus.demo import jobs
from ulmus.places import DEMO
from ulmus.runtime.dependencies import roots_read
from ulmus.runtime.services import Services
from ulmus.runtime.sharing import templates
from ulmus.steps import kinds
from ulmus.store import tables

FREE = ("gather", "draft", "start")
"""Stages whose lines may stand anywhere below what they read; all others keep their order among themselves."""


def another_order(page: Workflow) -> Workflow:
    """The page with its lines as late, and those below them as early, as what they read allows."""
    inside = {line.id: {one.id for one in within(line)} for line in page.steps}
    left, out = list(page.steps), list[Line]()
    while left:
        waits = {name for line in left for name in inside[line.id]}
        ready = [
            line
            for n, line in enumerate(left)
            if not roots_of(page, line) & (waits - inside[line.id])
            and not any(one.lanes or kinds()[one.kind].stage == "ask" for one in left[:n])  # what these may end stays below
            and (is_free(line) or all(is_free(one) for one in left[:n]))
        ]
        out.append(ready[-1])
        left.remove(ready[-1])
    return page.model_copy(update={"steps": out})


def within(line: Line) -> list[Line]:
    return [line, *(one for inner in (*line.steps, *(s for lane in line.lanes for s in lane.steps)) for one in within(inner))]


def roots_of(page: Workflow, line: Line) -> set[str]:
    return {root for one in within(line) for root in roots_read(page, one)}


def is_free(line: Line) -> bool:
    return kinds()[line.kind].stage in FREE


class AnotherOrder(unittest.TestCase):
    def test_what_is_read_stands_above(self) -> None:
        changed = 0
        for key, (_, document) in templates().items():
            page = read_file({name: value for name, value in document.items() if name != "needs"})
            other = another_order(page)
            self.assertCountEqual([line.id for line in other.steps], [line.id for line in page.steps], key)
            changed += other.steps != page.steps
        self.assertGreater(changed, 3)

    @long
    def test_each_job_ends_as_before(self) -> None:
        plan: list[dict[str, Any]] = json.loads((DEMO / "jobs.json").read_text("utf-8"))
        town = Town().start()
        self.addCleanup(town.stop)
        as_asked = jobs._asking
        with tempfile.TemporaryDirectory() as name:
            services = Services.open(Path(name), reachable(town))
            with mock.patch.object(jobs, "_asking", lambda page, job: another_order(as_asked(page, job))):
                demo.set_up(services, town.url, town.smtp_port, 0)
                jobs.live_through(services, town.url)
            with services.store.read() as session:
                runs = select(tables.WorkflowRecord.name, tables.Run.state).join(
                    tables.Run, tables.Run.workflow_id == tables.WorkflowRecord.id
                )
                ended = [tuple(row) for row in session.execute(runs).all()]
                pieces = {piece.state for piece in session.scalars(select(tables.Piece))}
            services.close()
        for job in plan:
            self.assertIn((job["name"], "done"), ended)
        self.assertEqual({state for _, state in ended}, {"done", "skipped"})
        self.assertEqual(pieces, {"sent"})
