"""The value language: parsing, printing, filling in, checking; by examples and by properties."""

from __future__ import annotations

import json
import unittest
from typing import Any
from urllib.parse import quote

from hypothesis import given
from hypothesis import strategies as st

from tests.short import examples
from ulmus.core.slots import MISSING, Path, Slot, SlotError, Text, check, holds, look_up, parse, parse_condition, render
from ulmus.core.slots.evaluate import COMPARISONS, SIGNS
from ulmus.core.slots.filters import FILTERS
from ulmus.core.slots.tree import Filter

VALUES: dict[str, Any] = {
    "feed": {"title": "Beans & “peas”", "link": "http://a.example/x?y=1&z=2", "categories": ["bean", "pea", "leek"]},
    "row": {"Company name": "Amblin & Sons", "count": 3, "empty": "", "nothing": None},
    "page": {"html": "<p>One</p><p>Two <b>bold</b></p>", "date": "2026-03-09T07:05:00+00:00", "done": True, "price": 2.5},
    "search": {"results": [{"link": "http://one.example"}, {"link": "http://two.example"}]},
}


def fill(text: str, place: Any = "text") -> str:
    return render(parse(text), VALUES, place).text


class Parsing(unittest.TestCase):
    def test_a_text_without_slots_is_one_run(self) -> None:
        self.assertEqual(parse("plain words").parts, (Text("plain words"),))

    def test_an_empty_text_has_no_parts(self) -> None:
        self.assertEqual(parse("").parts, ())

    def test_a_slot_stands_between_texts_with_its_place(self) -> None:
        before, slot, after = parse("a <<feed.title>> b").parts
        self.assertEqual((str(before), str(after)), ("a ", " b"))
        assert isinstance(slot, Slot)
        self.assertEqual((slot.start, slot.end), (2, 16))
        self.assertEqual(slot.path.parts, ("feed", "title"))

    def test_quoted_names_and_positions(self) -> None:
        slot = parse('<<row."Company name">>').slots[0]
        self.assertEqual(slot.path.parts, ("row", "Company name"))
        self.assertEqual(parse("<<search.results[2].link>>").slots[0].path.parts, ("search", "results", 2, "link"))

    def test_positions_count_from_one(self) -> None:
        self.assertIsInstance(parse("<<search.results[0].link>>").parts[0], SlotError)

    def test_filters_with_numbers_texts_and_words(self) -> None:
        slot = parse('<<page.text | shorten 400 words | otherwise "no \\"text\\"">>').slots[0]
        self.assertEqual(slot.filters[0], Filter("shorten", (400, "words"), (False, True)))
        self.assertEqual(slot.filters[1].arguments, ('no "text"',))

    def test_marks_that_start_no_slot_stay_text(self) -> None:
        for text in ("a << b", "1 <<2>>", "<<", "<< feed.title>>", "<<<", "x <<\n"):
            with self.subTest(text=text):
                self.assertEqual(str(parse(text)), text)
                self.assertFalse(parse(text).slots)
                self.assertFalse(parse(text).errors)

    def test_an_unclosed_slot_is_an_error_at_its_place_and_the_rest_is_read(self) -> None:
        template = parse("Title: <<feed.title and <<feed.link>>")
        self.assertEqual(len(template.errors), 1)
        self.assertEqual(template.errors[0].start, 7)
        self.assertIn(">>", template.errors[0].message)
        self.assertEqual([str(s.path) for s in template.slots], ["feed.link"])

    def test_a_wrong_slot_says_where(self) -> None:
        error = parse("ab <<feed..title>>").errors[0]
        self.assertEqual(error.start, 10)
        self.assertIn("not expected", error.message)

    def test_every_wrong_slot_is_found(self) -> None:
        self.assertEqual(len(parse("<<a.>> <<b | >> <<c[x]>> <<fine>>").errors), 3)

    def test_closing_marks_inside_quotes_do_not_close(self) -> None:
        self.assertEqual(parse('<<a.b | otherwise ">>">>').slots[0].filters[0].arguments, (">>",))

    def test_a_slot_does_not_reach_over_a_blank_line(self) -> None:
        self.assertEqual(len(parse("<<feed.title\n\nmore >> text").errors), 1)


class Printing(unittest.TestCase):
    def test_what_is_printed_is_what_was_read(self) -> None:
        for text in (
            "a <<feed.title>> b",
            '<<row."Company name" | otherwise "none">>',
            "<<search.results[1].link>> and <<x | first 3 | join>>",
        ):
            with self.subTest(text=text):
                self.assertEqual(str(parse(text)), text)

    names = st.from_regex(r"[a-z][a-z0-9_]{0,8}", fullmatch=True)
    keys = st.text(st.characters(blacklist_characters="\n", blacklist_categories=("Cs",)), max_size=12)
    paths = st.builds(
        lambda root, rest: Path((root, *rest)), names, st.lists(st.one_of(names, keys, st.integers(1, 99)), max_size=4)
    )
    words = st.one_of(
        st.integers(-999, 999).map(lambda n: (n, False)),
        keys.map(lambda t: (t, False)),
        names.filter(lambda w: w != "as").map(lambda w: (w, True)),
    )
    calls = st.builds(
        lambda name, args: Filter(name, tuple(a for a, _ in args), tuple(b for _, b in args)), names, st.lists(words, max_size=2)
    )
    slots = st.builds(lambda path, filters: Slot(path, tuple(filters)), paths, st.lists(calls, max_size=2))

    @given(slots)
    def test_parse_print_parse_is_the_identity(self, slot: Slot) -> None:
        again = parse(f"before {slot} after").slots
        self.assertEqual(again, (slot,))
        self.assertEqual(str(again[0]), str(slot))

    @given(st.text(max_size=200))
    def test_any_text_prints_as_it_was(self, text: str) -> None:
        self.assertEqual("".join(str(p) if not isinstance(p, Slot) else text[p.start : p.end] for p in parse(text).parts), text)


