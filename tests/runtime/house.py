"""A house for tests: a data folder, a practice town, an engine, and the page most tests run."""

from __future__ import annotations

import base64
import shutil
import tempfile
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

from sqlalchemy import event, func, select

from practice_town.app import Town
from practice_town.world import articles
from ulmus.core.workflow import Workflow, read_file
from ulmus.protocols import filestore
from ulmus.runtime import asking, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.executors import Threads
from ulmus.runtime.proofing import Proofs
from ulmus.runtime.services import Services
from ulmus.store import tables, upgrade
from ulmus.store.db import DATABASE

WHO = "ines@marrowbank.example"


def page(town: str, **more: Any) -> dict[str, Any]:
    """The whole arc: feed, page, draft, ask, publish, record. Retries are quick; `more` changes settings by step."""
    quick = {"retries": 2, "wait": 0.05}
    data: dict[str, Any] = {
        "format": "ulmus-workflow",
        "version": 1,
        "name": "News",
        "brand": "marrowbank",
        "start": {"id": "feed", "kind": "feed_item", "settings": {"url": f"{town}/sites/furrow-letter/feed.rss", "every": 2}},
        "steps": [
            {"id": "page", "kind": "read_page", "settings": {"url": "<<feed.link>>"}, "on_failure": quick},
            {
                "id": "post",
                "kind": "draft",
                "settings": {
                    "model": "model",
                    "standing": "You write for <<brand.name>>.",
                    "prompt": "One post.\nTitle: <<feed.title>>\n<<page.text>>",
                    "rules": [
                        {"rule": "length", "most": 300},
                        {"rule": "contains", "text": "<<feed.link>>"},
                        {"rule": "no_quotes"},
                    ],
                },
                "on_failure": quick,
            },
            {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": WHO, "mail": "mail", "rounds": 3}},
            {"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<post.text>>"}, "on_failure": quick},
            {
                "id": "log",
                "kind": "add_row",
                "settings": {"sheet": "log", "cells": {"Post": "<<post.text>>", "Link": "<<out.link>>", "By": "<<editor.by>>"}},
            },
        ],
    }
    for step, settings in more.items():
        next(s for s in [data["start"], *data["steps"]] if s["id"] == step)["settings"].update(settings)
    return data


def reachable(town: Town) -> frozenset[str]:
    """What of a town may be reached although it is on this machine: its pages and its mail server."""
    return frozenset({f"127.0.0.1:{town.port}", f"127.0.0.1:{town.smtp_port}"})


def furnish(services: Services, town: str, smtp: int) -> None:
    """Connections, a sheet and a brand."""
    with services.store.write() as session:
        model = {
            "base_url": f"{town}/model/v1",
            "model": "practice-1",
            "prices": {"input": 1.0, "output": 4.0},
            "max_seconds": 5,
            "meanings": "practice-meanings",
        }
        seal = services.sealer.seal
        session.add(tables.Connection(key="model", kind="model", name="the model", settings=model, sealed=seal({"key": "k"})))
        pond = {"endpoint": f"{town}/pondside/micropub", "limit": 300, "lists_within": 0.2}
        session.add(
            tables.Connection(key="pond", kind="posting", name="Pondside", settings=pond, sealed=seal({"token": "pond-token"}))
        )
        mail = {"host": "127.0.0.1", "port": smtp, "starttls": False, "sender": "drafts@a.example"}
        session.add(tables.Connection(key="mail", kind="mail", name="Office mail", settings=mail))
        columns = [{"name": n, "type": "text"} for n in ("Post", "Link", "By")]
        session.add(tables.Sheet(key="log", name="Posts out", columns=columns))
        session.add(tables.Brand(key="marrowbank", name="Marrowbank", facts={"voice": "plain"}))


