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
            ("\n".join(["RRULE:FREQ=MINUTELY"] * 2), PARIS, "stands alone"),
            ("\n".join(["RRULE:FREQ=DAILY"] * 50), PARIS, "at most 20 rules"),
            ("RRULE:FREQ=DAILY\nEXRULE:FREQ=MINUTELY", PARIS, "no part of RFC 5545"),
        ):
            with self.subTest(rule=rule[:40], zone=zone), self.assertRaises(RecurrenceError) as caught:
                due(rule, zone, at("2026-03-02T09:00"), 1)
            self.assertIn(words, str(caught.exception))

    def test_a_date_that_never_comes(self) -> None:
        for rule in (
            "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31",
            "FREQ=MONTHLY;BYDAY=5MO;BYMONTHDAY=1",
            "FREQ=YEARLY;BYWEEKNO=53;BYDAY=MO;BYMONTH=6",
        ):
            self.assertEqual(due(rule, PARIS, at("2026-03-02T09:00"), 1), [])
        self.assertEqual(due("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", PARIS, at("2026-03-02T09:00"), 1), [])


NEW_YORK = "America/New_York"
#: The examples of RFC 5545 section 3.8.5.3, with the first days (and how many there are, where they end).
EXAMPLES = (
    ("FREQ=DAILY;COUNT=10", "19970902", 10), ("FREQ=DAILY;UNTIL=19971224T000000Z", "19970902", 113), ("FREQ=DAILY;INTERVAL=2", "19970902", 0),
    ("FREQ=DAILY;INTERVAL=10;COUNT=5", "19970902", 5), ("FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA", "19980101", 93),
    ("FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1", "19980101", 93), ("FREQ=WEEKLY;COUNT=10", "19970902", 10),
    ("FREQ=WEEKLY;UNTIL=19971224T000000Z", "19970902", 17), ("FREQ=WEEKLY;INTERVAL=2;WKST=SU", "19970902", 0),
    ("FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "19970902", 10), ("FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH", "19970902", 10),
    ("FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR", "19970901", 25), ("FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "19970902", 8),
    ("FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "19970905", 10), ("FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR", "19970905", 4),
    ("FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "19970907", 10), ("FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "19970922", 6),
    ("FREQ=MONTHLY;BYMONTHDAY=-3", "19970928", 0), ("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "19970902", 10), ("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "19970930", 10),
    ("FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15", "19970910", 10), ("FREQ=MONTHLY;INTERVAL=2;BYDAY=TU", "19970902", 0),
    ("FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "19970610", 10), ("FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3", "19970310", 10),
    ("FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200", "19970101", 10), ("FREQ=YEARLY;BYDAY=20MO", "19970519", 0), ("FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "19970512", 0),
    ("FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "19970313", 0), ("FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8", "19970605", 0), ("FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "19980213", 0),
    ("FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "19970913", 0), ("FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "19961105", 0),
    ("FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "19970904", 3), ("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "19970929", 0),
    ("FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z", "19970902", 3), ("FREQ=MINUTELY;INTERVAL=15;COUNT=6", "19970902", 6),
    ("FREQ=MINUTELY;INTERVAL=90;COUNT=4", "19970902", 4), ("FREQ=DAILY;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=0,20,40", "19970902", 0),
    ("FREQ=MINUTELY;INTERVAL=20;BYHOUR=9,10,11,12,13,14,15,16", "19970902", 0), ("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "19970805", 4),
    ("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "19970805", 4), ("FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "20070115", 5),
)  # fmt: skip


class Examples(unittest.TestCase):
    def test_those_of_the_standard(self) -> None:
        for rule, first, count in EXAMPLES:
            with self.subTest(rule):
                begin = dt.datetime.strptime(first, "%Y%m%d")
                found = due(
                    f"DTSTART:{first}T090000\nRRULE:{rule}",
                    NEW_YORK,
                    at(begin.strftime("%Y-%m-%dT00:00"), NEW_YORK),
                    count + 3 if count else 20,
                )
                self.assertEqual((found[0].strftime("%Y%m%d %H:%M"), len(found)), (f"{first} 09:00", count or 20))


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