class LookingUp(unittest.TestCase):
    def at(self, text: str) -> Any:
        return look_up(parse(f"<<{text}>>").slots[0].path, VALUES)

    def test_names_positions_first_and_last(self) -> None:
        self.assertEqual(self.at("search.results[2].link"), "http://two.example")
        self.assertEqual(self.at("search.results.first.link"), "http://one.example")
        self.assertEqual(self.at("search.results.last.link"), "http://two.example")
        self.assertEqual(self.at('row."Company name"'), "Amblin & Sons")

    def test_what_is_not_there_is_missing(self) -> None:
        for path in ("nobody.x", "feed.nothing", "search.results[9].link", "feed.title.deeper", "row.nothing"):
            with self.subTest(path=path):
                self.assertIs(self.at(path), MISSING)

    def test_no_attribute_of_a_value_can_be_reached(self) -> None:
        for path in ("feed.title.__class__", "feed.categories.append", "row.items", "feed.categories.__len__"):
            with self.subTest(path=path):
                self.assertIs(self.at(path), MISSING)


class Rendering(unittest.TestCase):
    def test_text_is_put_in_as_it_is(self) -> None:
        self.assertEqual(fill("T: <<feed.title>>."), "T: Beans & “peas”.")

    def test_html_is_escaped(self) -> None:
        self.assertEqual(fill("<b><<feed.title>></b>", "html"), "<b>Beans &amp; “peas”</b>")

    def test_json_stands_where_a_value_stands(self) -> None:
        text = fill('{"t": <<feed.title>>, "n": <<row.count>>, "l": <<feed.categories>>, "x": <<row.missing>>}', "json")
        self.assertEqual(json.loads(text), {"t": "Beans & “peas”", "n": 3, "l": ["bean", "pea", "leek"], "x": None})

    def test_url_is_percent_encoded(self) -> None:
        self.assertEqual(fill("?q=<<feed.link>>", "url"), "?q=" + quote(VALUES["feed"]["link"], safe=""))

    def test_missing_values_are_nothing_and_are_reported(self) -> None:
        done = render(parse("a<<feed.no>>b<<gone.x>>"), VALUES)
        self.assertEqual(done.text, "ab")
        self.assertEqual(done.missing, ("feed.no", "gone.x"))

    def test_lists_numbers_truth_and_objects(self) -> None:
        self.assertEqual(fill("<<feed.categories>>"), "bean\npea\nleek")
        self.assertEqual(fill("<<page.price>> <<row.count>> <<page.done>>"), "2.5 3 yes")
        self.assertEqual(json.loads(fill("<<search.results[1]>>")), {"link": "http://one.example"})

    def test_the_output_is_bounded(self) -> None:
        big = {"a": {"b": "x" * 1_000_000}}
        self.assertLessEqual(len(render(parse("<<a.b>>" * 10), big).text), 4_000_000)

    @given(st.text(max_size=300), st.sampled_from(["text", "html", "json", "url"]))
    def test_rendering_never_raises(self, text: str, place: Any) -> None:
        render(parse(text), VALUES, place)

    @examples(40)
    @given(
        st.sampled_from(sorted(FILTERS)),
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
            lambda x: st.lists(x, max_size=3) | st.dictionaries(st.text(), x, max_size=3),
            max_leaves=6,
        ),
    )
    def test_no_filter_raises_on_any_value(self, name: str, value: Any) -> None:
        kind = FILTERS[name]
        for arguments in ([3] * kind.most, ["words"] * kind.most, ["x"] * kind.least):
            if kind.least <= len(arguments):
                kind.apply(value, *arguments)

    def test_a_megabyte_of_what_nearly_is_a_slot_stays_text(self) -> None:
        for piece in ("<<a", '<<a."', "<<a.b | x ", "plain words "):
            with self.subTest(piece=piece):
                text = piece * (1_000_000 // len(piece))
                self.assertEqual(render(parse(text), VALUES).text, text)

    def test_a_megabyte_of_slots_is_filled_in(self) -> None:
        self.assertEqual(render(parse("<<feed.title>>" * 70_000), VALUES).text, VALUES["feed"]["title"] * 70_000)


class FilterExamples(unittest.TestCase):
    def test_each_filter(self) -> None:
        examples = {
            "<<page.html | plain>>": "One\nTwo bold",
            "<<feed.title | upper>>": "BEANS & “PEAS”",
            "<<feed.title | lower>>": "beans & “peas”",
            "<<feed.categories | join>>": "bean, pea, leek",
            '<<feed.categories | join " / ">>': "bean / pea / leek",
            "<<feed.categories | first>>": "bean",
            "<<feed.categories | first 2 | join>>": "bean, pea",
            "<<feed.categories | last>>": "leek",
            "<<feed.categories | count>>": "3",
            "<<feed.title | json>>": '"Beans & “peas”"',
            '<<page.date | format "D MMMM YYYY">>': "9 March 2026",
            '<<page.date | format "dddd DD.MM.YY HH:mm">>': "Monday 09.03.26 07:05",
            '<<feed.title | format "D">>': "Beans & “peas”",
            '<<row.empty | otherwise "there">>': "there",
            '<<nobody.name | otherwise "there">>': "there",
            '<<row.count | otherwise "none">>': "3",
            "<<feed.title | shorten 2 words>>": "Beans &…",
            "<<feed.title | shorten 99>>": "Beans & “peas”",
        }
        for text, wanted in examples.items():
            with self.subTest(text=text):
                self.assertEqual(fill(text), wanted)

    def test_shorten_by_characters_ends_at_a_word(self) -> None:
        values = {"a": {"b": "one two three four"}}
        self.assertEqual(render(parse("<<a.b | shorten 9>>"), values).text, "one two…")
        self.assertEqual(render(parse("<<a.b | shorten 0 words>>"), values).text, "")

    def test_every_filter_tells_its_usage(self) -> None:
        for kind in FILTERS.values():
            self.assertTrue(kind.usage.startswith(kind.name))
            self.assertTrue(kind.about.endswith("."))


class Comparisons(unittest.TestCase):
    def test_the_grammar_reads_each_one_and_each_sign(self) -> None:
        for how in (*COMPARISONS, *SIGNS):
            right = "" if how.endswith("empty") else ' "b"'
            read = parse_condition(f"row.a {how}{right}")
            self.assertNotIsInstance(read, SlotError, how)
            self.assertEqual(read.how, how)
            self.assertIsInstance(holds(read, VALUES), bool)

    def test_each_one_that_has_an_opposite_is_the_opposite(self) -> None:
        for how, opposite in (
            ("is", "is not"),
            ("is one of", "is not one of"),
            ("contains", "does not contain"),
            ("is empty", "is not empty"),
            ("is more than", "is at most"),
            ("is less than", "is at least"),
        ):
            for left, right in (("2", "10"), ("10", "2"), ("pea", "pea"), ("bean", "an")):
                found = {w: COMPARISONS[w].holds(left, [right]) for w in (how, opposite)}
                self.assertNotEqual(found[how], found[opposite], (how, left, right))


class Checking(unittest.TestCase):
    scope = {"feed": {"title": "text", "link": "text", "categories": "list"}, "page": {"text": "text"}, "any": "any"}

    def says(self, text: str, maybe: dict[str, str] | None = None) -> list[str]:
        return [p.message for p in check(parse(text), self.scope, maybe)]

    def test_what_is_right_has_no_problems(self) -> None:
        self.assertEqual(self.says("<<feed.title>> <<page.text | shorten 4 words>> <<any.thing.below>> <<feed.categories[1]>>"), [])

    def test_an_unknown_step_with_the_nearest_name(self) -> None:
        self.assertEqual(self.says("<<pge.text>>"), ["No earlier step is called “pge”. Did you mean “page”?"])

    def test_an_unknown_value_with_the_nearest_name(self) -> None:
        self.assertEqual(self.says("<<feed.titel>>"), ["“feed” gives no “titel”. Did you mean “title”?"])

    def test_a_step_alone_asks_for_one_of_its_values(self) -> None:
        self.assertIn("Choose one of the values of “feed”: title, link", self.says("<<feed>>")[0])

    def test_nothing_stands_under_a_text(self) -> None:
        self.assertIn("single value", self.says("<<feed.title.first>>")[0])

    def test_unknown_filters_and_wrong_arguments(self) -> None:
        self.assertIn("Did you mean “shorten”?", self.says("<<feed.title | shortn 3>>")[0])
        self.assertIn("shorten 400 words", self.says("<<feed.title | shorten>>")[0])

    def test_the_same_slot_twice_is_a_warning_at_the_second(self) -> None:
        problems = check(parse("<<feed.link>> x <<feed.link>>"), self.scope)
        self.assertEqual([(p.severity, p.start) for p in problems], [("warning", 16)])

    def test_a_muted_step_may_be_missing_unless_there_is_a_fallback(self) -> None:
        self.assertIn("may be missing", self.says("<<page.text>>", {"page": "“page” is muted"})[0])
        self.assertEqual(self.says('<<page.text | otherwise "-">>', {"page": "“page” is muted"}), [])

    def test_positions_lead_to_the_slot(self) -> None:
        problem = check(parse("ab <<nobody.x>> cd"), self.scope)[0]
        self.assertEqual((problem.start, problem.end), (3, 15))
