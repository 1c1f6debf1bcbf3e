"""Doubt: a network that does not drop doubles, lists late, lists without keys or cuts its lists; and what each leaves known."""

from __future__ import annotations

import time
from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse, furnish, page
from tests.runtime.test_blocks_live import Flowing, step
from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.runtime import execution, outbox, outsides, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.steps.api import Result
from ulmus.store import tables


class Unkind(WithHouse):
    """Tried against the network's unkind twin: whatever is sent twice is there twice."""

    def setUp(self) -> None:
        super().setUp()
        self.town.state.network.keeps_doubles = True

    def lag(self, seconds: float | None) -> None:
        """What the owner states of the network's lists."""
        with self.services.store.write() as session:
            pond = session.get_one(tables.Connection, "pond")
            pond.settings = {k: v for k, v in pond.settings.items() if k != "lists_within"} | (
                {} if seconds is None else {"lists_within": seconds}
            )

    def approved(self, mode: str = "", left: int = 1) -> int:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        self.fault("network", mode, left)
        self.answer(run_id)
        self.assertEqual(question.run_id, run_id)
        return run_id

    def others(self, count: int) -> None:
        """Posts of somebody else's, from before."""
        for n in range(count):
            post = {"id": n + 1, "content": f"Old {n}", "uid": f"old-{n}", "at": time.time() - 9000 + n, "by": "x", "photo": ""}
            self.town.state.posts.append(post)

    def mine(self) -> int:
        return sum(p["at"] > time.time() - 600 for p in self.town.state.posts)

    def test_a_lost_reply_among_many_is_found_on_a_later_page(self) -> None:
        self.town.state.network.most = 3
        run = self.approved("lost")
        for n in range(7):  # others post meanwhile, so that it stands on the third page
            post = {"id": 2 + n, "content": "Other", "uid": f"o{n}", "at": time.time(), "by": "x", "photo": ""}
            self.town.state.posts.append(post)
        self.until(run, "done")
        self.assertEqual(sum(p["uid"] == self.piece(run).key for p in self.town.state.posts), 1)

    def test_one_that_never_arrived_is_sent_again_once_the_list_cannot_be_late(self) -> None:
        run = self.approved("down", 1)
        self.until(run, "done")
        self.assertEqual(self.mine(), 1)

    def test_absence_right_after_a_break_proves_nothing(self) -> None:
        """The network lists a post only after a while; looked for at once, it is not there, and must not be sent again."""
        self.town.state.network.late = 1.5
        self.lag(2.0)
        run = self.approved("lost")
        self.until(run, "done", seconds=30)
        self.assertEqual(self.mine(), 1)

    def test_where_nothing_is_known_of_its_lists_absence_is_not_believed(self) -> None:
        self.lag(None)
        self.town.state.network.late = 3600.0
        with mock.patch.object(outbox, "LOOKED_FOR", 1.0):
            run = self.approved("lost")
            self.assertIn("how late its lists are", self.until(run, "unsure").message)
        self.assertEqual(self.mine(), 1)

    def test_what_turns_out_to_be_there_later_settles_itself(self) -> None:
        self.lag(None)
        self.town.state.network.late = 3600.0
        with mock.patch.object(outbox, "LOOKED_FOR", 0.5), mock.patch.object(outbox, "UNSURE_EVERY", 0.3):
            run = self.approved("lost")
            self.until(run, "unsure")
            self.town.state.network.late = 0.0
            self.until(run, "done")
        self.assertEqual(self.mine(), 1)

    def test_lists_that_cannot_tell(self) -> None:
        for name, network in (
            ("without keys", {"keys": False}),
            ("cut short", {"pages": False, "most": 20, "dates": False}),
        ):
            with self.subTest(name):
                self.town.state.posts.clear()
                self.others(60)
                for key, value in network.items():
                    setattr(self.town.state.network, key, value)
                run = self.approved("down")
                self.until(run, "unsure")
                self.assertEqual(self.mine(), 0)
                self.engine.outbox.decide(self.piece(run).id, "again", "Mara")
                self.until(run, "done")
                self.assertEqual(self.mine(), 1)

    def test_a_cut_list_that_reaches_back_behind_the_attempt_tells(self) -> None:
        self.others(60)
        self.town.state.network.pages, self.town.state.network.most = False, 20
        run = self.approved("down")
        self.until(run, "done")
        self.assertEqual(self.mine(), 1)

    def test_how_late_lists_are_is_learned_from_what_goes_out(self) -> None:
        self.lag(None)
        self.town.state.network.late = 0.7
        self.until(self.approved(), "done")
        self.wait_for(lambda: self.engine.outbox.listings.lag("pond", None) is not None)
        lag = self.engine.outbox.listings.lag("pond", None)
        assert lag is not None
        self.assertGreater(lag, 0.6)
        run = self.approved("down")
        self.until(run, "done", seconds=30)
        self.assertEqual(self.mine(), 2, "and then absence is believed")

    def test_a_machine_that_slept_between_two_looks_learns_nothing_from_them(self) -> None:
        self.lag(None)
        self.town.state.network.late = 0.7
        asleep = [0.0]
        self.services.clock = lambda: time.time() + asleep[0]
        run = self.approved()
        self.wait_for(lambda: any(one.absent for one in self.engine.outbox._observed))
        asleep[0] = 8 * 3600.0
        self.until(run, "done")
        self.wait_for(lambda: not self.engine.outbox._observed)
        self.until(self.approved(), "done")
        self.wait_for(lambda: self.engine.outbox.listings.lag("pond", None) is not None)
        self.assertLess(self.engine.outbox.listings.lag("pond", None) or 0.0, 10.0)

    def test_a_post_that_is_only_accepted_is_looked_for_until_it_is_there(self) -> None:
        self.town.state.network.accepts = 1.5
        run = self.approved()
        self.wait_for(lambda: self.piece(run).state == "accepted")
        self.until(run, "done")
        self.assertEqual((self.mine(), "/pondside/posts/1" in self.rows()[0]["Link"]), (1, True))

    def test_and_where_it_never_appears_a_person_looks(self) -> None:
        self.town.state.network.accepts = 3600.0
        with mock.patch.object(outbox, "ACCEPTED_FOR", 1.0):
            run = self.approved()
            self.assertIn("has not appeared", self.until(run, "unsure").message)
        self.assertEqual(self.mine(), 1)

    def test_a_redirect_of_a_post_says_nothing_and_it_is_looked_for(self) -> None:
        self.town.state.network.moves = 302
        run = self.approved()
        self.until(run, "done")
        self.assertEqual(self.mine(), 1)

    def test_a_post_without_an_address_is_a_post(self) -> None:
        self.town.state.network.location = False
        run = self.approved()
        self.until(run, "done")
        self.assertEqual(self.mine(), 1)

    def test_many_at_once_whose_replies_are_all_lost_are_each_there_once(self) -> None:
        steps = [
            step(
                "all",
                "for_each",
                list="<<start.names>>",
                item="it",
                parallel=64,
                steps=[step("out", "publish_post", channel="pond", text="<<it>>")],
            )
        ]
        start = {"id": "start", "kind": "by_hand", "settings": {"fields": [{"name": "names", "label": "N", "type": "long"}]}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "M", "start": start, "steps": steps})
        workflows.go_live(self.engine, id_, WHO)
        self.fault("network", "lost", 70)
        with mock.patch.object(outsides, "IN_A_ROW", 1000):  # the door stays open
            run = self.engine.runs.push(id_, {"names": "\n".join(f"Post {n}" for n in range(70)), "title": "x"})
            assert run is not None
            self.until(run, "done", seconds=60)
        self.assertEqual(sorted(self.posts()), sorted(f"Post {n}" for n in range(70)))


