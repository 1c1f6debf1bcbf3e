"""Writing a page: every change keeps it whole, names stay one's own, values follow; the finder knows what makes sense."""

from __future__ import annotations

import json
import unittest
from dataclasses import replace
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.short import examples
from ulmus.core.drafting.tally import Choice, Made, approved, tally, wilson
from ulmus.core.pieces import Takes
from ulmus.core.slots import parse, renamed, renamed_condition
from ulmus.core.workflow import (
    Line,
    Workflow,
    World,
    check,
    drawn,
    edits,
    finder,
    read_file,
    sentence,
    take_name,
    takes_of,
    templates_of,
    write_file,
)
from ulmus.core.workflow.compare import compare, page_changes
from ulmus.core.workflow.edits import EditError, Place
from ulmus.core.workflow.kinds import StartSpec
from ulmus.core.workflow.world import Known
from ulmus.steps import kinds

WORLD = World(
    {
        "m": Known("model", "the drafting model"),
        "pond": Known("posting", "Pondside", Takes(length=300)),
        "blog": Known("posting", "the blog"),
    },
    {"log": ("Posts out", ("Date", "Title", "Post", "Link"))},
)

EVERYTHING = replace(
    WORLD,
    connections={
        **WORLD.connections,
        "mail": Known("mail", "Office mail"),
        "room": Known("room", "The team’s room"),
        "search": Known("search", "Web search"),
        "crm": Known("service", "Customers"),
        "files": Known("files", "Office files"),
    },
    sheets={**WORLD.sheets, "leads": ("Leads", ("Company", "Site"))},
)


def page(*steps: Any, **more: Any) -> Workflow:
    start = {"id": "feed", "kind": "feed_item", "settings": {"url": "http://a.example/feed"}}
    return Workflow.model_validate({"name": "P", "start": start, "steps": list(steps), **more})


def step(name: str, kind: str = "read_page", **settings: Any) -> dict[str, Any]:
    return {"id": name, "kind": kind, "settings": settings}


def line_of(data: dict[str, Any]) -> Line:
    return Line.model_validate(data)


READ = step("page", url="<<feed.link>>")
DRAFT = step(
    "post",
    "draft",
    model="m",
    prompt="About <<page.text | shorten 9 words>>",
    rules=[{"rule": "contains", "text": "<<feed.link>>"}],
)
ASK = step("ok", "ask", draft="post", who="a@b.example")
OUT = step("out", "publish_post", channel="pond", text="<<post.text>>")
EACH = {**step("all", "for_each", list="<<feed.words>>"), "steps": [step("one", url="<<item>>")]}
FORK = {
    **step("fork", "fork"),
    "lanes": [{"id": "a", "when": 'page.title is "x"', "steps": [step("b")]}, {"id": "other", "steps": []}],
}


def ids(workflow: Workflow) -> list[str]:
    return [line.id for line in workflow.every_step]


class Renaming(unittest.TestCase):
    def test_what_is_put_at_the_end_stands_behind_a_block(self) -> None:
        made = page(READ, EACH)
        self.assertEqual(edits.after(made, edits.END, kinds()), Place("", 2))
        self.assertEqual(edits.after(made, "all", kinds()), Place("all"))

    def test_only_the_named_root_changes_and_nothing_else_is_touched(self) -> None:
        text = 'a <<page.text|shorten 9 words>> << page >> <<other."page".page>> <<page.x'
        self.assertEqual(
            renamed(text, {"page": "leaf"}), 'a <<leaf.text | shorten 9 words>> << page >> <<other."page".page>> <<page.x'
        )

    def test_blocks_and_conditions_follow_but_a_bound_name_does_not(self) -> None:
        text = (
            '<<each page.links as page>><<page.title>><<end>><<if page.n > 3 and not x.y is "page">>y<<otherwise>><<page.z>><<end>>'
        )
        new = renamed(text, {"page": "leaf"})
        self.assertIn("<<each leaf.links as page>><<page.title>><<end>>", new)
        self.assertIn("leaf.n", new)
        self.assertIn('"page"', new)
        self.assertIn("<<leaf.z>>", new)
        self.assertEqual(parse(new).errors, ())

    def test_conditions(self) -> None:
        self.assertEqual(renamed_condition("a.n > 3 and b.m is empty", {"a": "z"}), "z.n > 3 and b.m is empty")
        self.assertEqual(renamed_condition("this is no condition", {"this": "z"}), "this is no condition")


