"""How often a connection may be asked: what is used is counted in runs and proofs, reaching a quota pauses and asks."""

from __future__ import annotations

import threading
from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.api.visitor import WithApi
from tests.runtime.house import WHO, page
from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.runtime import workflows
from ulmus.store import tables


class Asking(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.made(page(self.town.url, editor={"mail": ""}))

    def quota(self, **settings: Any) -> None:
        with self.services.store.write() as session:
            model = session.get_one(tables.Connection, "model")
            model.settings = {**model.settings, **settings}

    def begin(self) -> int:
        item = {"title": "Beans", "link": f"{self.town.url}/sites/furrow-letter/"}
        with self.services.store.write() as session:
            sample = workflows.add_sample(session, self.id_, item, "typed", 1.0)
        return int(self.owner.post(f"/workflows/{self.id_}/start", {"sample": sample.id}, 201)["run"])

    def used(self) -> tuple[int, int]:
        self.engine.uses.flush()
        with self.services.store.read() as session:
            use = session.scalar(select(tables.Use).where(tables.Use.connection == "model"))
            return (use.calls, use.tokens) if use is not None else (0, 0)

    def proofs_made(self) -> None:
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.owner.post(f"/workflows/{self.id_}/proofs", {})

    def test_what_runs_and_proofs_ask_is_counted_and_outlasts_a_restart(self) -> None:
        workflows.go_live(self.engine, self.id_, WHO)
        self.question(self.begin())
        calls, tokens = self.used()
        self.assertGreater(calls, 0)
        self.assertGreater(tokens, 100)
        self.proofs_made()
        more, _ = self.used()
        self.assertGreater(more, calls)
        self.reopen()
        self.assertEqual(self.engine.uses.used("model", 0, "day"), more)

    def test_a_quota_that_is_used_up_pauses_the_run_and_a_person_lets_it_go_on(self) -> None:
        for name, words in (("calls_a_day", "1 calls of today"), ("tokens_a_month", "1 tokens of this month")):
            with self.subTest(name):
                self.quota(calls_a_day=None, tokens_a_month=None)
                workflows.go_live(self.engine, self.id_, WHO)
                self.question(self.begin())
                self.quota(**{name: 1})
                run = self.begin()
                self.assertIn(words, self.until(run, "held").message)
                calls = self.used()[0]
                self.engine.record(run, flow.Released(at=self.services.clock(), by="Ines"))
                self.question(run)
                self.assertGreater(self.used()[0], calls)

    def test_a_proof_says_so_at_its_cell_and_asks_nobody(self) -> None:
        workflows.go_live(self.engine, self.id_, WHO)
        self.question(self.begin())
        self.quota(calls_a_day=1)
        calls = self.used()[0]
        self.proofs_made()
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        said = [c["message"] for c in bench["cells"] if c["step"] == "post"]
        self.assertTrue(said)
        self.assertTrue(all("has had its 1 calls of today" in words for words in said), said)
        self.assertEqual(self.used()[0], calls)

    def test_what_was_noted_is_written_when_a_flush_returns_though_another_is_at_it(self) -> None:
        uses, usage = self.engine.uses, Usage(calls=3)
        begun, go_on = threading.Event(), threading.Event()
        write = uses._write

        def slow(rows: list[dict[str, Any]]) -> None:
            begun.set()
            go_on.wait(20)
            write(rows)

        uses.note(["model"], usage)
        with mock.patch.object(uses, "_write", slow):
            first = threading.Thread(target=uses.flush)
            first.start()
            self.assertTrue(begun.wait(20))
            second = threading.Thread(target=uses.flush)
            second.start()
            second.join(0.2)
            self.assertTrue(second.is_alive())
            go_on.set()
            second.join(20)
        first.join(20)
        self.assertEqual(self.used()[0], 3)

    def test_what_could_not_be_written_is_written_later(self) -> None:
        self.engine.uses.note(["model"], Usage(calls=2))
        with mock.patch.object(self.engine.uses, "_write", side_effect=OSError("disk full")), self.assertRaises(OSError):
            self.engine.uses.flush()
        self.assertEqual(self.used()[0], 2)

    def test_the_forecast_sets_itself_against_the_tightest_quota(self) -> None:
        self.quota(calls_a_day=10, calls_a_month=200)
        with self.services.store.write() as session:
            pond = session.get_one(tables.Connection, "pond")
            pond.settings = {**pond.settings, "pieces_a_day": 2}
        self.begin_proofs()
        told = {(one["connection"], one["what"]): one for one in self.owner.get(f"/workflows/{self.id_}/forecast")["quotas"]}
        calls = told["the model", "calls"]
        self.assertEqual(calls["most"], 200)
        self.assertGreaterEqual(calls["a_run"], 1)
        self.assertEqual((told["Pondside", "pieces"]["a_run"], told["Pondside", "pieces"]["most"]), (1.0, 60))

    def begin_proofs(self) -> None:
        self.owner.post(f"/workflows/{self.id_}/samples", {"item": {"title": "x", "link": f"{self.town.url}/sites/furrow-letter/"}})
        self.proofs_made()
