"""The page as a tree: names at every place, what is missing or risky, the file, sentences; and schedules in words."""

from __future__ import annotations

import datetime as dt
import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.recurrence import DAYS, WEEKDAYS, Plain, RecurrenceError, due, plain_of, rule_of, words_of
from ulmus.core.workflow import Workflow, WorkflowFileError, World, check, read_file, sentence, surroundings, write_file
from ulmus.core.workflow.world import Known
from ulmus.steps import kinds

WORLD = World({"model": Known("model", "the model")}, {"topics": ("Topics", ("Topic", "Used"))}, frozenset(), {"7": "Inner"})
READ = {"id": "page", "kind": "read_page", "settings": {"url": "<<it>>"}}


def page(steps: list[dict[str, Any]], start: dict[str, Any] | None = None, **more: Any) -> Workflow:
    begin = start or {"id": "start", "kind": "by_hand", "settings": {"fields": [{"name": "list", "label": "List"}]}}
    return read_file({"format": "ulmus-workflow", "version": 1, "name": "P", "start": begin, "steps": steps, **more})


def each(*steps: dict[str, Any], **settings: Any) -> dict[str, Any]:
    return {"id": "all", "kind": "for_each", "settings": {"list": "<<start.list>>", "item": "it", **settings}, "steps": list(steps)}


def fork(*lanes: dict[str, Any], **settings: Any) -> dict[str, Any]:
    return {"id": "way", "kind": "fork", "settings": settings, "lanes": list(lanes)}


def draft(id_: str, prompt: str) -> dict[str, Any]:
    return {"id": id_, "kind": "draft", "settings": {"model": "model", "prompt": prompt}}


class Names(unittest.TestCase):
    def says(self, *steps: dict[str, Any], **more: Any) -> list[str]:
        return [p.message for p in check(page(list(steps), **more), kinds(), WORLD)]

    def test_inside_a_block_its_item_and_its_earlier_steps(self) -> None:
        self.assertEqual(self.says(each(READ, draft("post", "<<it>> <<page.text>>"))), [])
        self.assertIn("No earlier step is called “page”", self.says(each(READ), draft("post", "<<page.text>>"))[0])

    def test_after_a_block_its_results_with_what_each_item_gave(self) -> None:
        good = draft("post", "<<each all.results as r>><<r.it>> <<r.page.text>><<end>> <<all.failed>>")
        self.assertEqual(self.says(each(READ), good), [])
        self.assertIn("gives no “txet”", self.says(each(READ), draft("post", "<<each all.results as r>><<r.page.txet>><<end>>"))[0])

    def test_after_a_fork_its_values_may_be_missing(self) -> None:
        lanes = fork(
            {"id": "a", "when": 'start.list is "x"', "steps": [{**READ, "settings": {"url": "http://a.example"}}]}, {"id": "b"}
        )
        self.assertIn("may be missing: the lane “a” may not run", self.says(lanes, draft("post", "<<page.text>>"))[0])
        self.assertEqual(self.says(lanes, draft("post", '<<page.text | otherwise "">>')), [])

    def test_in_a_repeat_the_condition_sees_the_round_and_the_round_sees_the_one_before(self) -> None:
        block = {
            "id": "till",
            "kind": "repeat_until",
            "settings": {"until": 'post.text contains "ok" and till.rounds > 1'},
            "steps": [draft("post", '<<note.text | otherwise "">>'), draft("note", "<<post.text>>")],
        }
        self.assertEqual(self.says(block), [])
        bare = {**block, "steps": [draft("post", "<<note.text>>"), draft("note", "<<post.text>>")]}
        self.assertIn("first round", self.says(bare)[0])

    def test_names_that_depend_on_settings(self) -> None:
        start = {
            "id": "row",
            "kind": "sheet_row",
            "settings": {"sheet": "topics", "used": "Used", "rule": "FREQ=DAILY", "zone": "UTC"},
        }
        self.assertEqual(self.says(draft("post", "<<row.Topic>> <<row.left>>"), start=start), [])
        self.assertIn("gives no “Topci”", self.says(draft("post", "<<row.Topci>>"), start=start)[0])
        sets = {"id": "both", "kind": "set_values", "settings": {"values": {"line": "x"}}}
        self.assertEqual(self.says(sets, draft("post", "<<both.line>>")), [])
        feed = {"id": "feed", "kind": "feed_item", "settings": {"url": "http://a.example/f", "runs": "together"}}
        self.assertEqual(self.says(draft("post", "<<each feed.items as i>><<i.title>><<end>>"), start=feed), [])

    def test_a_name_is_given_once_only(self) -> None:
        self.assertIn("is a name already", self.says(each(READ, item="start"))[0])
        for step in ({"id": "each", "kind": "stop"}, {"id": "end", "kind": "stop"}, {"id": "start", "kind": "stop"}):
            with self.subTest(step=step), self.assertRaises(WorkflowFileError):
                page([step])


