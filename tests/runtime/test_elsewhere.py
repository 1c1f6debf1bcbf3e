"""Steps carried out by workers: what goes out and what stays, leases, and workers that are late, lost, double, wrong or of another kind."""

from __future__ import annotations

import json
import queue
import threading
import time
from typing import Any
from unittest import mock

import httpx
from sqlalchemy import select

from tests.runtime.house import WHO, page, reachable
from tests.runtime.test_assignment import assignment
from tests.runtime.workers import WithWorkers
from ulmus import __version__
from ulmus.api.security.workerkeys import make_key
from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.core.workflow import Line
from ulmus.readmodels.journals import Journals, entry
from ulmus.runtime import elsewhere, workflows
from ulmus.steps import registry
from ulmus.steps.api import Context
from ulmus.store import tables
from ulmus.workers import worker as worker_module
from ulmus.workers.broker import CeleryBroker, queue_of
from ulmus.workers.worker import Told, Worker, own_connections

HTTP = httpx.Client(timeout=30)
DEAR = {"usage": Usage(calls=1, cost=0.5).model_dump()}


class Carried(WithWorkers):
    def leases(self) -> list[tables.Lease]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Lease).order_by(tables.Lease.published_at)))

    def asked(self, path: str, body: Any = None, key: str = "", version: str = "") -> httpx.Response:
        head = {"Authorization": f"Bearer {key or self.key}", "X-Ulmus-Version": version or __version__}
        return HTTP.post(f"{self.server.url}/workers{path}", json=body or {}, headers=head)

    def test_what_gathers_and_drafts_goes_out_and_the_rest_stays(self) -> None:
        self.at_work()
        run = self.new_item(self.live())
        self.answer(run)
        self.until(run, "done")
        self.assertEqual([one.kind for one in self.leases()], ["read_page", "draft"])
        self.wait_for(lambda: all(one.ended_at and one.worker.startswith("one ") for one in self.leases()))
        self.assertEqual(len(self.posts()), 1)
        self.assertGreater(self.run_of(run).cost, 0)
        # The broker was told ids, and nothing else.
        self.assertTrue(all(len(one) == 64 and int(one, 16) for one in self.broker.published))

    def test_a_proof_is_made_by_a_worker(self) -> None:
        self.at_work()
        made = self.made(page(self.town.url))
        workflows.capture(self.engine, made, 1)
        with self.services.store.read() as session:
            samples = list(session.scalars(select(tables.Sample)))
        self.proofs.run(made, self.document(made), samples, None, False)

        def state() -> str:
            return self.proofs.columns(self.document(made), samples)[samples[0].id].cells["post"].state

        self.wait_for(lambda: state() == "fresh", state)
        self.assertEqual(len(self.broker.published), 2)
        self.assertEqual((self.posts(), self.leases()), ([], []))

    def test_what_a_model_has_said_so_far_comes_home(self) -> None:
        line = Line(id="post", kind="draft", settings={"model": "model", "prompt": "Beans."})
        said: list[str] = []
        context = Context(self.services.web, self.services.connect, {}, progress=said.append)
        playing = threading.Thread(target=lambda: self.elsewhere.play(line, context, mock.Mock()), daemon=True)
        playing.start()
        task = self.broker.offers.get(timeout=10)
        self.asked(f"/{task}/begin")
        self.asked("/heard", {"tasks": {task: "Beans are"}})
        self.asked(f"/{task}/answer", {"output": {"text": "Beans are up."}, "answer": "x"})
        playing.join(10)
        self.assertEqual(said, ["Beans are"])

    def test_a_note_comes_back_as_a_rewrite(self) -> None:
        self.at_work()
        run = self.new_item(self.live())
        first = self.question(run).text
        self.answer(run, "back", note="Begin with the lock.")
        self.wait_for(lambda: self.run_of(run).state == "asking" and self.question(run).round == 2)
        self.assertNotEqual(self.question(run).text, first)

    def test_a_lost_worker_loses_its_lease_and_another_takes_it(self) -> None:
        with mock.patch.object(elsewhere, "HEARD", 0.4):
            run = self.new_item(self.live())
            task = self.broker.offers.get(timeout=10)
            # It begins, and is not heard of again.
            self.assertEqual(self.asked(f"/{task}/begin", {"process": "gone"}).status_code, 200)
            again = self.broker.offers.get(timeout=20)
            self.assertNotEqual(again, task)
            self.broker.offers.put(again)
        self.at_work()
        self.until(run, "asking")
        before = self.run_of(run).cost
        # Its answer comes all the same: too late, and paid for.
        late = {"output": {"text": "Too late."}, "answer": "a"} | DEAR
        for _ in range(2):
            self.assertEqual(self.asked(f"/{task}/answer", late).json(), {"wanted": False})
        self.wait_for(lambda: self.run_of(run).cost >= before + 0.5)
        self.answer(run)
        self.until(run, "done")
        self.assertAlmostEqual(self.run_of(run).cost, before + 0.5, places=4)

    def test_an_answer_that_is_brought_again_after_a_restart_is_booked_once(self) -> None:
        run = self.pushed(self.drafting(), "Beans are up.")
        task = self.broker.offers.get(timeout=20)
        self.asked(f"/{task}/begin")
        told = {"output": {"text": "Beans."}, "answer": "first"} | DEAR
        self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": True})
        self.assertEqual(self.run_of(run).state, "done", "it is written by then")
        self.reopen()
        # The house ended before the worker had heard that; and another answer was under way.
        for name in ("first", "second", "second", "first"):
            told["answer"] = name
            self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": False})
        self.reopen()
        self.asked(f"/{task}/answer", told | {"answer": "second"})
        self.assertAlmostEqual(self.run_of(run).cost, 1.0)

    def test_a_house_that_has_only_begun_takes_nothing_away_from_its_workers(self) -> None:
        run = self.pushed(self.drafting(), "Beans are up.")
        task = self.broker.offers.get(timeout=20)
        self.asked(f"/{task}/begin")
        # As after a restart: the lease stands, and the house has not come to the run yet.
        out = self.elsewhere._out.pop(task)
        self.elsewhere._began = time.monotonic()
        told = {"output": {"text": "Beans."}, "answer": "first"} | DEAR
        self.assertEqual(self.asked("/heard", {"tasks": {task: ""}}).json(), {"unwanted": []})
        self.assertEqual(self.asked(f"/{task}/connection", {"key": "model", "kind": "model"}).status_code, 503)
        self.assertEqual(self.asked(f"/{task}/answer", told).status_code, 503)
        other = make_key(self.services.store, "two")
        self.assertEqual(self.asked("/heard", {"tasks": {task: ""}}, key=other).json(), {"unwanted": [task]})
        self.elsewhere._out[task] = out
        self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": True})
        self.until(run, "done")

    def test_a_worker_that_stops_on_its_way_is_no_failure_of_the_line(self) -> None:
        run = self.pushed(self.drafting(), "Beans are up.")
        task = self.broker.offers.get(timeout=20)
        self.asked(f"/{task}/begin")
        told = {"failed": "It was stopped.", "code": "stopped", "answer": "first"} | DEAR
        self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": True})
        self.assertNotEqual(self.broker.offers.get(timeout=60), task, "it is tried again")
        self.assertAlmostEqual(self.run_of(run).cost, 0.5)
        self.assertEqual(self.engine.outsides.counted()[2], 0)
        # One that hears that it is not wanted says so, whatever the line failed with.
        worker = self.worker()
        job = worker_module._Job("x", wanted=False)
        line = {"id": "post", "kind": "draft", "settings": {}}
        told = dict.fromkeys(("seed", "take"), "") | {"rewrite": None, "values": {}, "large": {}, "talk": [], "outside": []}
        answer = worker._done(job, told | {"line": line, "spent": 0, "asked_later": False})
        self.assertEqual(answer["code"], "stopped")

    def test_an_answer_that_cannot_be_written_is_brought_again(self) -> None:
        run = self.pushed(self.drafting(), "Beans are up.")
        task = self.broker.offers.get(timeout=20)
        self.asked(f"/{task}/begin")
        told = {"output": {"text": "Beans. " * 2000}, "answer": "first"} | DEAR
        with mock.patch.object(elsewhere, "WRITTEN_WITHIN", 0.3), self.full_disk():
            self.assertEqual(self.asked(f"/{task}/answer", told).status_code, 503)
            self.assertEqual(self.asked(f"/{task}/answer", told).status_code, 503)
        self.until(run, "done")
        self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": False})
        self.assertAlmostEqual(self.run_of(run).cost, 0.5)

    def test_a_run_that_was_paused_takes_the_same_task_anew(self) -> None:
        run = self.pushed(self.drafting(), "Beans are up.")
        task = self.broker.offers.get(timeout=20)
        self.asked(f"/{task}/begin")
        self.engine.record(run, flow.Held(at=1.0, reason="person", message="Paused."))
        self.wait_for(lambda: self.elsewhere.counted() == (0, 0, 0))
        self.wait_for(lambda: all(one.ended_at for one in self.leases()))
        self.engine.record(run, flow.Released(at=2.0))
        self.assertEqual(self.broker.offers.get(timeout=20), task)
        # What the first one brings now is not taken for the second's; it is paid for.
        told = {"output": {"text": "Beans."}, "answer": "first"} | DEAR
        self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": False})
        self.asked(f"/{task}/begin")
        self.assertEqual(self.asked(f"/{task}/answer", told | {"answer": "second"}).json(), {"wanted": True})
        self.until(run, "done")
        self.assertAlmostEqual(self.run_of(run).cost, 1.0)

    def test_where_nobody_takes_it_that_is_said(self) -> None:
        self.elsewhere._waits = 0.3
        run = self.new_item(self.live())
        self.until(run, "failed", "stuck", seconds=60)
        self.assertIn("No worker took this", self.run_of(run).message)

    def test_wrong_answers_are_failures_in_words(self) -> None:
        for told, words in (
            ({"output": ["no", "object"]}, "cannot be kept"),
            ({"failed": "It rained.", "code": "refused"}, "It rained"),
            ({}, "cannot be kept"),
        ):
            run = self.new_item(self.live())
            task = self.broker.offers.get(timeout=20)
            self.asked(f"/{task}/begin")
            self.assertEqual(self.asked(f"/{task}/answer", told).json(), {"wanted": True})
            self.until(run, "failed", "stuck")
            self.assertIn(words, self.run_of(run).message)

    def test_one_takes_a_task_and_its_connections_once(self) -> None:
        self.new_item(self.live())
        page = self.broker.offers.get(timeout=10)
        self.assertEqual(self.asked(f"/{page}/begin", {"process": "a"}).status_code, 200)
        self.assertEqual(self.asked(f"/{page}/begin", {"process": "b"}).status_code, 410)
        # Another worker with a key of its own is told nothing of it, and answers nothing.
        other = make_key(self.services.store, "two")
        self.assertEqual(self.asked(f"/{page}/connection", {"key": "model", "kind": "model"}, key=other).status_code, 410)
        self.assertEqual(self.asked("/heard", {"tasks": {page: ""}}, key=other).json(), {"unwanted": [page]})
        self.assertEqual(self.asked(f"/{page}/answer", {"output": {}, "answer": "o"}, key=other).json(), {"wanted": False})
        output = {"text": "The lock is open. " * 30, "title": "Lock", "link": "http://a.example"}
        self.asked(f"/{page}/answer", {"output": output, "answer": "x"})
        draft = self.broker.offers.get(timeout=10)
        told = self.asked(f"/{draft}/begin", {"process": "a"}).json()
        self.assertNotIn('"k"', json.dumps(told))
        wanted = {"key": "model", "kind": "model", "ask": "first"}
        self.assertEqual(self.asked(f"/{draft}/connection", wanted).json()["secrets"], {"key": "k"})
        # The answer was lost on the way and is asked for again; anything else is another time.
        self.assertEqual(self.asked(f"/{draft}/connection", wanted).json()["secrets"], {"key": "k"})
        self.assertEqual(self.asked(f"/{draft}/connection", wanted | {"ask": "second"}).status_code, 422)
        self.assertEqual(self.asked(f"/{draft}/connection", {"key": "pond", "kind": "posting"}).status_code, 422)
        self.assertEqual(self.asked(f"/{page}/connection", wanted).status_code, 410)

    def test_strangers_and_other_versions_get_nothing(self) -> None:
        self.assertEqual(self.asked("/hello", key="x" * 40).status_code, 401)
        told = self.asked("/hello", version="0.0.1")
        self.assertEqual(told.status_code, 409)
        self.assertIn("Install the same", told.json()["message"])
        with self.assertRaises(Told):
            self.worker("wrong").hello()
        self.assertEqual(self.worker().hello()["lacks"], [])
        self.assertIn(["draft", ""], self.asked("/hello", {"kinds": ["read_page"]}).json()["lacks"])
        with mock.patch.object(registry, "here", return_value=registry.here() | {"mow": "garden-kinds"}):
            lacks = self.asked("/hello", {"kinds": sorted(set(registry.here()) - {"mow"})}).json()["lacks"]
        self.assertEqual(lacks, [["mow", "garden-kinds"]], "by the name of what is to be installed")
        other = HTTP.post(f"{self.server.url}/workers/hello", json={})
        self.assertEqual(other.status_code, 401)

    def test_a_run_that_is_stopped_tells_its_worker(self) -> None:
        run = self.new_item(self.live())
        task = self.broker.offers.get(timeout=10)
        self.asked(f"/{task}/begin")
        self.assertEqual(self.asked("/heard", {"tasks": {task: "so far"}}).json(), {"unwanted": []})
        self.engine.record(run, flow.Cancelled(at=1.0, by="Ines"))
        self.wait_for(lambda: self.asked("/heard", {"tasks": {task: ""}}).json() == {"unwanted": [task]})

    def test_after_a_restart_what_was_out_is_offered_again(self) -> None:
        run = self.new_item(self.live())
        task = self.broker.offers.get(timeout=10)
        self.reopen()
        self.assertEqual(self.broker.offers.get(timeout=20), task, "it is the same task still")
        self.broker.offers.put(task)
        self.at_work()
        self.answer(run)
        self.until(run, "done")

    def test_what_a_worker_had_before_a_restart_it_brings_after_it(self) -> None:
        run = self.new_item(self.live())
        task = self.broker.offers.get(timeout=10)
        self.asked(f"/{task}/begin")
        key = self.key
        self.reopen()
        output = {"text": "The lock is open. " * 30, "title": "Lock", "link": "http://a.example"}
        told = {"output": output, "answer": "x"}
        self.wait_for(lambda: task in self.elsewhere._out)
        self.assertEqual(self.asked(f"/{task}/answer", told, key=self.key).json(), {"wanted": True})
        self.assertNotEqual(self.key, key)
        self.at_work()
        self.answer(run)
        self.until(run, "done")
        self.assertEqual(self.broker.published.count(task), 0, "it was not offered again")

    def test_a_broker_that_is_away_for_a_while_loses_nothing(self) -> None:
        publish, back = self.broker.publish, threading.Event()

        def away(task: str) -> None:
            if not back.is_set():
                raise elsewhere.BrokerAway("gone")
            publish(task)

        self.broker.publish = away
        self.at_work()
        run = self.new_item(self.live())
        self.until(run, "running")
        threading.Timer(2.0, back.set).start()
        self.answer(run)
        self.until(run, "done")

    def test_what_is_offered_twice_is_carried_out_once_and_what_needs_the_house_at_home(self) -> None:
        document = page(self.town.url)
        document["steps"] = [
            {"id": "record", "kind": "read_record", "settings": {"period": "this_month"}, "on_failure": {"retries": 0}}
        ]
        document["start"] = {"id": "item", "kind": "by_hand", "settings": {"fields": []}}
        workflow = self.made(document)
        workflows.go_live(self.engine, workflow, "ines@marrowbank.example")
        run = self.engine.runs.push(workflow, {})
        assert run is not None
        task, worker = self.broker.offers.get(timeout=10), self.worker()
        with mock.patch.object(worker, "_carry_out", wraps=worker._carry_out) as carried:
            begun = threading.Event()
            worker.link.ask, ask = lambda *a, **k: (begun.set(), threading.Event().wait(0.3), ask(*a, **k))[2], worker.link.ask  # type: ignore[method-assign]
            threading.Thread(target=worker.carry_out, args=(task,), daemon=True).start()
            begun.wait(5)
            worker.carry_out(task)
            self.until(run, "done", "failed", "stuck")
            self.assertEqual(carried.call_count, 1)
        self.assertEqual(self.run_of(run).state, "done", self.run_of(run).message)

    def drafting(self) -> int:
        """A page that drafts from what it is given."""
        fields = [{"name": "about", "label": "about", "type": "long"}]
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Drafts",
            "start": {"id": "item", "kind": "by_hand", "settings": {"fields": fields}},
            "steps": [{"id": "post", "kind": "draft", "settings": {"model": "model", "prompt": "Say what is new: <<item.about>>"}}],
        }
        made = self.made(document)
        workflows.go_live(self.engine, made, WHO)
        return made

    def pushed(self, workflow: int, about: str) -> int:
        run = self.engine.runs.push(workflow, {"about": about})
        assert run is not None
        return run

    def test_a_gate_stays_shut_until_the_answer_is_home(self) -> None:
        with self.services.store.write() as session:
            model = session.get_one(tables.Connection, "model")
            model.settings = model.settings | {"at_once": 1}
        workflow = self.drafting()
        runs = [self.pushed(workflow, f"Beans {n}.") for n in range(3)]
        for _ in runs:
            task = self.broker.offers.get(timeout=20)
            self.asked(f"/{task}/begin")
            with self.assertRaises(queue.Empty):
                self.broker.offers.get(timeout=0.3)
            self.asked(f"/{task}/answer", {"output": {"text": "Beans."}, "answer": "x"})
        for run in runs:
            self.until(run, "done")

    def test_nobody_waits_for_what_is_out_and_only_so_much_is_offered(self) -> None:
        with mock.patch.object(elsewhere, "MOST_OFFERED", 20):
            workflow = self.drafting()
            runs = [self.pushed(workflow, f"Beans {n}.") for n in range(50)]
            self.wait_for(lambda: self.elsewhere.counted() == (30, 20, 0), lambda: str(self.elsewhere.counted()))
            self.assertEqual(len(self.broker.published), 20)
            self.wait_for(lambda: self.engine.executor._open == 0)
            self.at_work(4)
            for run in runs:
                self.until(run, "done")
        self.assertEqual(self.elsewhere.counted(), (0, 0, 0))

    def test_a_lease_is_in_the_journal_before_the_task_is_offered(self) -> None:
        publish, seen = self.broker.publish, list[bool]()

        def looked(task: str) -> None:
            with self.services.store.read() as session:
                events = [e.event for e in session.scalars(select(tables.JournalEntry))]
            seen.append(any(e["event"] == "leased" and e["lease"] == task for e in events))
            publish(task)

        self.broker.publish = looked
        self.at_work()
        run = self.pushed(self.drafting(), "Beans are up.")
        self.until(run, "done")
        self.assertEqual(seen, [True])
        told = [entry(event).says for event in Journals(self.services.store).of(run)]
        self.assertIn("Offered to the workers elsewhere.", told)

    def test_what_is_large_is_fetched_once_for_many_tasks(self) -> None:
        workflow, about = self.drafting(), "Beans are up in the south field. " * 3000
        runs = [self.pushed(workflow, about) for _ in range(3)]
        worker = self.worker()
        with mock.patch.object(worker.link, "fetch", wraps=worker.link.fetch) as fetched:
            for _ in runs:
                worker.carry_out(self.broker.offers.get(timeout=20))
        for run in runs:
            self.until(run, "done")
        self.assertEqual(len([call for call in fetched.call_args_list if call.args[0].endswith("/content")]), 1)
        task = self.broker.published[0]
        self.assertEqual(self.asked(f"/{task}/content", {"sha256": "0" * 64}).status_code, 410)

    def test_a_house_whose_clock_is_wrong_by_an_hour(self) -> None:
        for apart in (3600.0, -3600.0):
            self.services.clock = lambda apart=apart: time.time() + apart
            worker = self.worker()
            run = self.pushed(self.drafting(), "Beans are up.")
            worker.carry_out(self.broker.offers.get(timeout=20))
            self.until(run, "done")
        # Put right while a worker is at it, it loses no lease.
        run = self.pushed(self.drafting(), "Beans are up.")
        task = self.broker.offers.get(timeout=20)
        self.asked(f"/{task}/begin")
        self.services.clock = time.time
        time.sleep(2 * elsewhere.LOOK)
        self.assertEqual(self.asked("/heard", {"tasks": {task: ""}}).json(), {"unwanted": []})

    def test_a_worker_uses_a_connection_of_its_own(self) -> None:
        settings = {"base_url": f"{self.town.url}/model/v1", "model": "practice-1"}
        own = own_connections(json.dumps({"model": {"kind": "model", "settings": settings, "secrets": {"key": "k"}}}))
        worker = Worker(self.server.url, self.key, reachable(self.town), own)
        self.addCleanup(worker.stop)
        with self.services.store.write() as session:
            session.get_one(tables.Connection, "model").sealed = self.services.sealer.seal({"key": "nobody's"})
        run = self.pushed(self.drafting(), "Beans are up.")
        with mock.patch.object(self.elsewhere, "connection") as handed:
            worker.carry_out(self.broker.offers.get(timeout=20))
        self.until(run, "done")
        handed.assert_not_called()
        for wrong in ("{", "[]", '{"model": 1}', '{"model": {"kind": "nothing"}}'):
            with self.assertRaisesRegex(ValueError, "own connections cannot be read"):
                own_connections(wrong)

    def test_two_houses_have_two_queues(self) -> None:
        self.assertNotEqual(queue_of("a" * 32), queue_of("b" * 32))
        # Also where a copy is let go while it is at work, and becomes a house of its own.
        name = ["a" * 32]
        broker = CeleryBroker("memory://", lambda: name[0])
        with mock.patch.object(broker._app, "send_task") as sent:
            broker.publish("x")
            name[0] = "b" * 32
            broker.publish("x")
        self.assertEqual([call.kwargs["queue"] for call in sent.call_args_list], [queue_of("a" * 32), queue_of("b" * 32)])


class Assigned(WithWorkers):
    """An assignment thinks elsewhere; what it may do is done at home."""

    def test_it_thinks_elsewhere(self) -> None:
        with self.services.store.write() as session:
            search = {"description": f"{self.town.url}/search/opensearch.xml"}
            key = self.services.sealer.seal({"key": "search-key"})
            session.add(tables.Connection(key="search", kind="search", name="Town search", settings=search, sealed=key))
        self.at_work()
        made = self.made(assignment(self.town.url))
        workflows.go_live(self.engine, made, WHO)
        run = self.engine.runs.push(made, {"title": "By hand"})
        assert run is not None
        self.answer(run)
        self.until(run, "done", "asking")
        with self.services.store.read() as session:
            kinds = {one.kind for one in session.scalars(select(tables.Lease))}
        self.assertEqual(kinds, {"assignment", "search", "read_page"})
        self.assertEqual(len(self.posts()), 1)
