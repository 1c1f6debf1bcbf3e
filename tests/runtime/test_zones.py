"""Times on a page are those of its zone: the date of a run, and until when it waits; over midnight and the change of clocks."""

from __future__ import annotations

import datetime as dt
import unittest
from typing import Any
from zoneinfo import ZoneInfo

from pydantic import ValidationError

from ulmus.core.workflow import Line, Workflow, read_file, write_file
from ulmus.runtime.execution import zone_of_page
from ulmus.runtime.handlers.arranging import rest
from ulmus.runtime.services import run_values

AUCKLAND = "Pacific/Auckland"


def at(zone: str, *moment: int) -> float:
    return dt.datetime(*moment, tzinfo=ZoneInfo(zone)).timestamp()  # type: ignore[misc]


def page(zone: str = "", start: dict[str, Any] | None = None) -> Workflow:
    first = Line(id="start", kind="schedule" if start else "by_hand", settings=start or {})
    return Workflow(name="P", zone=zone, start=first)


class Zones(unittest.TestCase):
    def until(self, text: str, now: float, zone: str) -> float:
        line = Line(id="w", kind="wait", settings={"how": "until", "moment": text})
        due, _ = rest(line, {"run": run_values(now, 1, zone)}, now)
        assert due is not None
        return due

    def test_a_page_has_its_own_zone_else_that_of_its_start(self) -> None:
        self.assertEqual(zone_of_page(page(AUCKLAND, {"zone": "Europe/Paris"})), AUCKLAND)
        self.assertEqual(zone_of_page(page("", {"zone": "Europe/Paris"})), "Europe/Paris")
        self.assertEqual(zone_of_page(page()), "")

    def test_it_is_kept_in_the_file_and_has_to_be_one(self) -> None:
        self.assertEqual(read_file(write_file(page(AUCKLAND))).zone, AUCKLAND)
        self.assertNotIn("zone", write_file(page()))
        with self.assertRaisesRegex(ValidationError, "There is no time zone"):
            page("Nowhere/Land")

    def test_the_date_of_a_run_is_that_of_the_page(self) -> None:
        now = at(AUCKLAND, 2026, 3, 2, 0, 30)
        self.assertEqual(run_values(now, 1, AUCKLAND)["date"], "2026-03-02")
        self.assertEqual(run_values(now, 1, "America/New_York")["date"], "2026-03-01")

    def test_a_time_of_day_is_the_next_one_there(self) -> None:
        now = at(AUCKLAND, 2026, 3, 2, 18, 0)
        self.assertEqual(self.until("17:00", now, AUCKLAND), at(AUCKLAND, 2026, 3, 3, 17, 0))
        self.assertEqual(self.until("19:00", now, AUCKLAND), at(AUCKLAND, 2026, 3, 2, 19, 0))

    def test_tomorrow_is_by_the_clock_although_that_is_changed(self) -> None:
        now = at("Europe/Paris", 2026, 3, 28, 18, 0)  # the clocks go forward that night
        self.assertEqual(self.until("17:00", now, "Europe/Paris"), at("Europe/Paris", 2026, 3, 29, 17, 0))

    def test_a_moment_with_a_zone_of_its_own_keeps_it_and_runs_from_before_go_by_the_server(self) -> None:
        now = at(AUCKLAND, 2026, 3, 2, 18, 0)
        self.assertEqual(self.until("2026-03-05T12:00:00Z", now, AUCKLAND), at("UTC", 2026, 3, 5, 12, 0))
        line = Line(id="w", kind="wait", settings={"how": "until", "moment": "2026-03-05 12:00"})
        self.assertEqual(rest(line, {}, now)[0], dt.datetime(2026, 3, 5, 12, 0).timestamp())