class Edits(unittest.TestCase):
    def test_a_line_is_put_below_another_and_first_in_a_block(self) -> None:
        w = page(READ, EACH)
        w, (name,) = edits.add(w, [Line(id="page", kind="read_page")], edits.after(w, "page", kinds()), kinds())
        self.assertEqual((name, ids(w)), ("page_2", ["page", "page_2", "all", "one"]))
        w, _ = edits.add(w, [Line(id="x", kind="read_page")], edits.after(w, "all", kinds()), kinds())
        self.assertEqual(ids(w), ["page", "page_2", "all", "x", "one"])
        w, _ = edits.add(w, [Line(id="top", kind="read_page")], edits.after(w, "feed", kinds()), kinds())
        self.assertEqual(ids(w)[0], "top")

    def test_into_a_lane_and_out_again(self) -> None:
        w = page(READ, FORK, OUT)
        w = edits.shift(w, "out", "in", kinds())
        self.assertEqual(edits.place_of(w, "out"), Place("other", 0))
        w = edits.shift(w, "out", "out", kinds())
        self.assertEqual(edits.place_of(w, "out"), Place("", 2))

    def test_up_and_down_stop_at_the_ends(self) -> None:
        w = page(READ, DRAFT, OUT)
        self.assertEqual(ids(edits.shift(w, "out", "up", kinds())), ["page", "out", "post"])
        self.assertEqual(ids(edits.shift(w, "page", "down", kinds())), ["post", "page", "out"])
        self.assertEqual(edits.shift(w, "page", "up", kinds()), w)
        self.assertEqual(edits.shift(w, "out", "down", kinds()), w)

    def test_a_block_cannot_stand_in_itself_and_the_start_stays(self) -> None:
        w = page(EACH, {**EACH, "id": "more", "settings": {"list": "x", "item": "it"}, "steps": []})
        for refused in (
            lambda: edits.move(w, "all", Place("all", 0), kinds()),
            lambda: edits.move(w, "feed", Place("", 1), kinds()),
            lambda: edits.move(w, "one", Place("nobody", 0), kinds()),
            lambda: edits.duplicate(w, "feed", kinds()),
            lambda: edits.remove(w, "nobody"),
            lambda: edits.shift(page(READ, OUT), "out", "in", kinds()),
        ):
            with self.assertRaises(EditError) as caught:
                refused()
            self.assertGreater(len(str(caught.exception).split()), 3)

    def test_what_is_pasted_points_at_its_own_lines(self) -> None:
        w = page(READ, DRAFT, ASK)
        copied = edits.from_text(json.loads(json.dumps({"format": "ulmus-lines", "version": 1, "lines": [READ, DRAFT, ASK]})))
        w, names = edits.add(w, copied, Place("", 3), kinds())
        self.assertEqual(names, ["page_2", "post_2", "ok_2"])
        post, ok = w.line("post_2"), w.line("ok_2")
        assert post is not None
        assert ok is not None
        self.assertEqual(post.settings["prompt"], "About <<page_2.text | shorten 9 words>>")
        self.assertEqual(post.settings["rules"][0]["text"], "<<feed.link>>")
        self.assertEqual(ok.settings["draft"], "post_2")

    def test_text_that_holds_no_lines_is_refused(self) -> None:
        odd = {**DRAFT, "settings": {**DRAFT["settings"], "takes": ["x"], "rules": ["y"]}}
        edits.add(page(READ, DRAFT), edits.from_text({"format": "ulmus-lines", "lines": [odd]}), Place(), kinds())
        for data in ("x", {}, {"format": "ulmus-lines"}, {"format": "ulmus-lines", "lines": [{"id": "!", "kind": "x"}]}):
            with self.subTest(data=data), self.assertRaises(EditError):
                edits.from_text(data)

    def test_a_new_name_is_followed_everywhere(self) -> None:
        w = edits.rename(page(READ, DRAFT, FORK, ASK), "page", "source", kinds())
        text = json.dumps(w.model_dump(mode="json"))
        self.assertNotIn("page.", text)
        self.assertIn('source.title is \\"x\\"', text)
        for bad in ("post", "Zwei Worte", "brand", "a", "other"):
            with self.subTest(bad=bad), self.assertRaises(EditError):
                edits.rename(page(READ, DRAFT, FORK), "page", bad, kinds())

    def test_a_lane_comes_before_the_otherwise_lane_and_goes_with_its_steps(self) -> None:
        w, name = edits.add_lane(page(READ, FORK), "fork", kinds())
        line = w.line("fork")
        assert line is not None
        self.assertEqual([lane.id for lane in line.lanes], ["a", name, "other"])
        self.assertNotIn("b", ids(edits.remove_lane(w, "a")))
        with self.assertRaisesRegex(EditError, "Only a fork"):
            edits.add_lane(page(READ, FORK), "page", kinds())
        odd = page(READ | {"lanes": [{"id": "none", "steps": []}]})
        self.assertTrue(finder.find(odd, kinds(), "none", "", WORLD), "where no line can stand, all are offered")

    def test_whatever_stands_in_the_settings_the_page_can_be_read_and_says_what_is_wrong(self) -> None:
        shapes: list[Any] = [
            None,
            True,
            7,
            -1.5,
            "",
            "<<",
            "<<x.y | z>>",
            [],
            [1],
            [{}],
            {},
            {"a": 1},
            {"a": None},
            ["<<each a as b>>"],
        ]
        for spec in kinds().values():
            for name in spec.settings.model_fields:
                for shape in shapes:
                    line = {"id": "odd", "kind": spec.name, "settings": {name: shape}}
                    w = (
                        page(READ, line, ASK)
                        if not isinstance(spec, StartSpec)
                        else page(READ).model_copy(update={"start": line_of(line)})
                    )
                    with self.subTest(kind=spec.name, setting=name, shape=shape):
                        check(w, kinds(), WORLD)
                        self.assertTrue(sentence(line_of(line), spec, WORLD))
                        list(templates_of(spec, line["settings"]))
                        takes_of(line_of(line), kinds())

    @given(
        st.lists(st.tuples(st.sampled_from(["up", "down", "in", "out", "copy", "remove", "add"]), st.integers(0, 30)), max_size=25)
    )
    @examples(120)
    def test_whatever_is_done_the_page_stays_whole(self, doings: list[tuple[str, int]]) -> None:
        w = page(READ, EACH, FORK, DRAFT, ASK, OUT)
        for what, pick in doings:
            names = ids(w)
            if not names:
                break
            name = names[pick % len(names)]
            before = sorted(names)
            try:
                if what == "copy":
                    w, _ = edits.duplicate(w, name, kinds())
                elif what == "remove":
                    w = edits.remove(w, name)
                elif what == "add":
                    w, _ = edits.add(w, [Line(id="page", kind="read_page")], edits.after(w, name, kinds()), kinds())
                else:
                    w = edits.shift(w, name, what, kinds())
                    self.assertEqual(sorted(ids(w)), before, "moving loses nothing")
            except EditError:
                self.assertEqual(sorted(ids(w)), before)
            self.assertEqual(Workflow.model_validate(w.model_dump(mode="json")), w)
            check(w, kinds(), WORLD)


