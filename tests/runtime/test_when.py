"""When a piece goes out: at a time in the page's zone, at a free place of the channel's timetable, not before, not after; and what
waits is moved, held, sent at once, taken back or put before a person again."""

from __future__ import annotations

import datetime as dt
import itertools
import shutil
import tempfile
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select

from tests.api.visitor import WithApi
from tests.runtime.house import WHO
from ulmus.runtime import asking, holding, quotas, workflows
from ulmus.store import copies, tables

ZONE = "Pacific/Auckland"


class WithTimes(WithApi):
    def page(self, asks: bool = False, zone: str = ZONE, **settings: Any) -> int:
        out = {"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<item.body.text>>", **settings}}
        steps: list[dict[str, Any]] = [{**out, "on_failure": {"retries": 3, "wait": 0.05}}]
        if asks:
            draft = {"model": "model", "prompt": "Write: <<item.body.text>>", "rules": []}
            steps = [
                {"id": "post", "kind": "draft", "settings": draft},
                {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": WHO, "rounds": 2}},
                {**steps[0], "settings": {**steps[0]["settings"], "text": "<<post.text>>"}},
            ]
        start = {"id": "item", "kind": "call", "settings": {}}
        document = {"format": "ulmus-workflow", "version": 1, "name": "Posts", "zone": zone, "start": start, "steps": steps}
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def begin(self, id_: int, text: str = "Hello", **body: Any) -> int:
        run = self.engine.runs.push(id_, {"title": text, "body": {"text": text, **body}})
        assert run is not None
        return run

    def at(self, run: int) -> dt.datetime:
        return dt.datetime.fromtimestamp(self.piece(run).goes_at or 0, ZoneInfo(ZONE))

    def timetable(self, rule: str, **more: Any) -> None:
        self.owner.put("/connections/pond/timetable", {"rule": rule, "zone": ZONE, **more})

    def until_queued(self, run: int) -> tables.Piece:
        self.wait_for(lambda: bool(self.pieces(run)), lambda: self.run_of(run).message)
        return self.pieces(run)[-1]

    def pieces(self, run: int) -> list[tables.Piece]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Piece).where(tables.Piece.run_id == run).order_by(tables.Piece.id)))


class Times(WithTimes):
    def test_a_time_of_the_page_is_in_its_zone_and_nothing_goes_before(self) -> None:
        run = self.begin(self.page(goes="at", goes_at="07:30"))
        self.until_queued(run)
        self.assertEqual(f"{self.at(run):%H:%M}", "07:30")
        self.assertGreater(self.piece(run).goes_at or 0, self.services.clock())
        self.assertEqual((self.piece(run).state, self.posts()), ("queued", []))

    def test_a_time_from_a_value_and_one_that_has_passed(self) -> None:
        id_ = self.page(goes="at", goes_at="<<item.body.when>>")
        self.until(self.begin(id_, when="2020-01-01 10:00"), "done")
        late = self.begin(id_, text="Later", when="2090-01-01 10:00")
        self.until_queued(late)
        self.assertEqual(f"{self.at(late):%Y-%m-%d %H:%M}", "2090-01-01 10:00")
        self.assertEqual(self.posts(), ["Hello"])
        wrong = self.begin(id_, text="Wrong", when="some day")
        self.until(wrong, "failed", "stuck")
        self.assertIn("“some day” is not a time to go out", self.run_of(wrong).message)

    def test_not_before(self) -> None:
        run = self.begin(self.page(not_before="2090-01-01"))
        self.until_queued(run)
        self.assertEqual(f"{self.at(run):%Y-%m-%d %H:%M}", "2090-01-01 00:00")

    def test_what_is_too_late_waits_for_a_person(self) -> None:
        run = self.begin(self.page(not_after="2020-01-01 10:00"))
        piece = self.until_queued(run)
        self.assertEqual(piece.state, "held")
        self.assertIn("earlier than it could", piece.message)
        self.assertEqual([one["id"] for one in self.owner.get("/outbox") if one["asks"]], [piece.id])
        self.owner.post(f"/pieces/{piece.id}/move", {})
        self.until(run, "done")
        self.assertEqual(self.posts(), ["Hello"])

    def test_what_becomes_too_late_while_the_channel_is_away_waits_for_a_person(self) -> None:
        run = self.begin(self.page(goes="at", goes_at="2090-01-01 09:00", not_after="2090-01-01 10:00"))
        piece = self.until_queued(run)
        with self.services.store.write() as session:
            record = session.get_one(tables.Piece, piece.id)
            record.due_at, record.goes_by = 1.0, 2.0
        self.wait_for(lambda: self.piece(run).state == "held")
        self.assertEqual(self.posts(), [])

    def test_one_that_failed_at_its_time_goes_as_soon_as_it_can_and_not_a_day_later(self) -> None:
        self.fault("pondside", "busy", 1)
        run = self.begin(self.page(goes="at", goes_at="2020-01-01"))
        self.until(run, "done", "failed")
        self.assertEqual(self.posts(), ["Hello"])