class Shape(unittest.TestCase):
    def says(self, *steps: dict[str, Any], **more: Any) -> str:
        return " ".join(p.message for p in check(page(list(steps), **more), kinds(), WORLD))

    def test_blocks_need_what_they_hold(self) -> None:
        self.assertIn("no step inside", self.says(each()))
        self.assertIn("no lane", self.says(fork()))
        self.assertIn("holds no steps of its own", self.says({"id": "x", "kind": "stop", "steps": [READ]}))

    def test_a_lane_after_the_one_for_everything_else(self) -> None:
        self.assertIn("Put it last", self.says(fork({"id": "a"}, {"id": "b", "when": "start.list is empty"})))

    def test_conditions_are_looked_at(self) -> None:
        self.assertIn("No earlier step is called “nobody”", self.says(fork({"id": "a", "when": "nobody.x is 1"})))

    def test_a_draft_is_asked_about_in_the_block_it_stands_in(self) -> None:
        ask = {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": "a@b.example"}}
        self.assertIn("stands outside this block", self.says(draft("post", "x"), each(ask)))
        self.assertEqual(self.says(each(draft("post", "<<it>>"), ask)), "")

    def test_schedules_and_waits_that_cannot_be(self) -> None:
        for settings, words in (
            ({"rule": "FREQ=SOMETIMES"}, "RFC 5545"),
            ({"rule": "FREQ=DAILY", "zone": "Moon/Sea"}, "time zone"),
            ({"rule": "FREQ=DAILY", "quiet": "late"}, "Quiet hours"),
            ({"rule": "FREQ=DAILY;UNTIL=20200101T000000Z"}, "no time left"),
        ):
            with self.subTest(settings=settings):
                self.assertIn(words, self.says(READ, start={"id": "start", "kind": "schedule", "settings": settings}))
        self.assertIn("Say until when", self.says({"id": "w", "kind": "wait", "settings": {"how": "until"}}))

    def test_workflows_that_are_not_there(self) -> None:
        self.assertIn("Choose which workflow", self.says({"id": "sub", "kind": "run_workflow", "settings": {"workflow": "9"}}))
        self.assertEqual(self.says({"id": "sub", "kind": "run_workflow", "settings": {"workflow": "7"}}), "")

    def test_blocks_too_deep_and_pages_too_long_are_refused(self) -> None:
        deep: dict[str, Any] = {"id": "x0", "kind": "stop"}
        for n in range(1, 10):
            deep = {"id": f"x{n}", "kind": "for_each", "settings": {"list": "a"}, "steps": [deep]}
        for steps in ([deep], [{"id": f"s{n}", "kind": "stop"} for n in range(501)]):
            with self.assertRaises(WorkflowFileError):
                page(steps)
        nested: Any = []
        for _ in range(2000):
            nested = [nested]
        with self.assertRaises(WorkflowFileError):
            page([{"id": "x", "kind": "stop", "settings": {"words": nested}}])


class Files(unittest.TestCase):
    def test_blocks_lanes_policies_and_limits_go_out_and_in(self) -> None:
        steps = [each(fork({"id": "a", "when": "it is 1", "muted": True, "steps": [READ]}, {"id": "b"}), most=3)]
        before = page(steps, limits={"at_once": 2, "run_money": 0.5})
        self.assertEqual(read_file(write_file(before)), before)
        written = json.loads(write_file(before))
        self.assertEqual(written["limits"], {"at_once": 2, "run_money": 0.5})
        self.assertNotIn("on_failure", written["steps"][0])

    def test_every_place_has_its_names(self) -> None:
        found = surroundings(page([each(READ)]), kinds(), WORLD)
        self.assertEqual(set(found), {"start", "all", "page"})

    def test_sentences(self) -> None:
        def told(step: dict[str, Any]) -> str:
            return "".join(p.text for p in sentence(page([step]).steps[0], kinds()[step["kind"]], WORLD))

        self.assertEqual(told(each(READ)), "For each it in start.list")
        self.assertEqual(told(each(READ, most=5)), "For each it in start.list, at most 5")
        self.assertEqual(told(fork({"id": "a"}, which="every")), "Take every lane that fits")
        self.assertEqual(
            told({"id": "w", "kind": "wait", "settings": {"how": "until", "moment": "17:00"}}), "Wait until a moment · 17:00"
        )
        self.assertEqual(
            told({"id": "p", "kind": "pick_one", "settings": {"list": "a\nb\nc", "how": "turn"}}),
            "Pick one of 3 lines, each in turn",
        )
        self.assertEqual(told({"id": "r", "kind": "run_workflow", "settings": {"workflow": "7"}}), "Run Inner")


class Schedules(unittest.TestCase):
    plains = st.one_of(
        st.builds(lambda n: Plain("minutes", n), st.integers(1, 59)),
        st.builds(lambda n, m: Plain("hours", n, (f"00:{m:02}",)), st.integers(1, 23), st.integers(0, 59)),
        st.builds(
            lambda how, hours, minute, days, day, nth: Plain(
                how,
                times=tuple(sorted(f"{h:02}:{minute:02}" for h in hours)),
                days=tuple(d for d in DAYS if d in days) if how in ("weekly", "nth") else ("MO",),
                day=day if how == "monthly" else 1,
                nth=nth if how == "nth" else 1,
            ),
            st.sampled_from(["daily", "weekly", "monthly", "nth"]),
            st.sets(st.integers(0, 23), min_size=1, max_size=3),
            st.integers(0, 59),
            st.sets(st.sampled_from(sorted(DAYS)), min_size=1),
            st.sampled_from([1, 15, 31, -1]),
            st.sampled_from([1, 2, 3, 4, -1]),
        ),
    )

    @given(plains)
    def test_a_plain_schedule_and_its_rule_say_the_same(self, plain: Plain) -> None:
        rule = rule_of(plain)
        self.assertEqual(plain_of(rule), plain)
        self.assertTrue(words_of(rule))

    @given(plains)
    def test_every_plain_schedule_has_a_next_time(self, plain: Plain) -> None:
        self.assertTrue(due(rule_of(plain), "Europe/Paris", dt.datetime(2026, 3, 1, tzinfo=dt.UTC)))

    def test_times_at_different_minutes(self) -> None:
        rule = rule_of(Plain("daily", times=("08:00", "17:30")))
        found = [m.strftime("%H:%M") for m in due(rule, "UTC", dt.datetime(2026, 3, 1, tzinfo=dt.UTC), 3)]
        self.assertEqual(found, ["08:00", "17:30", "08:00"])

    def test_words(self) -> None:
        for plain, words in (
            (Plain("minutes", 15), "every 15 minutes"),
            (Plain("hours", 1, ("00:00",)), "every hour on the hour"),
            (Plain("weekly", days=WEEKDAYS), "every weekday at 08:00"),
            (Plain("weekly", days=("MO", "FR"), times=("09:00",)), "every Monday and Friday at 09:00"),
            (Plain("nth", nth=-1, days=("FR",)), "monthly on the last Friday at 08:00"),
            (Plain("monthly", day=-1), "monthly on the last day at 08:00"),
        ):
            self.assertEqual(words_of(rule_of(plain)), words)
        self.assertEqual(words_of("FREQ=YEARLY;BYMONTH=3"), "FREQ=YEARLY;BYMONTH=3")

    def test_what_is_no_schedule(self) -> None:
        for plain in (
            Plain("daily", times=("25:00",)),
            Plain("weekly", days=()),
            Plain("monthly", day=40),
            Plain("hours", 0),
            Plain("nth", nth=7),
        ):
            with self.subTest(plain=plain), self.assertRaises(RecurrenceError):
                rule_of(plain)