class Finder(unittest.TestCase):
    def titles(self, w: Workflow, line: str, words: str = "") -> list[str]:
        return [offer.title for offer in finder.find(w, kinds(), line, words, WORLD, "ed@a.example")]

    def test_it_knows_what_people_say(self) -> None:
        said = {
            "draft": "summarise|summarize|translate|AI|llm|rewrite|shorten|extract|classify|sentiment|headline|tags|bullet points|transalte|sumarize",
            "fork": "only if|if|condition|branch|compare|filter",
            "for_each": "iterate|loop|every item|parallel",
            "send_letter": "email|notify|send a mail|emial|inform",
            "message_room": "tell the team|teams|chat|alert",
            "publish_post": "social|post it|publsih|share",
            "add_row": "log|log it|spreadsheet|write it down|save",
            "write_row": "update|same row|beside|fill in",
            "add_rows": "duplicates",
            "find_rows": "lookup|find a row",
            "read_page": "scrape|website|url",
            "ask": "approve|aprove|human|review|ask me|sign off",
            "wait": "delay|pause|days",
            "stop": "stop|error",
            "pick_one": "random",
            "set_values": "variable|date",
            "read_transcript": "transcribe",
            "picture": "image|thumbnail",
        }
        wanted = [(word, kind) for kind, words in said.items() for word in words.split("|")]
        wrong = {}
        for word, kind in wanted:
            found = [offer.kind for offer in finder.find(page(READ), kinds(), "page", word, EVERYTHING, "ed@a.example")]
            different = list(dict.fromkeys(found))[:3]
            if kind not in different:
                wrong[word] = (kind, different)
        self.assertEqual(wrong, {})

    def test_small_mistakes_are_seen_through_only_where_nothing_is_so(self) -> None:
        for word in ("xqzzy", "zz", "aproveeee", "emailemailemail"):
            self.assertEqual(self.titles(page(READ), "page", word), [], word)
        exact = self.titles(page(READ), "page", "loop")
        self.assertFalse(any("Look" in title for title in exact), exact)

    def test_a_whole_page_from_six_words(self) -> None:
        w, at = page(), "feed"
        for words in ("read", "draft", "ask", "post to pond", "row"):
            offer = finder.find(w, kinds(), at, words, WORLD, "ed@a.example")[0]
            w, (at,) = edits.add(w, [finder.made(offer, kinds(), w)], edits.after(w, at, kinds()), kinds())
        self.assertEqual([line.kind for line in w.steps], ["read_page", "draft", "ask", "publish_post", "add_row"])
        self.assertEqual([p.message for p in check(w, kinds(), WORLD) if p.severity == "error"], [])
        read, draft, ask, out, row = (line.settings for line in w.steps)
        self.assertEqual(read["url"], "<<feed.link>>")
        self.assertEqual(
            draft["prompt"].partition("\n\n")[2],
            "Title: <<feed.title>>\nLink: <<feed.link>>\n\n<<page.text | shorten 900 words>>",
        )
        self.assertEqual((ask["draft"], ask["who"]), ("draft", "ed@a.example"))
        self.assertEqual(out, {"channel": "pond", "text": "<<draft.text>>"})
        self.assertEqual(
            row["cells"], {"Date": "<<run.date>>", "Title": "<<page.title>>", "Post": "<<draft.text>>", "Link": "<<out.link>>"}
        )

    def test_a_second_line_of_a_kind_points_at_the_first_and_not_at_itself(self) -> None:
        w, at = page(), "feed"
        for words in ("read", "read", "draft", "ask", "draft", "row"):
            offer = finder.find(w, kinds(), at, words, WORLD, "ed@a.example")[0]
            w, (at,) = edits.add(w, [finder.made(offer, kinds(), w)], edits.after(w, at, kinds()), kinds())
        self.assertEqual(ids(w), ["page", "page_2", "draft", "ask", "draft_2", "row"])
        self.assertEqual(w.steps[1].settings["url"], "<<page.link>>")
        self.assertEqual([p.message for p in check(w, kinds(), WORLD) if p.severity == "error"], [])
        (start, *_) = finder.find(w, kinds(), "", "feed", WORLD)
        self.assertEqual(finder.made(start, kinds(), w).id, "feed", "a start takes the place of the one there is")

    def test_after_a_block_a_draft_is_made_of_what_was_made_for_each(self) -> None:
        draft = {**DRAFT, "id": "line"}
        last = finder.find(page(READ, {**EACH, "steps": [draft]}), kinds(), "end", "draft", WORLD, at=Place("", 2))[0]
        self.assertIn(f"<<each {EACH['id']}.results as one>><<one.line.text>>", last.settings["prompt"])
        none = finder.find(
            page(READ, {**EACH, "steps": [READ | {"id": "other"}]}), kinds(), "end", "draft", WORLD, at=Place("", 2)
        )[0]
        self.assertNotIn("<<each", none.settings["prompt"], "where nothing was drafted, the nearest text")

    def test_what_a_line_can_be_set_to_here_is_named(self) -> None:
        self.assertEqual(finder.named(kinds()["publish_post"], WORLD), ["Pondside", "the blog"])
        self.assertEqual(finder.named(kinds()["add_row"], WORLD), ["Posts out"])
        self.assertEqual(finder.named(kinds()["read_page"], WORLD), [])

    def test_what_makes_sense_stands_first(self) -> None:
        self.assertEqual(self.titles(page(), "feed")[0], "Read a page")
        self.assertEqual(self.titles(page(READ), "page")[0], "Draft with the drafting model")
        self.assertEqual(self.titles(page(READ, DRAFT), "post")[0], "Ask somebody to approve")
        self.assertIn("Post to", self.titles(page(READ, DRAFT, ASK), "ok")[0])
        self.assertEqual(self.titles(page(READ, DRAFT, ASK, OUT), "out")[0], "Add a row to Posts out")

    def test_each_connection_and_sheet_is_an_offer_of_its_own(self) -> None:
        titles = self.titles(page(READ, DRAFT), "post", "post to")
        self.assertEqual(titles[:2], ["Post to Pondside", "Post to the blog"])

    def test_words_nothing_has_find_nothing_and_starts_are_found_at_the_start(self) -> None:
        self.assertEqual(self.titles(page(), "feed", "xylophone"), [])
        self.assertEqual(self.titles(page(), "", "every day")[0], "A time: every day, hour or week")
        self.assertNotIn("Read a page", self.titles(page(), ""))

    def test_what_a_line_lacks_is_said(self) -> None:
        offer = next(o for o in finder.find(page(), kinds(), "feed", "ask", WORLD) if o.kind == "ask")
        self.assertIn("no draft above", offer.lacks)


