"""Due times: rules, zones, both kinds of clock change, quiet hours."""

from __future__ import annotations

import datetime as dt
import itertools
import unittest
from zoneinfo import ZoneInfo

from ulmus.core.recurrence import Quiet, RecurrenceError, due, passed_and_next, quiet_hours

PARIS = "Europe/Paris"


def at(text: str, zone: str = "UTC") -> dt.datetime:
    return dt.datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(zone))


def told(rule: str, zone: str, after: str, count: int, quiet: Quiet | None = None) -> list[str]:
    return [d.strftime("%a %d %b %H:%M") for d in due(rule, zone, at(after, zone), count, quiet)]


class Rules(unittest.TestCase):
    def test_daily_weekly_and_monthly(self) -> None:
        self.assertEqual(
            told("FREQ=DAILY;BYHOUR=8;BYMINUTE=30;BYSECOND=0", PARIS, "2026-03-02T09:00", 2),
            ["Tue 03 Mar 08:30", "Wed 04 Mar 08:30"],
        )
        self.assertEqual(
            told("RRULE:FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=9;BYMINUTE=0;BYSECOND=0", PARIS, "2026-03-02T09:00", 3),
            ["Fri 06 Mar 09:00", "Mon 09 Mar 09:00", "Fri 13 Mar 09:00"],
        )
        self.assertEqual(
            told("FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=17;BYMINUTE=0;BYSECOND=0", PARIS, "2026-03-02T09:00", 2),
            ["Fri 27 Mar 17:00", "Fri 24 Apr 17:00"],
        )

    def test_a_due_time_itself_is_not_after_itself(self) -> None:
        self.assertEqual(told("FREQ=HOURLY", "UTC", "2026-03-02T09:00", 1), ["Mon 02 Mar 10:00"])

    def test_extra_and_left_out_dates(self) -> None:
        rule = "RRULE:FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0\nEXDATE:20260304T080000\nRDATE:20260304T120000"
        self.assertEqual(told(rule, PARIS, "2026-03-03T09:00", 2), ["Wed 04 Mar 12:00", "Thu 05 Mar 08:00"])

    def test_until_in_universal_time_and_count_from_a_start(self) -> None:
        self.assertEqual(
            told("FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0;UNTIL=20260304T070000Z", PARIS, "2026-03-02T09:00", 9),
            ["Tue 03 Mar 08:00", "Wed 04 Mar 08:00"],
        )
        self.assertEqual(len(told("DTSTART:20260302T080000\nRRULE:FREQ=DAILY;COUNT=3", PARIS, "2026-03-01T09:00", 9)), 3)

    def test_every_second_week_keeps_its_weeks(self) -> None:
        rule = "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=9;BYMINUTE=0;BYSECOND=0"
        first = due(rule, PARIS, at("2026-03-01T00:00", PARIS), 4)
        again = due(rule, PARIS, first[1], 2)
        self.assertEqual(again, first[2:])

    def test_intervals_that_do_not_divide_the_day_keep_count(self) -> None:
        rule = "FREQ=MINUTELY;INTERVAL=7"
        times = due(rule, "UTC", at("2026-03-02T23:30"), 20)
        self.assertEqual({(b - a).total_seconds() for a, b in itertools.pairwise(times)}, {420.0})
        self.assertEqual(due(rule, "UTC", times[4], 3), times[5:8])

    def test_what_cannot_be_is_refused_with_words(self) -> None:
        for rule, zone, words in (
            ("", PARIS, "empty"),
            ("FREQ=SOMETIMES", PARIS, "RFC 5545"),
            ("every morning", PARIS, "RFC 5545"),
            ("FREQ=SECONDLY", PARIS, "Once a minute"),
            ("FREQ=MINUTELY;BYMONTHDAY=30;BYMONTH=2", PARIS, "within the day"),
            ("FREQ=DAILY", "Mars/Olympus", "no time zone"),
            ("FREQ=DAILY", "../etc/passwd", "no time zone"),
            ("DTSTART:soon\nRRULE:FREQ=DAILY", PARIS, "DTSTART"),
            ("FREQ=DAILY;INTERVAL=0", PARIS, "INTERVAL"),
            ("FREQ=HOURLY;BYHOUR=25", PARIS, "BYHOUR"),
            ("FREQ=HOURLY;INTERVAL=2;BYHOUR=x", PARIS, "BYHOUR"),
            ("x" * 5000, PARIS, "too long"),
        ):
            with self.subTest(rule=rule[:40], zone=zone), self.assertRaises(RecurrenceError) as caught:
                due(rule, zone, at("2026-03-02T09:00"), 1)
            self.assertIn(words, str(caught.exception))

    def test_a_date_that_never_comes(self) -> None:
        self.assertEqual(due("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", PARIS, at("2026-03-02T09:00"), 1), [])