class Houses(WithHouse):
    """Two houses on one channel are never taken for one another."""

    def test_a_second_house_on_the_same_channel_posts_its_own_text(self) -> None:
        first = self.new_item(self.live())
        self.answer(first)
        self.until(first, "done")
        import shutil
        import tempfile
        from pathlib import Path

        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        services = Services.open(folder, self.services.web.allowed, public_url="http://other.example")
        engine = Engine(services)
        furnish(services, self.town.url, self.town.smtp_port)
        engine.start(polling=False)
        self.addCleanup(services.close)
        self.addCleanup(engine.stop)
        other, self.services, self.engine = (self.services, self.engine), services, engine
        second = self.new_item(self.live())
        self.answer(second, text=f"Other words. {self.question(second).text[-80:]}", despite=True)
        self.until(second, "done")
        self.assertEqual(second, first, "the runs have the same number in both")
        self.assertEqual(len(self.posts()), 2)
        self.assertNotEqual(self.services.store.identity, other[0].store.identity)

    def test_what_has_a_key_keeps_it(self) -> None:
        import hashlib

        self.fault("network", "refuse")
        run = self.new_item(self.live(out={"channel": "pond"}))
        self.answer(run)
        self.until(run, "failed")
        before = hashlib.sha256(f"{run}/out/1".encode()).hexdigest()[:40]
        with self.services.store.write() as session:
            # As a version without an identity had queued it when the run was taken up.
            piece = session.scalars(select(tables.Piece).where(tables.Piece.run_id == run)).one()
            piece.key, piece.generation = before, None
        self.fault("network", "")
        self.engine.record(run, flow.TakenUp(at=1, address="out", by="Mara"))
        self.until(run, "done")
        self.assertEqual((self.piece(run).key, self.town.state.posts[0]["uid"]), (before, before))