class Places(WithTimes):
    def test_each_takes_the_next_free_place_and_none_is_given_twice(self) -> None:
        self.timetable("FREQ=DAILY;BYHOUR=8,12;BYMINUTE=0;BYSECOND=0")
        id_ = self.page(goes="place")
        runs = [self.begin(id_, text=f"Post {n}") for n in range(5)]
        for run in runs:
            self.until_queued(run)
        times = sorted(self.at(run) for run in runs)
        self.assertEqual(len(set(times)), 5)
        self.assertEqual({f"{at:%H:%M}" for at in times}, {"08:00", "12:00"})
        self.assertLess((times[-1] - times[0]).days, 3)

    def test_at_most_so_many_a_day_and_so_far_apart(self) -> None:
        hours = ",".join(str(hour) for hour in range(24))
        self.timetable(f"FREQ=DAILY;BYHOUR={hours};BYMINUTE=0;BYSECOND=0", a_day=2, apart=4 * 3600)
        id_ = self.page(goes="place")
        runs = [self.begin(id_, text=f"Post {n}") for n in range(6)]
        for run in runs:
            self.until_queued(run)
        times = sorted(self.at(run) for run in runs)
        for day in {at.date() for at in times}:
            self.assertLessEqual(sum(at.date() == day for at in times), 2)
        for one, other in itertools.pairwise(times):
            self.assertGreaterEqual((other - one).total_seconds(), 4 * 3600)

    def test_a_place_that_was_given_back_is_free_again(self) -> None:
        self.timetable("FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0")
        id_ = self.page(goes="place")
        first = self.begin(id_)
        piece = self.until_queued(first)
        self.owner.post(f"/pieces/{piece.id}/back")
        second = self.begin(id_, text="Second")
        self.assertEqual(self.until_queued(second).goes_at, piece.goes_at)

    def test_a_channel_without_a_timetable_or_without_a_place(self) -> None:
        with self.assertRaises(workflows.NotReady) as refused:
            self.page(goes="place")
        self.assertIn("no timetable", str(refused.exception))
        self.timetable("FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0")
        id_ = self.page(goes="place")
        self.owner.delete("/connections/pond/timetable")
        run = self.begin(id_)
        self.until(run, "failed", "stuck")
        self.assertIn("no timetable", self.run_of(run).message)
        self.timetable("RDATE:20900101T080000")
        self.until_queued(self.begin(id_, text="Takes it"))
        run = self.begin(id_, text="Again")
        self.until(run, "failed", "stuck")
        self.assertIn("no free place", self.run_of(run).message)

    def test_timetables_are_checked_told_and_taken_away(self) -> None:
        self.assertIn(
            "no time zone",
            self.owner.put("/connections/pond/timetable", {"rule": "FREQ=DAILY", "zone": "No/Where"}, 422)["message"],
        )
        self.owner.put("/connections/pond/timetable", {"rule": "FREQ=SOMETIMES"}, 422)
        self.owner.put("/connections/none/timetable", {"rule": "FREQ=DAILY"}, 404)
        self.visitor("reviewer").put("/connections/pond/timetable", {"rule": "FREQ=DAILY"}, 403)
        self.timetable("FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=9;BYMINUTE=0;BYSECOND=0", a_day=3)
        (told,) = self.owner.get("/timetables")
        self.assertEqual((told["connection"], told["a_day"], len(told["next"])), ("pond", 3, 8))
        self.assertIn("Monday and Thursday", told["says"])
        self.owner.delete("/connections/pond/timetable")
        self.assertEqual(self.owner.get("/timetables"), [])


