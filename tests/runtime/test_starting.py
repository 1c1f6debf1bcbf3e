"""Starts that take what is there, start nothing twice, and do not run away."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import func, select

from tests.runtime.house import WHO
from tests.runtime.test_blocks_live import step
from tests.runtime.test_starts import FAILS, Starts
from ulmus.core.workflow import read_file
from ulmus.runtime import readiness, rowsent, sheets, workflows
from ulmus.store import tables


class AlreadyThere(Starts):
    """Going live, and going on after a pause, with rows that are there."""

    def rowed(self, count: int, **settings: Any) -> tuple[int, str]:
        key = self.sheet([{"Topic": f"Topic {n}"} for n in range(1, count + 1)])
        id_ = self.started("new_row", live=False, sheet=key, **settings)
        return id_, key

    def add(self, key: str, *topics: str) -> None:
        with self.services.store.write() as session:
            sheets.add_rows(session, session.get_one(tables.Sheet, key), [{"Topic": t} for t in topics])

    def topics(self, id_: int) -> list[str]:
        return [str(i["Topic"]) for i in self.items(id_)]

    def test_what_is_there_is_told_and_passed_over(self) -> None:
        id_, key = self.rowed(12)
        waiting = workflows.waiting_for(self.engine, id_)
        assert waiting is not None
        self.assertEqual(len(waiting.items), 12)
        workflows.go_live(self.engine, id_, WHO)
        self.add(key, "New")
        self.engine.polling.look_at(id_)
        self.assertEqual(self.topics(id_), ["New"])

    def test_or_run_for_so_many_a_day(self) -> None:
        id_, key = self.rowed(5)
        workflows.go_live(self.engine, id_, WHO, a_day=2)
        for _ in range(3):
            self.engine.polling.look_at(id_)
        self.assertEqual(self.topics(id_), ["Topic 1", "Topic 2"])
        self.add(key, "New")
        self.now += 86_400
        for _ in range(2):
            self.engine.polling.look_at(id_)
        self.assertEqual(sorted(self.topics(id_)), ["New", "Topic 1", "Topic 2", "Topic 3", "Topic 4"])
        self.now += 86_400
        self.engine.polling.look_at(id_)
        self.assertEqual(len(self.topics(id_)), 6)

    def test_what_arrives_in_the_moment_of_going_live_is_not_lost(self) -> None:
        """What is there is noted in the transaction that goes live: a row that comes between the look and it starts a run."""
        id_, key = self.rowed(2)
        waiting = workflows.waiting_for(self.engine, id_)
        self.add(key, "Between")
        workflows.go_live(self.engine, id_, WHO, waiting=waiting)
        self.engine.polling.look_at(id_)
        self.assertEqual(self.topics(id_), ["Between"])

    def test_going_on_after_a_pause_offers_what_came_meanwhile(self) -> None:
        id_, key = self.rowed(1)
        workflows.go_live(self.engine, id_, WHO)
        workflows.pause(self.engine, id_, WHO)
        self.add(key, "Meanwhile", "And more")
        waiting = workflows.waiting_for(self.engine, id_)
        assert waiting is not None
        self.assertEqual([item["Topic"] for _, item in waiting.items], ["Meanwhile", "And more"])
        workflows.go_live(self.engine, id_, WHO, a_day=10)
        self.engine.polling.look_at(id_)
        self.assertEqual(self.topics(id_), ["Meanwhile", "And more"])

    def test_a_restart_loses_none_of_what_waits(self) -> None:
        id_, _ = self.rowed(3)
        workflows.go_live(self.engine, id_, WHO, a_day=1)
        self.engine.polling.look_at(id_)
        workflows.pause(self.engine, id_, WHO)
        workflows.go_live(self.engine, id_, WHO)
        self.now += 86_400
        self.engine.polling.look_at(id_)
        self.assertEqual(self.topics(id_), ["Topic 1", "Topic 2"])


class ChosenRows(Starts):
    def test_chosen_rows_are_sent_through_each_once(self) -> None:
        key = self.sheet([{"Topic": t} for t in ("a", "b", "c")])
        id_ = self.started("new_row", sheet=key)
        with self.services.store.read() as session:
            ids = list(session.scalars(select(tables.SheetRow.id).where(tables.SheetRow.sheet == key).order_by(tables.SheetRow.id)))
            self.assertEqual([one.id for one in rowsent.takers(session, key, self.services.clock())], [id_])
        # They were passed over when it went live, so that they count as had; sent again, they run.
        self.assertEqual(rowsent.send_through(self.engine, id_, key, ids[:2], False), (0, 2))
        self.assertEqual(rowsent.send_through(self.engine, id_, key, ids[:2], True), (2, 0))
        self.assertEqual([i["Topic"] for i in self.items(id_)], ["a", "b"])

    def test_what_is_live_counts_and_not_what_was_changed_since(self) -> None:
        key, other = self.sheet([{"Topic": "a"}]), self.sheet([])
        id_ = self.started("new_row", sheet=key)
        with self.services.store.write() as session:
            record = session.get_one(tables.WorkflowRecord, id_)
            start = {**record.document["start"], "settings": {"sheet": other}}
            record.document = {**record.document, "start": start}
        with self.services.store.read() as session:
            self.assertEqual([one.id for one in rowsent.takers(session, key, self.services.clock())], [id_])
            self.assertEqual(rowsent.takers(session, other, self.services.clock()), [])

    def test_so_many_a_day_from_today_on_each_once_and_across_a_pause(self) -> None:
        key = self.sheet([{"Topic": f"T{n}"} for n in range(5)])
        id_ = self.started("sheet_row", sheet=key, used="Used", rule="FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=1;BYHOUR=8", zone="UTC")
        with self.services.store.read() as session:
            ids = list(session.scalars(select(tables.SheetRow.id).where(tables.SheetRow.sheet == key)))
        self.assertEqual(rowsent.send_through(self.engine, id_, key, ids, False, a_day=2), (5, 0))
        # Pressed twice, nothing comes twice.
        self.assertEqual(rowsent.send_through(self.engine, id_, key, ids, False, a_day=2), (0, 5))
        self.engine.polling.look_at(id_)
        self.engine.polling.look_at(id_)
        self.assertEqual(len(self.items(id_)), 2)
        with self.services.store.read() as session:
            (taker,) = rowsent.takers(session, key, self.services.clock())
            due = session.get_one(tables.Start, id_).next_at
        self.assertEqual(taker.paced, 3)
        self.assertLessEqual(due - self.services.clock(), 86_400)  # though its own time comes once a year
        workflows.pause(self.engine, id_, WHO)
        workflows.go_live(self.engine, id_, WHO)
        for expected in (4, 5, 5):
            self.now += 86_400
            self.engine.polling.look_at(id_)
            self.assertEqual(len(self.items(id_)), expected)
        self.assertEqual(sorted(str(item["Topic"]) for item in self.items(id_)), [f"T{n}" for n in range(5)])

    def test_a_list_says_how_many_are_left_and_until_when_they_last(self) -> None:
        key = self.sheet([{"Topic": "used", "Used": "x"}, *({"Topic": f"T{n}"} for n in range(5)), {"Topic": " "}])
        self.started("sheet_row", sheet=key, used="Used", count=2, rule="FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0", zone="UTC")
        with self.services.store.read() as session:
            (taker,) = rowsent.takers(session, key, self.services.clock())
        self.assertEqual(taker.left, 5)
        assert taker.until is not None
        self.assertTrue(2 * 86_400 <= taker.until - self.services.clock() <= 3 * 86_400)

    def test_used_rows_and_other_workflows_are_refused(self) -> None:
        key = self.sheet([{"Topic": "a", "Used": "x"}, {"Topic": "b"}])
        id_ = self.started("sheet_row", sheet=key, used="Used", rule="FREQ=DAILY;BYHOUR=8;BYMINUTE=0", zone="UTC")
        with self.services.store.read() as session:
            ids = list(session.scalars(select(tables.SheetRow.id).where(tables.SheetRow.sheet == key)))
        self.assertEqual(rowsent.send_through(self.engine, id_, key, ids, False), (1, 1))
        self.settled(id_, 1)
        self.assertEqual(self.cells(key)[1]["Used"], "2026-03-02")
        other = self.started("by_hand")
        with self.assertRaisesRegex(ValueError, "does not start from rows"):
            rowsent.send_through(self.engine, other, key, ids, False)


class SoManyADay(Starts):
    def test_rows_beyond_the_limit_wait_and_a_person_is_asked(self) -> None:
        key = self.sheet([])
        id_ = self.started("new_row", sheet=key, limits={"day_runs": 3})
        with self.services.store.write() as session:
            sheets.add_rows(session, session.get_one(tables.Sheet, key), [{"Topic": f"T{n}"} for n in range(8)])
        for _ in range(2):
            self.engine.polling.look_at(id_)
        self.assertEqual(len(self.items(id_)), 3)
        with self.services.store.read() as session:
            start = session.get_one(tables.Start, id_)
        self.assertTrue(start.memory.get("over"))
        self.assertIn("reached its limit", start.found)
        self.engine.runs.grant_today(id_)
        self.engine.polling.look_at(id_)
        self.assertEqual(len(self.items(id_)), 6)
        self.now += 86_400
        self.engine.polling.look_at(id_)
        self.assertEqual(len(self.items(id_)), 8)

    def test_calls_beyond_it_are_kept_and_begin_when_they_may(self) -> None:
        id_ = self.started("call", limits={"day_runs": 2})
        for n in range(4):
            self.assertIsNotNone(self.engine.runs.push(id_, {"title": f"{n}", "body": {}}))
        self.wait_for(lambda: [r.state for r in self.runs(id_)].count("done") == 2)
        self.assertEqual(sorted(r.state for r in self.runs(id_)), ["done", "done", "queued", "queued"])
        self.engine.runs.grant_today(id_)
        self.settled(id_, 4)

    def test_or_on_the_next_day_by_themselves(self) -> None:
        id_ = self.started("call", limits={"day_runs": 1})
        for n in range(2):
            self.engine.runs.push(id_, {"title": f"{n}", "body": {}})
        self.now += 86_400
        self.engine.runs.tick(self.now)
        self.settled(id_, 2)

    def test_which_starts_are_limited_from_the_beginning(self) -> None:
        from ulmus.runtime.runs import RUNS_A_DAY, runs_a_day

        key = self.sheet([])
        for kind, settings, most in (
            ("new_row", {"sheet": key}, RUNS_A_DAY),
            ("call", {}, RUNS_A_DAY),
            ("by_hand", {}, None),
            ("schedule", {"rule": "FREQ=DAILY", "zone": "UTC"}, None),
        ):
            with self.subTest(kind):
                self.assertEqual(runs_a_day(self.document(self.started(kind, live=False, **settings))), most)


class Circles(Starts):
    def named(self, id_: int) -> list[str]:
        with self.services.store.read() as session:
            return [p.message for p in readiness.from_circles(session, id_, self.document(id_))]

    def test_a_row_added_to_the_sheet_that_is_watched(self) -> None:
        key = self.sheet([])
        id_ = self.started(
            "new_row", [step("log", "add_row", sheet=key, cells={"Topic": "<<start.title>>"})], live=False, sheet=key
        )
        self.assertIn("starts the workflow itself again", self.named(id_)[0])

    def test_by_way_of_another(self) -> None:
        first, second = self.sheet([]), self.sheet([])
        self.started("new_row", [step("log", "add_row", sheet=first, cells={"Topic": "x"})], sheet=second)
        id_ = self.started("new_row", [step("log", "add_row", sheet=second, cells={"Topic": "x"})], live=False, sheet=first)
        self.assertIn("by way of", self.named(id_)[0])

    def test_a_post_into_the_feed_that_is_read(self) -> None:
        url = f"{self.town.url}/pondside/feed.xml"
        id_ = self.started("feed_item", [step("out", "publish_post", channel="pond", text="x")], live=False, url=url)
        self.assertIn("publishes where the feed is read", self.named(id_)[0])

    def test_one_that_starts_itself(self) -> None:
        id_ = self.started("by_hand", live=False)
        document = self.document(id_).model_dump(mode="json")
        document["steps"] = [step("again", "run_workflow", workflow=str(id_), item={"title": "x"})]
        with self.services.store.write() as session:
            workflows.save(session, id_, read_file(document), 1, 1.0)
        self.assertIn("it runs the workflow", self.named(id_)[0])

    def test_what_goes_nowhere_near_is_not_named(self) -> None:
        key = self.sheet([])
        id_ = self.started("new_row", [step("log", "add_row", sheet="log", cells={"Post": "x"})], live=False, sheet=key)
        self.assertEqual(self.named(id_), [])


class MarkedUsed(Starts):
    def test_only_a_run_that_ended_well_marks_its_row_and_others_say_how(self) -> None:
        rule = {"rule": "FREQ=DAILY;BYHOUR=8;BYMINUTE=0", "zone": "UTC"}
        for steps, words in (([FAILS], "failed 2026-03-03"), ([step("enough", "stop", words="no")], "passed over 2026-03-03")):
            with self.subTest(words):
                self.now = dt.datetime(2026, 3, 2, 6, 0, tzinfo=dt.UTC).timestamp()
                key = self.sheet([{"Topic": "Beans"}])
                id_ = self.started("sheet_row", steps, sheet=key, used="Used", **rule)
                self.now += 86_400
                self.engine.polling.look_at(id_)
                self.settled(id_, 1)
                self.assertEqual(self.cells(key)[0]["Used"], words)

    def test_pushed_twice_by_a_lost_answer_it_begins_once(self) -> None:
        id_ = self.started("by_hand")
        for _ in range(2):
            self.engine.runs.push(id_, {"title": "x"}, None, ["pressed:k1"])
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(func.count()).where(tables.Run.workflow_id == id_)), 1)
        self.assertIsNotNone(self.engine.runs.begun_by(id_, "pressed:k1"))
