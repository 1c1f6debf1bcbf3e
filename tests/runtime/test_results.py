"""What came of a piece in numbers: its channel is asked some time after it went out, by itself and by a line that waits."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError

from tests.runtime.house import WHO, WithHouse
from ulmus.core.workflow import Workflow, check
from ulmus.runtime import results, workflows
from ulmus.runtime.services import world
from ulmus.steps import kinds
from ulmus.steps.connections.posting import PostingSettings
from ulmus.store import tables

DAY = 86_400.0


class Numbered(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.told()

    def told(self, **more: Any) -> None:
        """What the network is asked."""
        asked = {"numbers_at": "/pondside/api/numbers?of=<<link>>", "numbers": "liked: $.liked\npassed on: $.passed_on.count"}
        with self.services.store.write() as session:
            pond = session.get_one(tables.Connection, "pond")
            pond.settings = {**pond.settings, **asked, **more}

    def page(self, *steps: dict[str, Any]) -> dict[str, Any]:
        start = {"id": "topic", "kind": "by_hand", "settings": {"fields": [{"name": "text", "label": "Text"}]}}
        out = {"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<topic.text>>"}}
        return {"format": "ulmus-workflow", "version": 1, "name": "Numbers", "start": start, "steps": [out, *steps]}

    def begin(self, *steps: dict[str, Any]) -> int:
        id_ = self.made(self.page(*steps))
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"text": "Sow the beans."})
        assert run is not None
        return run

    def found(self, run: int) -> list[tuple[float, dict[str, float]]]:
        with self.services.store.read() as session:
            return results.numbers(session, self.piece(run).id)

    def look(self, run: int, after: float = DAY) -> tables.NumbersLook:
        with self.services.store.read() as session:
            return session.get_one(tables.NumbersLook, (self.piece(run).id, after))


class ByItself(Numbered):
    def test_after_a_day_and_a_week_it_is_written_beside_the_piece_each_once(self) -> None:
        run = self.begin()
        self.until(run, "done")
        now = self.services.clock()
        self.engine.numbers.tick(now + 1)
        self.assertEqual(self.found(run), [], "it is not asked before")
        self.town.state.posts[0]["liked"] = 12
        self.engine.numbers.reset(now)
        self.engine.numbers.tick(now + DAY + 60)
        self.wait_for(lambda: bool(self.found(run)))
        self.assertEqual(self.found(run), [(DAY, {"liked": 12.0, "passed on": 3.0})])
        self.reopen()
        self.town.state.posts[0]["liked"] = 40
        for _ in range(2):
            self.engine.numbers.reset(now)
            self.engine.numbers.tick(now + 7 * DAY + 60)
            self.wait_for(lambda: self.look(run, 7 * DAY).due_at is None)
        self.assertEqual(self.found(run)[1], (7 * DAY, {"liked": 40.0, "passed on": 10.0}))
        self.assertEqual(self.found(run)[0][1]["liked"], 12.0)

    def test_a_channel_that_does_not_tell_is_asked_again_and_says_why(self) -> None:
        self.told(numbers="seen: $.views")
        run = self.begin()
        self.until(run, "done")
        now = self.services.clock()
        self.engine.numbers.tick(now + DAY + 60)
        self.wait_for(lambda: bool(self.look(run).wrong))
        self.assertIn("“seen” ($.views) is not in what was answered", self.look(run).wrong)
        self.assertEqual(self.found(run), [])

    def test_what_went_out_long_ago_is_not_asked_about(self) -> None:
        run = self.begin()
        self.until(run, "done")
        self.engine.stop()  # as if the house had stood still for all that time
        with self.services.store.write() as session:
            session.query(tables.NumbersLook).delete()
        self.engine.numbers.reset(0)
        self.engine.numbers.tick(self.services.clock() + 400 * DAY)
        with self.services.store.read() as session:
            self.assertIsNone(session.get(tables.NumbersLook, (self.piece(run).id, DAY)))

    def test_the_key_goes_to_the_channel_s_own_host_only(self) -> None:
        self.told(numbers_at=self.town.url.replace("127.0.0.1", "localhost") + "/pondside/api/numbers?of=<<link>>")
        self.services.web.allowed |= {f"localhost:{self.town.port}"}
        run = self.begin()
        self.until(run, "done")
        self.engine.numbers.tick(self.services.clock() + DAY + 60)
        self.wait_for(lambda: bool(self.look(run).wrong))
        self.assertIn("may not look", self.look(run).wrong)


class ByALine(Numbered):
    def wait(self, after: float, **more: Any) -> dict[str, Any]:
        settings = {"of": "<<out.link>>", "after": after}
        return {"id": "results", "kind": "read_results", "settings": settings, "on_failure": {"retries": 0}, **more}

    def row(self) -> dict[str, Any]:
        cells = {"Post": "<<topic.text>>", "Link": "<<results.numbers.liked>>", "By": "<<results.answers>>"}
        return {"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": cells}}

    def test_it_waits_so_long_after_the_piece_and_the_numbers_are_columns(self) -> None:
        run = self.begin(self.wait(2), self.row())
        self.until(run, "resting")
        self.town.state.posts[0]["liked"] = 9
        self.until(run, "done", "failed")
        (row,) = self.rows()
        self.assertEqual((str(row["Link"]), str(row["By"])), ("9", "0"))
        (after, told) = self.found(run)[0]
        self.assertTrue(2 <= after < 10, after)
        self.assertEqual(told["liked"], 9.0, "it stands beside the piece too")

    def test_a_wait_of_days_outlasts_a_restart_and_goes_by_when_the_piece_went_out(self) -> None:
        run = self.begin(self.wait(2 * DAY), self.row())
        self.until(run, "resting")
        self.reopen()
        with self.services.store.read() as session:
            due = session.query(tables.Timer.due).filter(tables.Timer.run_id == run).scalar()
        self.assertAlmostEqual(due, (self.piece(run).sent_at or 0) + 2 * DAY, delta=0.01)

    def test_a_channel_that_does_not_tell_fails_the_line_which_can_be_taken_up(self) -> None:
        self.told(numbers="seen: $.views")
        run = self.begin(self.wait(0))
        self.assertIn("is not in what was answered", self.until(run, "failed").message)

    def test_a_slot_for_a_number_the_channel_does_not_give_is_told_as_it_is_written(self) -> None:
        page = Workflow.model_validate(self.page(self.wait(1), self.row()))
        with self.services.store.read() as session:
            self.assertEqual([p.message for p in check(page, kinds(), world(session)) if p.step == "log"], [])
        self.told(numbers="seen: $.views")
        with self.services.store.read() as session:
            (said,) = [p.message for p in check(page, kinds(), world(session)) if p.step == "log"]
        self.assertIn("liked", said)


class Settings(WithHouse):
    def test_what_cannot_be_asked_is_told_when_it_is_set(self) -> None:
        good = {"endpoint": "https://a.example", "numbers_at": "/n?of=<<id>>", "numbers": "likes: $.likes"}
        self.assertEqual(PostingSettings(**good, numbers_after="3 hours and 2 weeks").delays, (10_800.0, 14 * DAY))
        for wrong in (
            {"numbers": ""},
            {"numbers": "likes: $["},
            {"numbers": "likes"},
            {"numbers_after": "soon"},
            {"numbers_after": "99 weeks"},
        ):
            with self.subTest(wrong), self.assertRaises(ValidationError):
                PostingSettings(**{**good, **wrong})

    def test_the_next_free_place_of_a_channel_without_a_timetable_is_a_fault_at_its_line(self) -> None:
        out = {"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "T", "goes": "place"}}
        page = Workflow.model_validate(
            {"format": "ulmus-workflow", "version": 1, "name": "W", "start": {"id": "s", "kind": "by_hand"}, "steps": [out]}
        )
        with self.services.store.write() as session:
            said = [p for p in check(page, kinds(), world(session)) if "timetable" in p.message]
            self.assertEqual([(p.step, p.severity) for p in said], [("out", "error")])
            session.add(tables.Timetable(connection="pond", rule="FREQ=DAILY", zone="UTC"))
            session.flush()
            self.assertEqual([p for p in check(page, kinds(), world(session)) if "timetable" in p.message], [])