class ClockChanges(unittest.TestCase):
    def test_a_time_left_out_comes_an_hour_later_and_once(self) -> None:
        rule = "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"
        self.assertEqual(told(rule, PARIS, "2026-03-28T12:00", 2), ["Sun 29 Mar 03:30", "Mon 30 Mar 02:30"])
        self.assertEqual(told("FREQ=HOURLY", PARIS, "2026-03-29T01:00", 2), ["Sun 29 Mar 03:00", "Sun 29 Mar 04:00"])

    def test_a_time_that_comes_twice_is_taken_the_first_time_only(self) -> None:
        rule = "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"
        times = due(rule, PARIS, at("2026-10-24T12:00", PARIS), 2)
        self.assertEqual([t.utcoffset() for t in times], [dt.timedelta(hours=2), dt.timedelta(hours=1)])

    def test_eight_stays_eight_all_year(self) -> None:
        times = due("FREQ=DAILY;BYHOUR=8;BYMINUTE=0;BYSECOND=0", PARIS, at("2026-01-01T00:00", PARIS), 365)
        self.assertEqual({t.strftime("%H:%M") for t in times}, {"08:00"})

    def test_a_year_in_four_zones_each_time_once_and_none_twice(self) -> None:
        for zone in (PARIS, "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu"):
            for rule in ("FREQ=DAILY;BYHOUR=2;BYMINUTE=15;BYSECOND=0", "FREQ=HOURLY;INTERVAL=12"):
                with self.subTest(zone=zone, rule=rule):
                    begin, end = at("2026-01-01T00:00", zone), at("2027-01-01T00:00", zone)
                    whole = [t for t in due(rule, zone, begin, 2000) if t < end]
                    one_by_one, now = [], begin
                    while (now := due(rule, zone, now)[0]) < end:
                        one_by_one.append(now)
                    self.assertEqual(one_by_one, whole)
                    instants = [t.astimezone(dt.UTC) for t in whole]
                    self.assertEqual(sorted(set(instants)), instants)
                    days = {t.date() for t in whole}
                    self.assertGreaterEqual(len(days), 365)


class QuietHours(unittest.TestCase):
    night = quiet_hours("22:00-07:00")

    def test_times_at_night_wait_until_morning_and_count_once(self) -> None:
        found = told("FREQ=HOURLY;INTERVAL=3", PARIS, "2026-03-02T20:00", 4, self.night)
        self.assertEqual(found, ["Mon 02 Mar 21:00", "Tue 03 Mar 07:00", "Tue 03 Mar 09:00", "Tue 03 Mar 12:00"])

    def test_how_they_are_written(self) -> None:
        self.assertEqual(self.night, Quiet(dt.time(22), dt.time(7)))
        for text in ("", "22:00", "22-7-8", "late-early", "25:00-07:00"):
            with self.subTest(text=text), self.assertRaisesRegex(RecurrenceError, "22:00-07:00"):
                quiet_hours(text)

    def test_quiet_at_noon(self) -> None:
        noon = Quiet(dt.time(12), dt.time(13))
        self.assertEqual(told("FREQ=HOURLY", "UTC", "2026-03-02T11:00", 2, noon), ["Mon 02 Mar 13:00", "Mon 02 Mar 14:00"])


class PassedAndNext(unittest.TestCase):
    RULES = ("FREQ=DAILY;BYHOUR=2;BYMINUTE=30", "FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=9;BYMINUTE=0", "FREQ=HOURLY;BYMINUTE=0")

    def test_they_are_the_neighbours_of_now_among_all_due_times(self) -> None:
        after = dt.datetime(2026, 3, 20, 12, tzinfo=dt.UTC)
        for rule in self.RULES:
            times = due(rule, "Europe/Paris", after, 300)
            for hours in (0, 1, 37, 200):
                now = after + dt.timedelta(hours=hours, minutes=1)
                passed, coming = passed_and_next(rule, "Europe/Paris", after, now)
                with self.subTest(rule=rule, hours=hours):
                    self.assertEqual(passed, max((t for t in times if t <= now), default=None))
                    self.assertEqual(coming, min(t for t in times if t > now))

    def test_after_a_long_sleep_the_last_one_is_still_found(self) -> None:
        after, now = dt.datetime(2025, 1, 1, tzinfo=dt.UTC), dt.datetime(2026, 6, 1, 10, 2, tzinfo=dt.UTC)
        passed, coming = passed_and_next("FREQ=MINUTELY;INTERVAL=5", "UTC", after, now)
        assert passed is not None
        assert coming is not None
        self.assertEqual((passed.minute, coming.minute, coming.date()), (0, 5, now.date()))

    def test_a_rule_that_has_ended_has_a_last_and_no_next(self) -> None:
        after = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)
        rule = "DTSTART:20260101T080000\nRRULE:FREQ=DAILY;COUNT=3"
        passed, coming = passed_and_next(rule, "UTC", after, after + dt.timedelta(days=40))
        assert passed is not None
        self.assertEqual((passed.day, coming), (3, None))