@cache
def new_database() -> bytes:
    """The database of a new house, which has no name yet: made once, since that takes as long as a test."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / DATABASE
        upgrade.bring_up_to_date(path)
        return path.read_bytes()


class WithHouse(unittest.TestCase):
    """A test class whose tests each get a new house."""

    polling = False
    also: frozenset[str] = frozenset()
    """Places on this machine that may be reached as well (``host:port``)."""

    def reach(self, port: int) -> None:
        """Let a port on this machine be reached, now and after a restart."""
        self.also |= {f"127.0.0.1:{port}"}
        self.services.web.allowed |= self.also

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        (self.folder / DATABASE).write_bytes(new_database())
        self.town = Town().start()
        self.addCleanup(self.town.stop)
        self.open()
        furnish(self.services, self.town.url, self.town.smtp_port)

    def open(self) -> None:
        """Open the house on its folder and start the engine."""
        self.services = Services.open(self.folder, reachable(self.town) | self.also, public_url="http://ulmus.example")
        self.engine = Engine(self.services)
        self.engine.outbox.settle = 0.3
        self.proofs = Proofs(self.services, Threads(4), self.engine.handlers, self.engine.uses)
        self.engine.start(polling=self.polling)
        self.addCleanup(self._close, self.engine, self.services)

    @staticmethod
    def _close(engine: Engine, services: Services) -> None:
        engine.stop()
        services.close()

    def reopen(self) -> None:
        """Stop everything and open it again, as after a restart."""
        self._close(self.engine, self.services)
        self.open()

    def open_files(self) -> filestore.Folder:
        """A connection to the town's file store, ``files``, and the store as a program of its own sees it."""
        sealed = self.services.sealer.seal({"password": "files-key"})
        settings = {"url": f"{self.town.url}/files", "user": "office"}
        with self.services.store.write() as session:
            session.add(tables.Connection(key="files", kind="files", name="The files", settings=settings, sealed=sealed))
        told = base64.b64encode(b"office:files-key").decode()
        return filestore.Folder(f"{self.town.url}/files", {"Authorization": f"Basic {told}"})

    # -- doing --------------------------------------------------------------------------------------

    def live(self, **settings: Any) -> int:
        """A live workflow whose start has been looked at once, so that only new items count."""
        id_ = self.made(page(self.town.url, **settings))
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        return id_

    def made(self, document: dict[str, Any]) -> int:
        with self.services.store.write() as session:
            return workflows.create(session, read_file(document), self.services.clock(), WHO)

    def new_item(self, workflow_id: int) -> int:
        """Publish the next article, look at the feed, and give the run that began."""
        self.town.state.release("furrow-letter")
        self.engine.polling.look_at(workflow_id)
        with self.services.store.read() as session:
            return session.scalar(select(func.max(tables.Run.id))) or 0

    def run_of(self, run_id: int) -> tables.Run:
        with self.services.store.read() as session:
            return session.get_one(tables.Run, run_id)

    def until(self, run_id: int, *states: str, seconds: float = 60) -> tables.Run:
        """Wait until the run is in one of `states`."""
        self.wait_for(
            lambda: self.run_of(run_id).state in states,
            lambda: f"{self.run_of(run_id).state}: {self.run_of(run_id).message}",
            seconds,
        )
        return self.run_of(run_id)

    def wait_for(self, true: Callable[[], bool], says: Callable[[], str] = lambda: "", seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while not true():
            if time.monotonic() > end:
                self.fail(f"did not happen in {seconds} s. {says()}")
            time.sleep(0.02)

    def question(self, run_id: int) -> tables.Approval:
        """The open question of a run, once there is one."""
        self.until(run_id, "asking", "failed")
        with self.services.store.read() as session:
            found = session.scalar(select(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.state == "open"))
        assert found is not None, self.run_of(run_id).message
        return found

    def answer(self, run_id: int, verdict: asking.Verdict = "approve", **more: Any) -> None:
        asking.answer(self.engine.services, self.engine.writer, self.question(run_id).id, verdict, "Ines", **more)

    def piece(self, run_id: int) -> tables.Piece:
        """The piece of a run, once it stands in the outbox."""

        def found() -> list[tables.Piece]:
            with self.services.store.read() as session:
                return list(session.scalars(select(tables.Piece).where(tables.Piece.run_id == run_id)))

        self.wait_for(lambda: len(found()) == 1)
        return found()[0]

    def rows(self) -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            return [r.cells for r in session.scalars(select(tables.SheetRow).order_by(tables.SheetRow.position))]

    def posts(self) -> list[str]:
        return [p["content"] for p in self.town.state.posts]

    def fault(self, outside: str, mode: str, left: int | None = None) -> None:
        self.town.state.set_fault(outside, mode, left)

    @contextmanager
    def full_disk(self) -> Iterator[None]:
        """SQLite finds no room for anything new."""
        store = self.services.store

        def bounded(connection: Any, *_: Any) -> None:
            connection.execute("PRAGMA max_page_count = 1")  # never less than there are

        event.listen(store.engine, "checkout", bounded)
        with store.writing() as connection:
            connection.exec_driver_sql("PRAGMA max_page_count = 1")
        try:
            yield
        finally:
            event.remove(store.engine, "checkout", bounded)
            with store._writing:
                assert store._writer is not None
                store._writer.exec_driver_sql("PRAGMA max_page_count = 1000000")
                store._writer.rollback()
            event.listen(store.engine, "checkout", _unbounded)

    def document(self, workflow_id: int) -> Workflow:
        with self.services.store.read() as session:
            return Workflow.model_validate(session.get_one(tables.WorkflowRecord, workflow_id).document)


def _unbounded(connection: Any, *_: Any) -> None:
    connection.execute("PRAGMA max_page_count = 1000000")


def first_article() -> str:
    """The address part of an article that is out from the beginning."""
    return articles("furrow-letter")[0].slug