class Letters(WithHouse):
    def test_a_recipient_refused_for_now_is_tried_again(self) -> None:
        self.fault("mail", "busy", 1)
        run = self.new_item(self.live())
        self.question(run)
        with mock.patch.object(outbox, "MAIL_TRIES", 5):
            self.wait_for(lambda: bool(self.town.state.mails), seconds=30)
        kept = self.town.state.mails[0]
        self.assertRegex(kept["message_id"], r"^<[0-9a-f]{32}@a\.example>$")


class Stopped(Flowing):
    """Pausing or cancelling ends the calls under way; what they had cost is booked."""

    def under_way(self) -> tuple[int, Any]:
        import threading

        self.ended = threading.Event()

        def waits(name: str, context: Any) -> Any:
            from ulmus.protocols.errors import OutsideError
            from ulmus.steps.api import StepFailed

            if getattr(self, "quick", False):
                return "done"
            for _ in range(500):
                if context.cancelled():
                    self.ended.set()
                    return StepFailed(OutsideError("Stopped."), Usage(calls=2, tokens_in=10, tokens_out=5, cost=0.7))
                time.sleep(0.01)
            return "too late"

        run = self.run_page([step("post", "draft", model="model", prompt="x")], {"x": "1"}, waits)
        self.wait_for(lambda: bool(self.played.calls))
        return run, waits

    def test_cancelling(self) -> None:
        run, _ = self.under_way()
        self.engine.record(run, flow.Cancelled(at=self.services.clock(), by="Mara"))
        self.assertTrue(self.ended.wait(3))
        self.wait_for(lambda: self.run_of(run).cost > 0.6)
        self.assertEqual(self.run_of(run).state, "cancelled")
        with self.services.store.read() as session:
            self.assertAlmostEqual(session.scalars(select(tables.Spending)).one().cost, 0.7)

    def test_pausing_and_going_on(self) -> None:
        run, _ = self.under_way()
        self.engine.record(run, flow.Held(at=self.services.clock(), reason="person", message="Paused by Mara."))
        self.assertTrue(self.ended.wait(3))
        self.wait_for(lambda: self.run_of(run).cost > 0.6)
        self.assertEqual(self.run_of(run).state, "held")
        self.quick = True
        self.engine.record(run, flow.Released(at=self.services.clock(), by="Mara"))
        self.until(run, "done")
        self.assertEqual(self.played.calls, ["post", "post"])

    def test_let_go_on_before_the_call_has_ended_it_is_made_once_more(self) -> None:
        run, _ = self.under_way()
        now = self.services.clock()
        self.engine.record(run, flow.Held(at=now, reason="person", message="Paused."))
        self.quick = True
        self.engine.record(run, flow.Released(at=now, by="Mara"))
        self.until(run, "done")

    def test_a_stopped_draft_books_its_earlier_rounds(self) -> None:
        from ulmus.protocols import chat
        from ulmus.protocols.errors import OutsideError
        from ulmus.steps import kinds
        from ulmus.steps.api import Context, StepFailed

        answers = iter([chat.Answer("far too long for the rule", 100, 50, True, 0.1), chat.Broken("Stopped.", "so far", 100, 7)])

        def complete(*_: Any, **__: Any) -> chat.Answer:
            found = next(answers)
            if isinstance(found, OutsideError):
                raise found
            return found

        settings = kinds()["draft"].settings.model_validate(
            {"model": "model", "prompt": "x", "rules": [{"rule": "length", "most": 5, "strength": "must"}]}
        )
        context = Context(web=self.services.web, connect=self.services.connect, values={}, asked_later=True)
        with mock.patch.object(chat, "complete", complete), self.assertRaises(StepFailed) as caught:
            kinds()["draft"].perform(settings, context)  # type: ignore[misc]
        self.assertEqual(caught.exception.usage.tokens_in, 200)
        self.assertEqual(caught.exception.usage.tokens_out, 57)
        self.assertEqual(caught.exception.usage.calls, 2)


