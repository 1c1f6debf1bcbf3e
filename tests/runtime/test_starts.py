"""Every kind of start: what it finds, that each item is handed out once, and that nothing is lost in between."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from tests.short import some
from ulmus.core import flow
from ulmus.runtime import polling, sheets, workflows
from ulmus.steps.shared.fields import FormField, read_fields
from ulmus.store import tables

LOG = {"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Post": "<<start.title>>"}}}
FAILS = {"id": "no", "kind": "stop", "settings": {"how": "failed", "what": "run", "words": "no"}}


class Starts(WithHouse):
    """Starts with a clock that is turned by hand."""

    def setUp(self) -> None:
        super().setUp()
        self.now = dt.datetime(2026, 3, 2, 6, 0, tzinfo=dt.UTC).timestamp()
        self.services.clock = lambda: self.now

    def started(
        self, kind: str, steps: list[dict[str, Any]] | None = None, limits: Any = None, live: bool = True, **settings: Any
    ) -> int:
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": f"On {kind} {self.now}",
            "start": {"id": "start", "kind": kind, "settings": settings},
            "steps": [LOG] if steps is None else steps,
            **({"limits": limits} if limits else {}),
        }
        id_ = self.made(document)
        if live:
            workflows.go_live(self.engine, id_, WHO)
            self.engine.polling.look_at(id_)
        return id_

    def runs(self, id_: int) -> list[tables.Run]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Run).where(tables.Run.workflow_id == id_).order_by(tables.Run.id)))

    def items(self, id_: int) -> list[dict[str, Any]]:
        return [self.engine.live(r.id).state.values["start"] for r in self.runs(id_)]

    def settled(self, id_: int, count: int) -> None:
        self.wait_for(
            lambda: len([r for r in self.runs(id_) if r.ended_at]) >= count, lambda: str([r.state for r in self.runs(id_)])
        )

    def sheet(self, rows: list[dict[str, str]]) -> str:
        with self.services.store.write() as session:
            sheet = sheets.create(session, "Topics", [{"name": n, "type": "text"} for n in ("Topic", "Angle", "Used")])
            sheets.add_rows(session, sheet, rows)
            return sheet.key

    def cells(self, key: str) -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            rows = session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == key).order_by(tables.SheetRow.position))
            return [dict(r.cells) for r in rows]


class Schedule(Starts):
    def test_each_due_time_starts_one_run(self) -> None:
        id_ = self.started("schedule", rule="FREQ=DAILY;BYHOUR=8;BYMINUTE=0", zone="Europe/Paris")
        self.assertEqual(self.runs(id_), [])
        for _ in range(3):
            for _ in range(2):
                self.engine.polling.look_at(id_)
            self.now += 86_400
        self.engine.polling.look_at(id_)
        self.assertEqual([i["date"] for i in self.items(id_)], ["2026-03-02", "2026-03-03", "2026-03-04"])
        self.assertEqual(self.items(id_)[0]["time"], "08:00")

    def test_what_was_missed_is_caught_up_once_or_left_out(self) -> None:
        for missed, count in (("once", 1), ("skip", 0)):
            with self.subTest(missed=missed):
                id_ = self.started("schedule", rule="FREQ=HOURLY;BYMINUTE=0", zone="UTC", missed=missed)
                self.now += 5 * 3600 + 1800
                self.engine.polling.look_at(id_)
                self.engine.polling.look_at(id_)
                self.assertEqual(len(self.runs(id_)), count)
                self.now += 1800
                self.engine.polling.look_at(id_)
                self.assertEqual(len(self.runs(id_)), count + 1)

    def test_a_year_in_four_zones_each_due_time_once(self) -> None:
        """Both kinds of change of the clocks, a half-hour zone, and the southern half of the world."""
        rules: list[tuple[str, Callable[[dt.datetime], bool]]] = [
            ("FREQ=DAILY", lambda day: True),
            ("FREQ=WEEKLY;BYDAY=SU,TU", lambda day: day.weekday() in (1, 6)),
            ("FREQ=MONTHLY;BYDAY=-1SU", lambda day: day.weekday() == 6 and (day + dt.timedelta(days=7)).month != day.month),
        ]
        zones = ("Europe/Paris", "America/New_York", "Australia/Lord_Howe", "UTC")
        cases = [(zone, rules[0]) for zone in zones] + [*itertools.product(zones[::2], rules[1:])]
        for zone, (rule, fits) in some(cases, 7):
            with self.subTest(zone=zone, rule=rule):
                self.now = dt.datetime(2026, 1, 1, tzinfo=dt.UTC).timestamp()
                # 02:30 is left out once a year in Paris and comes twice once a year: on Sundays, the last of a month.
                id_ = self.started("schedule", steps=[{**FAILS}], rule=f"{rule};BYHOUR=2;BYMINUTE=30", zone=zone)
                end = self.now + 365 * 86_400
                place = ZoneInfo(zone)
                first = dt.datetime.fromtimestamp(self.now, dt.UTC).astimezone(place).replace(hour=2, minute=30)
                day = first if first.timestamp() > self.now else first + dt.timedelta(days=1)
                expected = []
                while (moment := day.replace(tzinfo=place, fold=0).astimezone(dt.UTC)).timestamp() <= end:
                    if fits(day):
                        expected.append(moment.timestamp())
                    day = (day.replace(tzinfo=None) + dt.timedelta(days=1)).replace(tzinfo=place)
                while self.now < end:
                    with self.services.store.read() as session:
                        next_at = session.get_one(tables.Start, id_).next_at
                    self.now = min(max(next_at, self.now + 60), end)
                    self.engine.polling.look_at(id_)
                dues = [dt.datetime.fromisoformat(i["due"]).timestamp() for i in self.items(id_)]
                self.assertEqual(dues, expected)

    def test_hours_go_by_the_zone_s_own_clock_across_both_changes(self) -> None:
        """Every six hours: four a day on every day's own clock face, and none twice."""
        for zone, month in some([*itertools.product(("Europe/Paris", "Australia/Lord_Howe"), (3, 10))], 3):
            with self.subTest(zone=zone, month=month):
                self.now = dt.datetime(2026, month, 20, tzinfo=dt.UTC).timestamp()
                id_ = self.started("schedule", steps=[{**FAILS}], rule="FREQ=DAILY;BYHOUR=0,6,12,18;BYMINUTE=0", zone=zone)
                first, end = self.now, self.now + 20 * 86_400
                while self.now < end:
                    with self.services.store.read() as session:
                        next_at = session.get_one(tables.Start, id_).next_at
                    self.now = min(max(next_at, self.now + 60), end)
                    self.engine.polling.look_at(id_)
                dues = [dt.datetime.fromisoformat(i["due"]).timestamp() for i in self.items(id_)]
                minutes = (dt.datetime.fromtimestamp(t, ZoneInfo(zone)) for t in range(int(first) + 60, int(end) + 1, 60))
                expected = [m.timestamp() for m in minutes if m.minute == 0 and m.hour % 6 == 0]
                self.assertEqual(dues, expected)

    def test_what_a_schedule_remembers_does_not_grow(self) -> None:
        id_ = self.started("schedule", steps=[{**FAILS}], rule="FREQ=MINUTELY", zone="UTC")
        sizes = []
        for _ in range(4):
            self.now += 60
            self.engine.polling.look_at(id_)
            with self.services.store.read() as session:
                sizes.append(len(str(session.get_one(tables.Start, id_).memory)))
        self.assertEqual(len(self.runs(id_)), 4)
        self.assertLess(max(sizes), min(sizes) + 5)

    def test_a_start_says_when_it_is_next_due(self) -> None:
        id_ = self.started("schedule", rule="FREQ=DAILY;BYHOUR=8;BYMINUTE=0", zone="UTC")
        with self.services.store.read() as session:
            start = session.get_one(tables.Start, id_)
        self.assertEqual(start.found, "Next: Mon 02 Mar 2026, 08:00.")
        self.assertEqual(start.next_at, self.now + 7200)

    def test_a_person_begins_now_what_waits_for_its_time_and_its_time_comes_all_the_same(self) -> None:
        id_ = self.started("schedule", rule="FREQ=DAILY;BYHOUR=8;BYMINUTE=0", zone="UTC")
        self.engine.polling.look_at(id_)
        self.assertEqual(self.items(id_), [])
        for _ in range(2):
            # Twice within a moment is once.
            self.engine.polling.look_at(id_, asked=True)
        self.settled(id_, 1)
        self.engine.polling.look_at(id_)
        self.now += 7200
        self.engine.polling.look_at(id_)
        self.settled(id_, 2)
        self.now += 60
        self.engine.polling.look_at(id_)
        self.engine.polling.look_at(id_, asked=True)
        self.settled(id_, 3)
        self.assertEqual([item["time"] for item in self.items(id_)], ["06:00", "08:00", "08:01"])