class Waiting(WithTimes):
    def waits(self, **settings: Any) -> tuple[int, tables.Piece]:
        run = self.begin(self.page(goes="at", goes_at="2090-01-01", **settings))
        return run, self.until_queued(run)

    def test_screens_hear_of_what_comes_to_wait(self) -> None:
        id_ = self.page(goes="at", goes_at="2090-01-01")
        with self.services.bus.listen() as news:
            piece = self.until_queued(self.begin(id_))
            heard = [news.get(timeout=5)]
            while heard[-1] != {"topic": "piece", "id": piece.id}:
                heard.append(news.get(timeout=5))

    def test_it_is_held_moved_and_sent_at_once(self) -> None:
        run, piece = self.waits()
        (told,) = self.owner.get("/outbox")
        self.assertEqual((told["id"], told["state"], told["piece"]["text"], told["approved"]), (piece.id, "queued", "Hello", False))
        self.owner.post(f"/pieces/{piece.id}/hold")
        self.assertEqual((self.piece(run).state, self.piece(run).message), ("held", "Held by Owner."))
        self.owner.post(f"/pieces/{piece.id}/move", {"at": self.services.clock() + 4e8})
        self.assertEqual(self.piece(run).state, "queued")
        self.assertEqual(self.posts(), [])
        self.owner.post(f"/pieces/{piece.id}/move", {})
        self.until(run, "done")
        self.assertEqual(self.posts(), ["Hello"])
        for what in ("hold", "move", "back"):
            self.assertIn("settled", self.owner.post(f"/pieces/{piece.id}/{what}", {}, 409)["message"])
        self.assertEqual(self.owner.get("/outbox"), [])

    def test_what_is_taken_back_does_not_go_and_the_run_can_be_taken_up(self) -> None:
        run, piece = self.waits()
        self.visitor("reader").post(f"/pieces/{piece.id}/back", {}, 403)
        self.owner.post(f"/pieces/{piece.id}/back")
        self.until(run, "failed", "stuck")
        self.assertIn("Taken back by Owner", self.run_of(run).message)
        with self.services.store.write() as session:
            session.get_one(tables.Piece, piece.id).due_at = 1.0
        self.engine.outbox.tick(self.services.clock())
        self.assertEqual(self.posts(), [])

    def test_it_waits_across_a_restart_and_a_cancelled_run_takes_it_along(self) -> None:
        run, piece = self.waits()
        self.reopen()
        self.assertEqual(self.piece(run).state, "queued")
        self.assertEqual(self.piece(run).goes_at, piece.goes_at)
        from ulmus.core import flow

        self.engine.record(run, flow.Cancelled(at=self.services.clock(), by="Mara"))
        self.wait_for(lambda: self.piece(run).state == "failed")
        self.assertEqual(self.posts(), [])

    def test_after_an_approval_there_are_some_seconds_to_take_it_back(self) -> None:
        self.engine.outbox.take_back = 3.0
        run = self.begin(self.page(asks=True))
        self.answer(run)
        piece = self.until_queued(run)
        self.assertGreater(piece.due_at, self.services.clock() + 1.5)
        self.owner.post(f"/pieces/{piece.id}/back")
        self.until(run, "failed", "stuck")
        self.assertEqual(self.posts(), [])
        second = self.begin(self.page(asks=True), text="Second")
        self.answer(second)
        self.until(second, "done")

    def test_what_was_approved_is_changed_by_asking_again(self) -> None:
        run = self.begin(self.page(asks=True, goes="at", goes_at="2090-01-01"))
        self.answer(run)
        piece = self.until_queued(run)
        self.assertTrue(self.owner.get("/outbox")[0]["approved"])
        self.assertEqual(self.owner.post(f"/pieces/{piece.id}/change"), {"run": run})
        self.answer(run, text="Changed by hand")
        self.wait_for(lambda: len(self.pieces(run)) == 2)
        old, new = self.pieces(run)
        self.assertEqual((old.state, new.state), ("failed", "queued"))
        self.assertEqual(new.content["text"], "Changed by hand")
        self.owner.post(f"/pieces/{new.id}/move", {})
        self.until(run, "done")
        self.assertEqual(self.posts(), ["Changed by hand"])

    def test_what_nobody_was_asked_about_cannot_be_asked_about_again(self) -> None:
        _, piece = self.waits()
        self.assertIn("Nobody was asked", self.owner.post(f"/pieces/{piece.id}/change", {}, 409)["message"])