class Comparing(unittest.TestCase):
    def test_added_removed_changed_and_moved(self) -> None:
        before = page(READ, DRAFT, ASK, OUT)
        after = page(
            step("more", url="http://a.example"), DRAFT, {**READ, "settings": {"url": "<<feed.link>>"}}, {**OUT, "muted": True}
        )
        found = {c.line.id: (c.what, [s.title for s in c.settings]) for c in compare(before, after, kinds())}
        self.assertEqual(found["more"], ("added", []))
        self.assertEqual(found["ok"], ("removed", []))
        self.assertEqual(found["out"], ("changed", ["Muted"]))
        self.assertEqual([w for w, _ in found.values()].count("moved"), 1)

    def test_settings_are_told_by_their_titles_as_texts(self) -> None:
        after = {**DRAFT, "settings": {**DRAFT["settings"], "prompt": "Else", "rules": [{"rule": "length", "most": 300}]}}
        (change,) = compare(page(READ, DRAFT), page(READ, after), kinds())
        told = {s.title: s.after for s in change.settings}
        self.assertEqual(told["Prompt"], "Else")
        self.assertIn("most: 300", told["Rules"])

    def test_a_long_page_is_compared_at_once(self) -> None:
        many = [step(f"s{n}", url="x") for n in range(200)]
        found = compare(page(*many), page(*many[1:], many[0]), kinds())
        self.assertEqual([(c.what, c.line.id) for c in found], [("moved", "s0")])

    def test_the_same_is_nothing_and_the_page_itself_counts(self) -> None:
        self.assertEqual(compare(page(READ), page(READ), kinds()), [])
        other = page(READ, limits={"steps": 9})
        self.assertEqual([c.title for c in page_changes(page(READ), other)], ["Limit: steps"])