class Rows(Starts):
    RULE = {"rule": "FREQ=DAILY;BYHOUR=8;BYMINUTE=0", "zone": "UTC"}

    def day(self, id_: int) -> None:
        self.now += 86_400
        self.engine.polling.look_at(id_)

    def test_the_next_unused_row_each_time_marked_when_the_run_ends_well(self) -> None:
        key = self.sheet([{"Topic": "Beans"}, {"Topic": "Peas", "Used": "x"}, {"Topic": "Leeks"}, {}])
        id_ = self.started("sheet_row", sheet=key, used="Used", **self.RULE)
        self.day(id_)
        self.settled(id_, 1)
        self.day(id_)
        self.settled(id_, 2)
        self.day(id_)
        self.assertEqual([i["Topic"] for i in self.items(id_)], ["Beans", "Leeks"])
        self.assertEqual([c.get("Used") for c in self.cells(key)][:3], ["2026-03-03", "x", "2026-03-04"])
        with self.services.store.read() as session:
            self.assertIn("No unused row is left", session.get_one(tables.Start, id_).found)

    def test_a_person_takes_the_next_row_now(self) -> None:
        key = self.sheet([{"Topic": "Beans"}, {"Topic": "Leeks"}])
        id_ = self.started("sheet_row", sheet=key, used="Used", **self.RULE)
        self.engine.polling.look_at(id_, asked=True)
        self.settled(id_, 1)
        self.assertEqual([i["Topic"] for i in self.items(id_)], ["Beans"])
        self.day(id_)
        self.settled(id_, 2)
        self.assertEqual([i["Topic"] for i in self.items(id_)], ["Beans", "Leeks"])

    def test_a_row_in_hand_is_never_handed_to_another_run_and_one_let_go_comes_back(self) -> None:
        key = self.sheet([{"Topic": "Beans"}, {"Topic": "Leeks"}])
        id_ = self.started("sheet_row", [FAILS], sheet=key, used="Used", **self.RULE)
        self.day(id_)
        self.settled(id_, 1)
        self.day(id_)
        self.settled(id_, 2)
        self.assertEqual([i["Topic"] for i in self.items(id_)], ["Beans", "Leeks"])
        self.assertEqual([c.get("Used") for c in self.cells(key)], ["failed 2026-03-03", "failed 2026-03-04"])
        with self.services.store.write() as session:
            # Whoever cancels the run and clears the cell has the row come again.
            for row in session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == key)):
                row.cells = {"Topic": row.cells["Topic"]}
        self.engine.record(self.runs(id_)[0].id, flow.Cancelled(at=self.now, by="Mara"))
        self.day(id_)
        self.assertEqual(self.items(id_)[2]["Topic"], "Beans")

    def test_new_rows_and_changed_rows(self) -> None:
        for which, count in (("new", 1), ("changed", 2)):
            with self.subTest(which=which):
                key = self.sheet([{"Topic": "Old"}])
                id_ = self.started("new_row", sheet=key, which=which)
                with self.services.store.write() as session:
                    sheets.add_rows(session, session.get_one(tables.Sheet, key), [{"Topic": "New"}])
                    row = session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == key)).first()
                    assert row is not None
                    row.cells = {"Topic": "Old, changed"}
                self.engine.polling.look_at(id_)
                self.engine.polling.look_at(id_)
                self.assertEqual(len(self.runs(id_)), count)

    def test_all_new_rows_in_one_run(self) -> None:
        key = self.sheet([])
        id_ = self.started("new_row", sheet=key, runs="together", most=2)
        with self.services.store.write() as session:
            sheets.add_rows(session, session.get_one(tables.Sheet, key), [{"Topic": t} for t in "abc"])
        self.engine.polling.look_at(id_)
        self.engine.polling.look_at(id_)
        self.assertEqual([[one["Topic"] for one in i["items"]] for i in self.items(id_)], [["a", "b"], ["c"]])
        self.assertEqual(self.runs(id_)[0].title, "a and 1 more")