class InACopy(WithTimes):
    """The house is copied while pieces wait for later; the original goes on for a while, on a network that keeps doubles."""

    def setUp(self) -> None:
        super().setUp()
        self.town.state.network.keeps_doubles = True
        self.room = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.room, ignore_errors=True)

    def test_what_the_original_sent_at_its_time_is_not_sent_again_and_the_rest_goes(self) -> None:
        id_ = self.page(goes="at", goes_at="2090-01-01")
        runs = [self.begin(id_, text=text) for text in ("Sent there", "Held, sent there", "Only here")]
        pieces = [self.until_queued(run) for run in runs]
        self.engine.outbox.hold(pieces[1].id, "Mara")
        copies.back_up(self.folder, self.room / "backup")
        copies.restore(self.room / "backup", self.room / "again")
        original, self.folder = (self.engine, self.services), self.room / "again"
        self.open()
        holding.let_go(self.engine, "Mara", True)
        self.assertEqual([self.pieces(run)[0].state for run in runs], ["queued", "held", "queued"])
        # Only after the copy was let go does the original send what it has.
        there = original[0].outbox
        for piece in pieces[:2]:
            there.move(piece.id, None, "Ines")
        self.wait_for(lambda: len(self.town.state.posts) == 2)
        self._close(*original)
        for piece in pieces:
            self.engine.outbox.move(piece.id, None, "Mara")
        for run in runs:
            self.until(run, "done", seconds=40)
        self.assertEqual(sorted(self.posts()), ["Held, sent there", "Only here", "Sent there"], "none twice, none lost")


