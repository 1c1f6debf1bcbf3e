"""Blocks and conditions of the value language: by examples and by properties."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.short import examples
from ulmus.core.slots import (
    check,
    check_condition,
    check_value,
    clauses_of,
    fits,
    items_of,
    parse,
    parse_condition,
    render,
    value_in,
)
from ulmus.core.slots.filters import FILTERS, MISSING, number_of
from ulmus.core.slots.render import LONGEST_OUTPUT
from ulmus.core.slots.tree import (
    Both,
    Condition,
    Each,
    Either,
    Filter,
    If,
    Literal,
    Negated,
    Path,
    Slot,
    SlotError,
    Template,
    Test,
    Text,
    Value,
)

VALUES: dict[str, Any] = {
    "search": {
        "results": [
            {"title": "Beans", "score": "high", "published": "2026-03-02", "link": "http://a.example/1"},
            {"title": "Peas", "score": "low", "published": "2026-03-09", "link": "http://a.example/2"},
            {"title": "Leeks", "score": "High ", "published": "2026-02-01", "link": "http://a.example/1"},
        ],
        "count": 3,
    },
    "row": {"Company name": "Amblin", "price": "12,50", "empty": "", "note": None},
    "tags": ["b", "a", "B"],
}


def fill(text: str, place: Any = "text") -> str:
    return render(parse(text), VALUES, place).text


class InRunningText(unittest.TestCase):
    def test_a_list(self) -> None:
        self.assertEqual(fill("<<each search.results as r>><<each.number>>. <<r.title>>\n<<end>>"), "1. Beans\n2. Peas\n3. Leeks\n")

    def test_a_list_within_a_list_and_a_value_from_around(self) -> None:
        text = '<<each search.results as r>><<each tags as t>><<r.title>><<t>><<row."Company name">> <<end>><<end>>'
        self.assertTrue(fill(text).startswith("BeansbAmblin BeansaAmblin"))

    def test_filters_on_the_list(self) -> None:
        self.assertEqual(
            fill('<<each search.results | keep score is "high" | sort by published as r>><<r.title>> <<end>>'), "Leeks Beans "
        )
        self.assertEqual(fill("<<search.results | drop repeats by link | pick title | join>>"), "Beans, Peas")
        self.assertEqual(fill("<<tags | sort | join>> <<tags | drop repeats | join>> <<tags | reverse | first>>"), "a, b, B b, a B")

    def test_conditions(self) -> None:
        text = "<<if search.count > 2>>many<<otherwise>>few<<end>>"
        self.assertEqual(fill(text), "many")
        self.assertEqual(fill("<<if row.empty is not empty>>x<<end>>"), "")

    def test_what_is_left_open_or_closes_nothing_is_marked_and_nothing_is_lost(self) -> None:
        for text in ("a <<each tags as t>> b", "a <<end>> b", "a <<otherwise>> b", "<<if x is>> b", "<<each tags>> b <<end>>"):
            with self.subTest(text=text):
                template = parse(text)
                self.assertTrue(template.errors)
                self.assertEqual(str(template), text)
                self.assertIsInstance(fill(text), str)

    def test_a_name_given_by_a_block_is_no_dependence(self) -> None:
        text = 'x <<each a.list as r>><<r.title>><<b.x>><<end>><<if c.y is "1">><<d>><<end>>'
        self.assertEqual([str(p) for p in parse(text).reads], ["a.list", "b.x", "c.y", "d"])

    def test_the_output_of_lists_in_lists_is_bounded(self) -> None:
        for inside in ("", "x"):
            deep = "<<each l as a>>" * 6 + inside + "<<end>>" * 6
            text = render(parse(deep), {"l": list(range(300))}).text
            self.assertLessEqual(len(text), LONGEST_OUTPUT)
            self.assertEqual(text.strip("x"), "")


class Conditions(unittest.TestCase):
    def holds(self, text: str) -> bool:
        self.assertNotIsInstance(parse_condition(text), SlotError, text)
        return fits(text, VALUES)

    def test_in_words(self) -> None:
        for text, expected in (
            ('search.results[1].score is "high"', True),
            ('search.results[3].score is "HIGH"', True),
            ("row.price is 12.5", True),
            ("row.price is more than 12 and row.price <= 13", True),
            ('search.results[1].published is before "2026-03-05"', True),
            ('search.results[1].published is after "1 March 2026"', True),
            ('tags contains "a" and not tags contains "z"', True),
            ('row."Company name" starts with "am" or search.count is 4', True),
            ('row."Company name" ends with "x"', False),
            ("row.nothing is empty and row.note is empty", True),
            ("row.nothing > 3 or row.nothing < 3", False),
            ("search.count is one of 1, 2, 3", True),
            ('row."Company name" is not one of "A", "B"', True),
            ("(search.results | count) is at least 3", True),
            ('tags does not contain "q"', True),
            ("not (search.count is 3 or search.count is 4)", False),
        ):
            with self.subTest(text=text):
                self.assertEqual(self.holds(text), expected)

    def test_an_empty_one_always_holds_and_one_that_cannot_be_read_never(self) -> None:
        self.assertTrue(fits("  ", VALUES))
        self.assertFalse(fits("search.count is", VALUES))

    def test_faults_say_where(self) -> None:
        for text in ("search.count is", "is high", 'a == "b"', "a and b", "x is (y)"):
            with self.subTest(text=text):
                error = parse_condition(text)
                assert isinstance(error, SlotError)
                self.assertIn("Write it like", error.message)

    names = st.from_regex(r"[a-h][a-z0-9]{0,5}", fullmatch=True).filter(lambda n: n not in ("and", "contains", "ends", "as"))
    texts = st.text(st.characters(blacklist_characters="\n", blacklist_categories=("Cs",)), max_size=8)
    paths = st.builds(
        lambda root, rest: Path((root, *rest)), names, st.lists(st.one_of(names, texts, st.integers(1, 9)), max_size=2)
    )
    literals = st.one_of(texts, st.integers(-99, 99)).map(Literal)
    filters = st.builds(lambda n: Filter(n), st.sampled_from(["count", "lower", "words"]))
    values = st.builds(lambda p, f: Value(p, tuple(f)), paths, st.lists(filters, max_size=2))
    operands = st.one_of(values, literals)
    tests = st.one_of(
        st.builds(
            lambda a, how, b: Test(a, how, (b,)),
            operands,
            st.sampled_from(["is", "is not", "contains", ">", "<=", "is after", "starts with"]),
            operands,
        ),
        st.builds(lambda a, how: Test(a, how), operands, st.sampled_from(["is empty", "is not empty"])),
        st.builds(lambda a, b: Test(a, "is one of", tuple(b)), operands, st.lists(operands, min_size=1, max_size=3)),
    )
    conditions: st.SearchStrategy[Condition] = st.recursive(
        tests,
        lambda inner: st.one_of(
            st.lists(inner, min_size=2, max_size=3).map(lambda c: Either(tuple(c))),
            st.lists(inner, min_size=2, max_size=3).map(lambda c: Both(tuple(c))),
            inner.map(Negated),
        ),
        max_leaves=6,
    )

    @examples(200)
    def test_comparisons_are_told_apart(self) -> None:
        joined, clauses = clauses_of(parse_condition('mail.subject contains "price" or n > 3 or a is b.c'))  # type: ignore[arg-type, misc]
        self.assertEqual(joined, "or")
        self.assertEqual(
            [(c.left, c.how, c.right, c.is_value) for c in clauses],
            [("mail.subject", "contains", ("price",), False), ("n", "is more than", ("3",), False), ("a", "is", ("b.c",), True)],
        )
        self.assertIsNone(clauses_of(parse_condition('a is one of "x, y", "z"')))  # type: ignore[arg-type]
        self.assertIsNone(clauses_of(parse_condition('a is "x" and (b is "y" or c is "z")')))  # type: ignore[arg-type]

    @given(conditions)
    def test_parse_print_parse_is_the_identity(self, condition: Condition) -> None:
        again = parse_condition(str(condition))
        self.assertEqual(str(again), str(condition))
        self.assertNotIsInstance(again, SlotError)
        self.assertEqual(parse_condition(str(again)), again)

    @examples(200)
    @given(conditions, st.dictionaries(names, st.one_of(st.none(), texts, st.integers()), max_size=5))
    def test_taken_apart_and_put_together_it_decides_the_same(self, condition: Condition, values: dict[str, Any]) -> None:
        apart = clauses_of(condition)
        if apart is not None:
            joined, clauses = apart
            self.assertEqual(fits(f" {joined} ".join(map(str, clauses)), values), fits(str(condition), values))

    @given(conditions, st.dictionaries(names, st.one_of(st.none(), texts, st.integers(), st.lists(texts, max_size=2)), max_size=5))
    def test_deciding_never_raises(self, condition: Condition, values: dict[str, Any]) -> None:
        self.assertIn(fits(str(condition), values), (True, False))


class Templates(unittest.TestCase):
    slots = st.builds(lambda p: Slot(p), Conditions.paths)
    plain = st.text(st.characters(blacklist_characters="<>", blacklist_categories=("Cs",)), min_size=1, max_size=6).map(Text)
    parts: Any = st.recursive(
        st.one_of(plain, slots),
        lambda inner: st.one_of(
            st.builds(lambda v, n, b: Each(v, n, tuple(b)), Conditions.values, st.just("it"), st.lists(inner, max_size=3)),
            st.builds(
                lambda c, a, b: If(c, tuple(a), tuple(b) if b else None),
                Conditions.conditions,
                st.lists(inner, max_size=2),
                st.lists(inner, max_size=2),
            ),
        ),
        max_leaves=8,
    )

    @examples(200)
    @given(st.lists(parts, max_size=4))
    def test_parse_print_parse_is_the_identity(self, parts: list[Any]) -> None:
        text = str(Template(tuple(parts)))
        again = parse(text)
        self.assertEqual(str(again), text)
        self.assertFalse(again.errors)
        self.assertEqual(parse(str(again)), again)

    def test_a_number_with_odd_space_round_it_is_a_number(self) -> None:
        for text in ("0\x1f", "\x1c4,5\u2003", " 7\n", "\u0663"):
            self.assertIsInstance(number_of(text), float, repr(text))

    @examples(200)
    @given(st.lists(parts, max_size=4), st.sampled_from(["text", "html", "json", "url"]))
    def test_rendering_never_raises(self, parts: list[Any], place: Any) -> None:
        self.assertIsInstance(render(parse(str(Template(tuple(parts)))), VALUES, place).text, str)

    def test_a_megabyte_of_blocks_is_filled_in_like_a_line_of_them(self) -> None:
        piece = '<<each search.results as r>><<if r.score is "high">><<r.title>><<otherwise>>-<<end>><<end>> and more\n'
        times = 1_000_000 // len(piece)
        self.assertEqual(fill(piece * times), fill(piece) * times)


class Filters(unittest.TestCase):
    def test_each_new_one(self) -> None:
        values = {
            "t": "One two",
            "d": "2026-03-09",
            "n": "3",
            "m": "2026-03-09T08:00:00+00:00",
            "l": ["1", "2,5"],
            "j": '{"a": [1]}',
            "h": "a - b",
        }
        for text, expected in (
            ('t | replace "two" "three"', "One three"),
            ('h | before "-" | trim', "a"),
            ('h | after "-" | trim', "b"),
            ('h | split "-" | count', "2"),
            ("t | words", "2"),
            ("t | slug", "one-two"),
            ("t | lower | capital", "One two"),
            ("l | sum", "3.5"),
            ("n | plus 1", "4"),
            ("n | minus 4", "-1"),
            ("n | times 2.5", "7.5"),
            ("n | over 0", "3"),
            ("n | over 2 | round", "2"),
            ("d | later 3 days", "2026-03-12"),
            ("d | later -1 months", "2026-02-09"),
            ("m | later 90 minutes", "2026-03-09T09:30:00+00:00"),
            ("j | read json | pick a", "1"),
            ("t | paragraphs", "<p>One two</p>"),
        ):
            with self.subTest(text=text):
                self.assertEqual(render(parse(f"<<{text}>>"), values).text, expected)

    def test_thousands_and_lines(self) -> None:
        self.assertEqual(render(parse("<<n | thousands>>"), {"n": 1234567}).text, "1,234,567")
        self.assertEqual(value_in("<<t | lines>>", {"t": "a\n\n b \n"}), ["a", "b"])

    def test_a_lone_slot_keeps_its_value_and_a_text_is_taken_line_by_line(self) -> None:
        self.assertEqual(value_in(" <<search.results>> ", VALUES), VALUES["search"]["results"])
        self.assertEqual(items_of("a\n\nb"), ["a", "b"])
        self.assertIs(value_in("<<nothing.here>>", VALUES), MISSING)

    def test_a_text_with_slots_is_filled_in_before_it_is_taken_line_by_line(self) -> None:
        values = {"whom": {"name": "Ada"}, "more": "c\nd"}
        self.assertEqual(
            items_of(value_in("For you, <<whom.name>>\nTo <<nobody.name>>all\n<<more>>", values)),
            ["For you, Ada", "To all", "c", "d"],
        )
        self.assertEqual(value_in("no slot", values), "no slot")
        self.assertEqual(items_of({"a": 1}), [{"a": 1}])
        self.assertEqual(items_of(None), [])
        self.assertEqual(items_of(list(range(9)), 4), [0, 1, 2, 3])

    @examples(300)
    @given(
        st.sampled_from(sorted(FILTERS)),
        st.one_of(
            st.none(),
            st.text(max_size=9),
            st.integers(),
            st.floats(),
            st.lists(st.one_of(st.text(max_size=3), st.dictionaries(st.text(max_size=2), st.integers())), max_size=3),
        ),
        st.lists(st.one_of(st.text(max_size=4), st.integers()), max_size=3),
    )
    def test_none_raises_on_any_value_or_argument(self, name: str, value: Any, arguments: list[Any]) -> None:
        kind = FILTERS[name]
        if kind.least <= len(arguments) <= kind.most:
            kind.apply(value, *arguments)


class Checking(unittest.TestCase):
    scope = {"search": {"results": [{"title": "text", "score": "text"}], "count": "number"}, "page": {"text": "text"}, "it": "text"}

    def says(self, text: str, maybe: dict[str, str] | None = None) -> list[str]:
        return [p.message for p in check(parse(text), self.scope, maybe)]

    def test_names_inside_a_block_are_those_of_the_lists_elements(self) -> None:
        self.assertEqual(self.says("<<each search.results as r>><<r.title>> <<each.number>><<end>>"), [])
        self.assertIn("Did you mean “title”", self.says("<<each search.results as r>><<r.titel>><<end>>")[0])
        self.assertIn("Did you mean “score”", self.says('<<search.results | keep scor is "x" | pick title>>')[0])
        self.assertIn("is a list", self.says("<<search.results.title>>")[0])
        self.assertIn("not a list", self.says("<<each search.count as r>>x<<end>>")[0])
        self.assertIn("No earlier step", self.says("<<r.title>>")[0])

    def test_what_may_be_missing_unless_it_is_asked_about(self) -> None:
        maybe = {"page": "the lane “a” may not run"}
        self.assertIn("may be missing: the lane", self.says("<<page.text>>", maybe)[0])
        self.assertEqual(self.says("<<if page.text is not empty>><<page.text>><<end>>", maybe), [])
        self.assertEqual(self.says('<<page.text | otherwise "x">>', maybe), [])

    def test_conditions_and_lone_values(self) -> None:
        self.assertEqual(check_condition("search.count > 3 and it is empty", self.scope), [])
        self.assertIn("gives no", check_condition("search.cuont > 3", self.scope)[0].message)
        self.assertEqual(check_value("<<search.results | first 3>>", self.scope), [])
        self.assertIn("one slot", check_value("see <<search.results>>", self.scope)[0].message)
        self.assertEqual(check_value("a line\nanother", self.scope), [])