class AfterTheCommit(WithHouse):
    """Work for after a commit dies with its transaction."""

    def test_a_start_that_is_rolled_back_cancels_nobody(self) -> None:
        document = page(self.town.url)
        document["limits"] = {"at_once": 1, "when_full": "replace"}
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        run = self.new_item(id_)
        self.question(run)
        heard = []
        with self.services.bus.listen() as news:
            with self.assertRaises(ZeroDivisionError), self.engine.transaction() as tx:
                self.engine.begin(tx, id_, {"title": "x"}, "x")
                tx.publish("workflow", id=id_)
                raise ZeroDivisionError
            time.sleep(0.3)
            while not news.empty():
                heard.append(news.get_nowait())
        self.assertEqual(self.run_of(run).state, "asking")
        self.assertEqual([one for one in heard if one["topic"] == "workflow"], [], "and no screen hears of it")
        with self.services.store.read() as session:
            self.assertEqual(len(list(session.scalars(select(tables.Run)))), 1)

    def test_no_kinds_code_runs_under_the_write_lock(self) -> None:
        """Whatever a kind computes is computed while nobody holds the lock; tried for every function the engine calls."""
        from dataclasses import replace

        from ulmus.steps import kinds

        locked: list[str] = []
        lock = self.services.store._writing

        def watched(name: str, call: Any) -> Any:
            def inner(*arguments: Any, **more: Any) -> Any:
                # An RLock that this thread holds could be taken by it again; one that is held by another could not.
                if lock._is_owned():  # type: ignore[attr-defined]
                    locked.append(name)
                return call(*arguments, **more)

            return inner

        names = ("poll", "rows", "perform", "piece", "send", "find", "follow", "row", "work")
        known = {
            key: replace(kind, **{n: watched(f"{key}.{n}", getattr(kind, n)) for n in names if hasattr(kind, n)})
            for key, kind in kinds().items()
        }
        from ulmus.runtime import polling

        with (
            mock.patch.object(execution, "kinds", return_value=known),
            mock.patch.object(polling, "kinds", return_value=known),
            mock.patch.object(outbox, "kinds", return_value=known),
        ):
            run = self.new_item(self.live())
            self.answer(run)
            self.until(run, "done")
            with self.services.store.write() as session:
                session.add(tables.Sheet(key="topics", name="Topics", columns=[{"name": "Topic", "type": "text"}]))
                session.add(tables.SheetRow(sheet="topics", position=1, cells={"Topic": "Beans"}))
            document = page(self.town.url)
            document["start"] = {"id": "feed", "kind": "new_row", "settings": {"sheet": "topics"}}
            document["steps"] = [
                step("pick", "pick_one", list="a\nb", how="turn"),
                step("log", "add_row", sheet="log", cells={"Post": "<<pick.picked>>"}),
            ]
            id_ = self.made(document)
            workflows.go_live(self.engine, id_, WHO, a_day=5)
            self.engine.polling.look_at(id_)
            self.wait_for(lambda: len(self.rows()) == 3)
        self.assertEqual(locked, [])
        self.assertIsNotNone(Result)