class OfItems(WithTimes):
    def test_what_is_changed_is_asked_about_again_and_no_other_item(self) -> None:
        draft = {"model": "model", "prompt": "Write: <<it>>", "rules": []}
        inside = [
            {"id": "post", "kind": "draft", "settings": draft},
            {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": WHO, "rounds": 2}},
            {
                "id": "out",
                "kind": "publish_post",
                "settings": {"channel": "pond", "text": "<<post.text>>", "goes": "at", "goes_at": "2090-01-01"},
            },
        ]
        each = {"id": "all", "kind": "for_each", "settings": {"list": "a\nb\nc", "item": "it", "parallel": 3}, "steps": inside}
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Three", "start": start, "steps": [each]})
        workflows.go_live(self.engine, id_, WHO)
        run = self.begin(id_)

        def asked() -> list[tables.Approval]:
            with self.services.store.read() as session:
                return list(session.scalars(select(tables.Approval).where(tables.Approval.state == "open")))

        self.wait_for(lambda: len(asked()) == 3)
        for approval in asked():
            asking.answer(self.services, self.engine.writer, approval.id, "approve", "Ines", text=f"Text of {approval.address}")
        self.wait_for(lambda: len(self.pieces(run)) == 3)
        first = next(piece for piece in self.pieces(run) if piece.address == "all:1/out")
        self.owner.post(f"/pieces/{first.id}/change")
        self.wait_for(lambda: len(asked()) == 1)
        self.assertEqual(asked()[0].address, "all:1/editor")
        self.assertEqual(sorted(p.state for p in self.pieces(run)), ["failed", "queued", "queued"])


class Forecasting(WithTimes):
    def test_pieces_are_set_against_places_and_drafts_against_how_often_they_came_back(self) -> None:
        self.timetable("FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0")
        id_ = self.page(asks=True, goes="place")
        self.owner.delete("/connections/pond/timetable")
        told = self.owner.get(f"/workflows/{id_}/forecast")
        self.assertEqual((told["places"], told["sent_back"]), ([{"channel": "Pondside", "pieces": 1, "places": 0}], 0))
        self.timetable("FREQ=DAILY;BYHOUR=8,12,16;BYMINUTE=0;BYSECOND=0", a_day=2, apart=5 * 3600)
        run = self.begin(id_)
        self.answer(run, "back", note="Shorter.")
        self.answer(run)
        self.until_queued(run)
        told = self.owner.get(f"/workflows/{id_}/forecast")
        (places,) = told["places"]
        self.assertIn(places["places"], (59, 60, 61), "two of three a day, at eight and four")
        self.assertEqual(told["sent_back"], 1.0)

    def test_what_is_late_stands_on_today_with_what_can_be_done(self) -> None:
        run = self.begin(self.page(not_after="2020-01-01 10:00"))
        piece = self.until_queued(run)
        waits = [one for one in self.owner.get("/today")["waiting"] if one["what"] == "late"]
        self.assertEqual([(one["id"], one["piece"]["text"]) for one in waits], [(piece.id, "Hello")])


class Quotas(WithTimes):
    def quota(self, **settings: int) -> None:
        with self.services.store.write() as session:
            for key in ("pond", "mail"):
                record = session.get_one(tables.Connection, key)
                record.settings = {**record.settings, **settings}

    def test_what_is_over_a_quota_waits_for_a_person_who_may_let_it_go_all_the_same(self) -> None:
        for name in ("pieces_a_day", "pieces_a_month"):
            with self.subTest(name):
                self.town.state.posts.clear()
                with self.services.store.read() as session:
                    sent = quotas.sent_since(session, "pond", 0.0)
                self.quota(pieces_a_day=1000, pieces_a_month=1000)
                self.quota(**{name: sent + 2})
                id_ = self.page()
                for n in range(2):
                    self.until(self.begin(id_, text=f"{name} {n}"), "done")
                third = self.begin(id_, text=f"{name} 2")
                self.until_queued(third)
                self.wait_for(lambda run=third: self.piece(run).state == "held")  # type: ignore[misc]
                self.assertIn("pieces of t", self.piece(third).message)
                self.assertIn("late", {one["what"] for one in self.owner.get("/today")["waiting"]})
                self.owner.post(f"/pieces/{self.piece(third).id}/move", {})
                self.until(third, "done")
                self.assertEqual(len(self.town.state.posts), 3)


class OnTheCalendar(WithTimes):
    def test_what_starts_waits_and_went_out_lies_between_its_moments(self) -> None:
        self.timetable("FREQ=DAILY;BYHOUR=8,12;BYMINUTE=0;BYSECOND=0")
        id_ = self.page(goes="place")
        run = self.begin(id_)
        piece = self.until_queued(run)
        self.until(self.begin(self.page(), text="Out"), "done")
        schedule = {
            "id": "clock",
            "kind": "schedule",
            "settings": {"rule": "FREQ=DAILY;BYHOUR=6;BYMINUTE=0;BYSECOND=0", "zone": "UTC"},
        }
        step = {"id": "v", "kind": "set_values", "settings": {"values": {"a": "b"}}}
        other = self.made({"format": "ulmus-workflow", "version": 1, "name": "Daily", "start": schedule, "steps": [step]})
        workflows.go_live(self.engine, other, WHO)
        now = self.services.clock()
        view = self.visitor("reader").get("/calendar", since=now - 3600, until=now + 7 * 86_400)
        self.assertEqual([(one["state"], one["piece"]["text"]) for one in view["pieces"]], [("sent", "Out"), ("queued", "Hello")])
        self.assertEqual(len(view["starts"]), 7)
        (channel,) = view["channels"]
        self.assertEqual(channel["taken"], 1)
        self.assertNotIn(piece.goes_at, channel["free"])
        self.assertGreaterEqual(len(channel["free"]), 12)
        past = self.owner.get("/calendar", since=now - 86_400, until=now - 3600)
        self.assertEqual((past["pieces"], past["starts"]), ([], []))
        self.assertEqual(self.owner.get("/calendar", since=now - 60, until=now + 86_400 * 3, brand="marrowbank")["pieces"], [])
        self.owner.get("/calendar", 422, since=now, until=now - 1)