class OtherRuns(Starts):
    def test_a_run_that_ended_well_starts_one(self) -> None:
        first = self.started("by_hand", [{"id": "say", "kind": "set_values", "settings": {"values": {"text": "<<start.title>>!"}}}])
        self.engine.runs.push(first, {"title": "Before"})
        self.settled(first, 1)
        second = self.started("after_workflow", workflow=str(first))
        self.engine.runs.push(first, {"title": "After"})
        self.settled(first, 2)
        self.engine.polling.look_at(second)
        self.engine.polling.look_at(second)
        self.assertEqual([(i["title"], i["text"], i["state"]) for i in self.items(second)], [("After", "After!", "done")])

    def test_only_failures_where_so_set(self) -> None:
        first = self.started("by_hand", [FAILS])
        well, failed = (
            self.started("after_workflow", workflow=str(first)),
            self.started("after_workflow", workflow=str(first), how="failed"),
        )
        self.engine.runs.push(first, {"title": "x"})
        self.settled(first, 1)
        for id_ in (well, failed):
            self.engine.polling.look_at(id_)
        self.assertEqual((len(self.runs(well)), len(self.runs(failed))), (0, 1))


CALENDAR = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//practice//EN
BEGIN:VEVENT
UID:meeting-1
DTSTART:20260302T070000Z
DTEND:20260302T073000Z
SUMMARY:Planting plan
LOCATION:Shed
ATTENDEE:mailto:ines@marrowbank.example
END:VEVENT
BEGIN:VEVENT
UID:weekly
DTSTART:20260223T120000Z
RRULE:FREQ=WEEKLY
EXDATE:20260309T120000Z
SUMMARY:Weekly look
END:VEVENT
END:VCALENDAR
"""


class Calendar(Starts):
    def test_so_long_before_each_entry_once(self) -> None:
        self.town.state.calendar = CALENDAR
        id_ = self.started("calendar_entry", url=f"{self.town.url}/calendar/office.ics", before=7200)
        for _ in range(2):
            self.engine.polling.look_at(id_)
        self.assertEqual([i["title"] for i in self.items(id_)], ["Planting plan"])
        self.assertEqual(self.items(id_)[0]["attendees"], ["ines@marrowbank.example"])
        for _ in range(15):
            self.now += 86_400
            for _ in range(12):
                self.now += 3600
                self.engine.polling.look_at(id_)
            self.now -= 12 * 3600
        starts = [i["start"][:10] for i in self.items(id_)[1:]]
        self.assertEqual(starts, ["2026-03-16"], "the entry of 9 March is taken out of the series")

    def test_what_is_no_calendar_says_so(self) -> None:
        self.town.state.calendar = "<html>not found</html>"
        id_ = self.started("calendar_entry", url=f"{self.town.url}/calendar/office.ics")
        with self.services.store.read() as session:
            start = session.get_one(tables.Start, id_)
        self.assertTrue(start.failed)
        self.assertIn("calendar", start.found)


class Fields(Starts):
    FIELDS = [
        FormField(name="name", label="Name", required=True),
        FormField(name="age", label="Age", type="number", least=1, greatest=120),
        FormField(name="day", label="Day", type="date"),
        FormField(name="tone", label="Tone", type="choice", choices=["calm", "brisk"]),
        FormField(name="photo", label="Photo", type="file", largest_mb=1, kinds=[".png"]),
    ]

    def test_what_is_right_is_taken_as_values(self) -> None:
        given = {"name": " Ines ", "age": "41,5", "day": "2026-03-09", "tone": "calm", "photo": {"name": "a.PNG", "size": 10}}
        values, wrong = read_fields(self.FIELDS, given)
        self.assertEqual(wrong, {})
        self.assertEqual((values["name"], values["age"], values["day"]), ("Ines", 41.5, "2026-03-09"))

    def test_what_is_wrong_is_said_field_by_field(self) -> None:
        given = {"name": " ", "age": "200", "day": "soon", "tone": "loud", "photo": {"name": "a.exe", "size": 10}, "more": "x"}
        _, wrong = read_fields(self.FIELDS, given)
        self.assertEqual(set(wrong), {"name", "age", "day", "tone", "photo", "more"})
        self.assertIn(
            "at most 1 mb", read_fields(self.FIELDS, {"name": "x", "photo": {"name": "a.png", "size": 2e6}})[1]["photo"].lower()
        )
        for bad in ("nan", "inf", "1e99", "", "x"):
            with self.subTest(number=bad):
                self.assertEqual("age" in read_fields(self.FIELDS, {"name": "x", "age": bad})[1], bad != "")


class Pushed(Starts):
    def test_an_item_with_an_identity_counts_once(self) -> None:
        id_ = self.started("call")
        self.assertIsNotNone(self.engine.runs.push(id_, {"title": "x"}, "call:1"))
        self.assertIsNone(self.engine.runs.push(id_, {"title": "x"}, "call:1"))

    def test_a_paused_workflow_takes_nothing(self) -> None:
        id_ = self.started("call")
        workflows.pause(self.engine, id_, WHO)
        with self.assertRaisesRegex(ValueError, "not live"):
            self.engine.runs.push(id_, {"title": "x"})


class Identities(Starts):
    """What a start has handed out is known by names that come from outside and may be anything."""

    ODD = ['a "quoted" one', "it's", "snow ☃ 雪", "back\\slash", "", "1", "01", "null", "x" * 500, "two\nlines", "%_"]

    def seen(self, id_: int, names: list[str]) -> set[str]:
        with self.services.store.read() as session:
            return polling.known_of(session, id_, names)

    def test_each_counts_once_and_none_for_another(self) -> None:
        id_, other = self.started("by_hand"), self.started("by_hand")
        many = [f"item {n}" for n in range(1500)]
        with self.services.store.write() as session:
            polling.pass_over(session, id_, 1.0, [*self.ODD, *many])
        self.assertEqual(self.seen(id_, self.ODD), set(self.ODD))
        self.assertEqual(self.seen(id_, many), set(many))
        self.assertEqual(self.seen(id_, ["item 1500", "ITEM 1", "2", "_%"]), set())
        self.assertEqual(self.seen(other, self.ODD), set())

    def test_one_that_was_pushed_is_known_too(self) -> None:
        id_ = self.started("by_hand")
        for name in self.ODD:
            self.assertIsNotNone(self.engine.runs.push(id_, {"title": name or "none"}, name))
            self.assertIsNone(self.engine.runs.push(id_, {"title": "again"}, name), name)
        self.settled(id_, len(self.ODD))
        self.assertEqual(self.seen(id_, self.ODD), set(self.ODD))