class Takes(unittest.TestCase):
    def line(self) -> Line:
        takes = [{"name": "Warm", "prompt": "Warmly", "temperature": 0.9}, {"name": "Cold", "prompt": ""}]
        return Line.model_validate({**DRAFT, "settings": {**DRAFT["settings"], "takes": takes}})

    def test_a_take_lays_what_it_says_over_the_draft(self) -> None:
        warm, cold = takes_of(self.line(), kinds())
        self.assertEqual((warm.id, cold.id), ("post~2", "post~3"))
        self.assertEqual((warm.settings["prompt"], warm.settings["temperature"], warm.settings["model"]), ("Warmly", 0.9, "m"))
        self.assertEqual(cold.settings["prompt"], DRAFT["settings"]["prompt"])
        self.assertNotIn("takes", warm.settings)
        self.assertEqual([take_name(self.line(), kinds(), n) for n in ("post", "post~2", "post~3")], ["Take 1", "Warm", "Cold"])

    def test_an_unknown_value_in_a_take_is_found(self) -> None:
        w = page(READ, {**DRAFT, "settings": {**DRAFT["settings"], "takes": [{"name": "x", "prompt": "<<nobody.x>>"}]}})
        (problem,) = [p for p in check(w, kinds(), WORLD) if p.severity == "error"]
        self.assertEqual(problem.place, ("takes", "0", "prompt"))

    def test_a_run_is_drawn_for_a_take_only_where_runs_are_shared_and_always_for_the_same(self) -> None:
        line = self.line()
        self.assertEqual({drawn(line, kinds(), str(n)).id for n in range(50)}, {"post"})
        shared = line.model_copy(update={"settings": {**line.settings, "shared": True}})
        found = [drawn(shared, kinds(), str(n)).id for n in range(600)]
        self.assertEqual(found, [drawn(shared, kinds(), str(n)).id for n in range(600)])
        for take in ("post", "post~2", "post~3"):
            self.assertAlmostEqual(found.count(take) / 600, 1 / 3, delta=0.08)
        alone = line.model_copy(update={"settings": {**DRAFT["settings"], "shared": True}})
        self.assertEqual(drawn(alone, kinds(), "1"), alone)

    def test_what_passed_unedited_is_counted_with_its_bounds(self) -> None:
        told = approved([True, False, True, True])
        self.assertEqual((told.decided, told.unedited), (4, 3))
        self.assertEqual((told.low, told.high), wilson(3, 4))
        self.assertEqual(approved([]).decided, 0)

    def test_tallies_count_what_still_stands(self) -> None:
        made = [
            Made("a", 1, "a1", True, 0.2, 100),
            Made("b", 1, "b1", False, 0.1, 50),
            Made("a", 2, "a2", True, 0.4, 200),
            Made("b", 2, "b2", True, 0.1, 50),
        ]
        a, b = tally(["a", "b"], made, [Choice("a1", ("a1", "b1")), Choice("b2", ("a2", "b2")), Choice("old", ("old", "older"))])
        self.assertEqual((a.made, a.kept, a.preferred, a.compared, a.characters), (2, 2, 1, 2, 150))
        self.assertAlmostEqual(a.cost, 0.3)
        self.assertEqual((b.kept, b.preferred), (1, 1))

    def test_the_interval_is_wilsons(self) -> None:
        low, high = wilson(8, 10)
        self.assertAlmostEqual(low, 0.4902, 3)
        self.assertAlmostEqual(high, 0.9433, 3)
        self.assertEqual(wilson(0, 0), (0.0, 1.0))

    @given(st.integers(0, 50), st.integers(1, 50))
    def test_the_interval_holds_the_share(self, hits: int, count: int) -> None:
        hits = min(hits, count)
        low, high = wilson(hits, count)
        self.assertTrue(0 <= low <= hits / count + 1e-9 and hits / count - 1e-9 <= high <= 1)


class NeedsInFiles(unittest.TestCase):
    def test_a_file_with_needs_reads_as_the_same_page(self) -> None:
        w = page(READ, DRAFT)
        text = write_file(w, {"connections": {"m": {"kind": "model", "name": "the drafting model"}}})
        self.assertEqual(read_file(text), w)
        self.assertIn("the drafting model", text)
