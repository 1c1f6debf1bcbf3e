"""Rows asked for: found, sorted, grouped and summed alike with and without indexes, against the same worked out by hand."""

from __future__ import annotations

import io
import json
import random
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import select

from ulmus.core import columns as typed
from ulmus.runtime import linked, records, sheetquery, sheets
from ulmus.runtime.services import Services
from ulmus.runtime.sheetquery import Asked, Condition
from ulmus.runtime.sheetreads import SheetReads
from ulmus.store import tables

COLUMNS = [
    {"name": "Name", "type": "text"},
    {"name": "Größe", "type": "number"},
    {"name": "Day", "type": "date"},
    {"name": 'An "odd" one', "type": "text"},
    {"name": "Long", "type": "long"},
]
NAMES = ("Amblin", "äpfel", "Äpfel", "Öd", "od", "Zoë", "", "  ", "zoe", "Ψ", "ψ", "50%", "a_b", "Müller", "Muller", "x" * 300)
NUMBERS = ("1", "1,5", "1.234,50", "1,204", "12 €", "-3", "", "many", "007", "1e5")
DAYS = ("2026-11-28", "2026-11-28 17:00", "2026-11-28T09:30", "1.2.2026", "3 March 2026", "", "soon", "2025-01-01")


class WithSheets(unittest.TestCase):
    def setUp(self) -> None:
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        self.services = Services.open(folder)
        self.addCleanup(self.services.close)

    def sheet(self, rows: list[dict[str, str]], cols: list[dict[str, Any]] = COLUMNS, name: str = "Large") -> str:
        with self.services.store.write() as session:
            sheet = sheets.create(session, name, cols)
            sheets.add_rows(session, sheet, rows)
            return sheet.key


class AsByHand(WithSheets):
    def setUp(self) -> None:
        super().setUp()
        dice = random.Random(7)
        rows = [
            {
                "Name": dice.choice(NAMES),
                "Größe": dice.choice(NUMBERS),
                "Day": dice.choice(DAYS),
                'An "odd" one': dice.choice(("a", "B", "")),
                "Long": dice.choice(("one\ntwo", "Three", "")),
            }
            for _ in range(400)
        ]
        self.key = self.sheet(rows)
        with self.services.store.read() as session:
            row = tables.SheetRow
            self.rows = list(session.scalars(select(row).where(row.sheet == self.key).order_by(row.position)))

    def asked(self, reads: SheetReads, what: Asked) -> list[int]:
        with self.services.store.read() as session:
            return reads.ids(session, session.get_one(tables.Sheet, self.key), what)[0]

    def fits(self, one: Condition, text: str) -> bool:
        kind = next(c["type"] for c in COLUMNS if c["name"] == one.column)
        key, said, number = typed.key(text), typed.key(one.value), typed.number(text)
        day, wanted = (typed.moment(text) or "").replace("T", " "), (typed.moment(one.value) or "").replace("T", " ")
        compared = {
            "empty": not key,
            "filled": bool(key),
            "contains": said in key,
            "begins": key.startswith(said),
        }
        if one.op in compared:
            return compared[one.op]
        if kind == "date" and wanted:
            same = day.startswith(wanted)
            return {
                "is": same,
                "is_not": not same,
                "more": bool(day) and not same and day > wanted,
                "less": bool(day) and day < wanted,
            }[one.op]
        value = typed.number(one.value)
        if kind == "number" and value is not None:
            return {
                "is": number == value,
                "is_not": number != value,
                "more": number is not None and number > value,
                "less": number is not None and number < value,
            }[one.op]
        same = text.strip().casefold() == one.value.strip().casefold()
        return same if one.op == "is" else not same

    def test_conditions_words_and_order_with_and_without_indexes(self) -> None:
        reads = self.services.sheet_reads
        dice = random.Random(3)
        values = {"Name": NAMES, "Größe": NUMBERS, "Day": DAYS, 'An "odd" one': ("a", "b"), "Long": ("two", "three")}
        kinds = {c["name"]: c["type"] for c in COLUMNS}
        for indexed in (False, True):
            with mock.patch.object(sheetquery, "INDEXED_FROM", 10 if indexed else 10_000):
                for _ in range(120):
                    name = dice.choice(list(values))
                    ops = ["is", "is_not", "contains", "begins", "empty", "filled"]
                    ops += ["more", "less"] if kinds[name] in ("number", "date") else []
                    some = tuple(
                        Condition(name, op, dice.choice(values[name]))  # type: ignore[arg-type]
                        for op in dice.sample(ops, dice.choice((1, 1, 2)))
                    )
                    what = Asked("", some, dice.choice(("", "Name", "Größe")), dice.random() < 0.5)
                    if any(one.op in ("more", "less") and not self.comparable(one, kinds[name]) for one in some):
                        with self.assertRaises(sheetquery.NotACondition):
                            self.asked(reads, what)
                        continue
                    with self.subTest(indexed=indexed, what=what):
                        found = self.asked(reads, what)
                        by_hand = [r.id for r in self.rows if all(self.fits(one, r.cells[one.column]) for one in some)]
                        self.assertEqual(set(found), set(by_hand))
                        self.assertEqual(len(found), len(by_hand))
                        if not what.sort:
                            self.assertEqual(found, by_hand)
                reads.settle()
        with self.services.store.engine.connect() as connection:
            named = connection.exec_driver_sql("SELECT count(*) FROM sqlite_master WHERE name GLOB 'cells_*'").scalar()
            self.assertGreater(named or 0, 3)
            self.assertEqual(connection.exec_driver_sql("PRAGMA integrity_check").scalar(), "ok")

    def comparable(self, one: Condition, kind: str) -> bool:
        return (typed.moment(one.value) if kind == "date" else typed.number(one.value)) is not None

    def test_sorted_without_case_and_marks_as_numbers_and_what_is_empty_last(self) -> None:
        reads, cells = self.services.sheet_reads, {r.id: r.cells for r in self.rows}
        for down in (False, True):
            keys = [typed.key(cells[i]["Name"]) for i in self.asked(reads, Asked(sort="Name", down=down))]
            full = [key for key in keys if key]
            self.assertEqual(full, sorted(full, reverse=down))
            self.assertEqual(keys[: len(full)], full)
            numbers = [typed.number(cells[i]["Größe"]) for i in self.asked(reads, Asked(sort="Größe", down=down))]
            known = [n for n in numbers if n is not None]
            self.assertEqual(numbers[: len(known)], sorted(known, reverse=down))

    def test_words_are_found_in_every_column_without_case_and_marks(self) -> None:
        reads = self.services.sheet_reads
        for words in ("apfel", "ÄPFEL", "muller", "50%", "a_b", "two apfel", "ψ"):
            with self.subTest(words):
                wanted = [
                    r.id
                    for r in self.rows
                    if all(any(typed.key(word) in typed.key(text) for text in r.cells.values()) for word in words.split())
                ]
                self.assertEqual(self.asked(reads, Asked(words)), wanted)

    def test_groups_count_the_rows_in_the_order_in_which_they_come(self) -> None:
        reads, cells = self.services.sheet_reads, {r.id: r.cells for r in self.rows}
        narrowed = (Condition("Größe", "filled"),)
        for indexed, some in ((10_000, ()), (10_000, narrowed), (10, ()), (10, narrowed)):
            with mock.patch.object(sheetquery, "INDEXED_FROM", indexed):
                what = Asked("", some, "Größe", True, "Name")
                for _ in range(2):  # before and after there are indexes
                    ids = self.asked(reads, what)
                    with self.services.store.read() as session:
                        groups = reads.groups(session, session.get_one(tables.Sheet, self.key), what)
                    reads.settle()
                    reads._kept.clear()
                self.assertEqual(sum(group.count for group in groups), len(ids))
                at = 0
                for group in groups:
                    mine = ids[at : at + group.count]
                    at += group.count
                    self.assertEqual({typed.key(cells[i]["Name"]) for i in mine}, {typed.key(group.label)})
                    numbers = [typed.number(cells[i]["Größe"]) for i in mine]
                    known = [n for n in numbers if n is not None]
                    self.assertEqual(numbers[: len(known)], sorted(known, reverse=True))

    def test_groups_sorted_by_what_they_are_grouped_by_come_the_same_way_round(self) -> None:
        reads, cells = self.services.sheet_reads, {r.id: r.cells for r in self.rows}
        for down in (False, True):
            for some in ((), (Condition("Größe", "filled"),)):
                what = Asked("", some, "Name", down, "Name")
                ids = self.asked(reads, what)
                with self.services.store.read() as session:
                    groups = reads.groups(session, session.get_one(tables.Sheet, self.key), what)
                self.assertEqual(groups[-1].label, "")
                at = 0
                for group in groups:
                    self.assertEqual({typed.key(cells[i]["Name"]) for i in ids[at : at + group.count]}, {typed.key(group.label)})
                    at += group.count
                self.assertEqual(at, len(ids))

    def test_sums(self) -> None:
        with self.services.store.read() as session:
            sheet = session.get_one(tables.Sheet, self.key)
            wanted = [
                ("Größe", "sum"),
                ("Größe", "most"),
                ("Name", "empty"),
                ("Name", "filled"),
                ("Day", "least"),
                ("Day", "mean"),
            ]
            told = self.services.sheet_reads.sums(session, sheet, Asked(), wanted)  # type: ignore[arg-type]
        numbers = [n for r in self.rows if (n := typed.number(r.cells["Größe"])) is not None]
        self.assertAlmostEqual(float(told[0] or 0), sum(numbers), 4)
        self.assertEqual(told[1], max(numbers))
        empty = sum(not r.cells["Name"].strip() for r in self.rows)
        self.assertEqual(told[2:], [empty, len(self.rows) - empty, "2025-01-01", None])

    def test_what_changed_is_found_at_once_and_what_stayed_is_not_asked_again(self) -> None:
        what = Asked("", (Condition("Name", "is", "Amblin"),))
        before = self.asked(self.services.sheet_reads, what)
        with self.services.store.write() as session:
            session.get_one(tables.SheetRow, before[0]).cells = {"Name": "Other"}
        self.assertEqual(self.asked(self.services.sheet_reads, what), before[1:])
        with mock.patch.object(sheetquery, "row_ids", side_effect=AssertionError):
            self.assertEqual(self.asked(self.services.sheet_reads, what), before[1:])

    def test_after_columns_change_the_indexes_go_with_them(self) -> None:
        with mock.patch.object(sheetquery, "INDEXED_FROM", 10):
            self.asked(self.services.sheet_reads, Asked(sort="Name"))
            self.services.sheet_reads.settle()
            with self.services.store.write() as session:
                sheet = session.get_one(tables.Sheet, self.key)
                sheets.set_columns(session, sheet, [{"name": "Who", "type": "text"}], {"Name": "Who"})
            found = self.asked(self.services.sheet_reads, Asked("", (Condition("Who", "is", "amblin"),), sort="Who"))
            self.assertEqual(len(found), sum(r.cells["Name"] == "Amblin" for r in self.rows))


class Many(WithSheets):
    def test_a_file_is_taken_in_as_it_is_read_and_counted_once(self) -> None:
        body = "Name;Staff\n" + "".join(f"Person {n};{n}\n" for n in range(5000))
        told: list[int] = []
        heads, rows, notes = sheets.from_file(io.BytesIO(body.encode("utf-8-sig")), "people.csv")
        draft = tables.Sheet(key="", name="", columns=[{"name": h, "type": "text"} for h in heads])
        with sheets.staged(draft, rows, told.append) as encoded, self.services.store.write() as session:
            sheet = sheets.create(session, "People", draft.columns)
            self.assertEqual(sheets.add_staged(session, sheet, encoded), 5000)
        self.assertEqual((heads, notes, told), (["Name", "Staff"], [], [2000, 4000]))
        with self.services.store.read() as session:
            self.assertEqual(sheets.held(session, "people"), 5000)
            last = session.scalars(select(tables.SheetRow).order_by(tables.SheetRow.position.desc()).limit(1)).one()
            self.assertEqual((last.position, last.cells["Name"]), (5000, "Person 4999"))
            # A start that watches the sheet sees them all as new.
            self.assertEqual(len(set(session.scalars(select(tables.SheetRow.touched)))), 1)
            self.assertGreater(last.touched, 0)

    def test_a_sheet_that_is_full_takes_nothing_of_a_file(self) -> None:
        key = self.sheet([{"Name": "a"}])
        with mock.patch.object(sheets, "MOST_ROWS", 3), self.services.store.write() as session:
            sheet = session.get_one(tables.Sheet, key)
            with self.assertRaisesRegex(ValueError, "full"):
                sheets.add_staged(session, sheet, [json.dumps({"Name": str(n)}) for n in range(3)])
            session.rollback()
        with self.services.store.read() as session:
            self.assertEqual(sheets.held(session, key), 1)

    def test_rows_that_move_are_counted_where_they_stand(self) -> None:
        key, other = self.sheet([{"Name": "a"}, {"Name": "b"}]), self.sheet([], COLUMNS, "Other")
        with self.services.store.write() as session:
            before = session.scalars(select(tables.SheetRow.touched)).all()
            session.scalars(select(tables.SheetRow)).first().sheet = other  # type: ignore[union-attr]
        with self.services.store.read() as session:
            self.assertEqual((sheets.held(session, key), sheets.held(session, other)), (1, 1))
            moved = session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == other)).one()
            self.assertGreater(moved.touched, max(before))

    def test_taken_back_and_done_again(self) -> None:
        key = self.sheet([{"Name": "a"}, {"Name": "b"}])
        by = records.By(1.0, who="Ines")
        with self.services.store.write() as session:
            sheet = session.get_one(tables.Sheet, key)
            first, second = (r.id for r in session.scalars(select(tables.SheetRow).order_by(tables.SheetRow.position)))
            changes = records.put_cells(session, sheet, [(first, {"Name": "x", "Größe": "3"}), (second, {"Name": "b"})], by)
            self.assertEqual(len(changes), 1)
            changes += records.add(session, sheet, [{"Name": "new"}], by) + records.remove(session, sheet, [second], by)

            def names() -> list[str]:
                return [r.cells["Name"] for r in session.scalars(select(tables.SheetRow).order_by(tables.SheetRow.position))]

            for _ in range(2):
                self.assertEqual(names(), ["x", "new"])
                undone, left = records.undo(session, changes, by)
                self.assertEqual((names(), left), (["a", "b"], []))
                changes, left = records.undo(session, undone, by)
                self.assertEqual(left, [])


class Odd(WithSheets):
    def test_columns_and_keys_of_any_name_are_asked_about(self) -> None:
        names = ["it's", "100% ?", ":x", "a;b --", "$.x[0]", "ключ", 'q"q', "back\\slash", "a.b"]
        cols = [{"name": name, "type": "text"} for name in names]
        with self.services.store.write() as session:
            for key in ("odd-key's", "odd"):
                session.add(tables.Sheet(key=key, name="Odd", columns=cols))
                session.flush()
                sheets.add_rows(session, session.get_one(tables.Sheet, key), [{n: f"{n} {i}" for n in names} for i in range(30)])
        with mock.patch.object(sheetquery, "INDEXED_FROM", 10):
            for _ in range(2):
                for name in names:
                    what = Asked("", (Condition(name, "is", f"{name} 7"),), name, False)
                    with self.subTest(name), self.services.store.read() as session:
                        ids, total = self.services.sheet_reads.ids(session, session.get_one(tables.Sheet, "odd-key's"), what)
                        self.assertEqual(total, 1)
                        found = self.services.sheet_reads.rows(session, ids)
                        self.assertEqual(found[0].cells[name], f"{name} 7")
                        self.assertEqual(records.by_columns(session, "odd", {name: f"{name} 7"}), ids[0] + 30)
                self.services.sheet_reads.settle()
                self.services.sheet_reads._kept.clear()
        with self.services.store.write() as session:
            sheetquery.drop_indexes(session.connection(), "odd")
            left = session.connection().exec_driver_sql("SELECT count(*) FROM sqlite_master WHERE name GLOB 'cells_*'").scalar()
        self.assertEqual(left, 7)

    def test_names_of_columns_follow_into_views_and_links(self) -> None:
        key = self.sheet([], [{"name": "A", "type": "text"}])
        finds = {"sheet": key, "by": "A"}
        other = self.sheet([], [{"name": "X", "type": "text", "finds": finds}], "Other")
        with self.services.store.write() as session:
            shows = {"sort": "A", "where": [{"column": "A", "op": "is", "value": "1"}], "hidden": ["A"], "sums": {"A": "filled"}}
            session.add(tables.SheetView(sheet=key, name="V", shows=shows))
            session.flush()
            sheets.set_columns(session, session.get_one(tables.Sheet, key), [{"name": "B", "type": "text"}], {"A": "B"})
        with self.services.store.read() as session:
            view = session.scalars(select(tables.SheetView)).one().shows
            self.assertEqual(
                (view["sort"], view["where"][0]["column"], view["hidden"], view["sums"]), ("B", "B", ["B"], {"B": "filled"})
            )
            self.assertEqual(session.get_one(tables.Sheet, other).columns[0]["finds"]["by"], "B")


class Linked(WithSheets):
    def test_the_row_a_column_names_gives_its_cells_also_for_many(self) -> None:
        companies = self.sheet(
            [{"Name": "Varley Gärten", "Site": "https://v.example"}, {"Name": "Lock House", "Site": "https://l.example"}],
            [{"name": "Name", "type": "text"}, {"name": "Site", "type": "link"}],
            "Companies",
        )
        finds = {"sheet": companies, "by": "Name"}
        leads = self.sheet([], [{"name": "Lead", "type": "text"}, {"name": "Company", "type": "text", "finds": finds}], "Leads")
        with self.services.store.read() as session:
            sheet = session.get_one(tables.Sheet, leads)
            for count in (1, linked.ONE_BY_ONE + 5):
                linker = linked.Linker(session, sheet)
                for n in range(count):
                    linker.filled({"Company": f"Nobody {n}"})
                told = [
                    linker.filled({"Company": name})["Company: Site"]
                    for name in ("varley  gärten", "Lock House", "Varley Garten", "")
                ]
                self.assertEqual(told, ["https://v.example", "https://l.example", "", ""])
            names = linked.values_of(session.scalars(select(tables.Sheet)))
            self.assertEqual(names[leads], ("Company: Site",))

    def test_a_column_that_finds_nothing_that_is_there_is_refused(self) -> None:
        leads = self.sheet([], [{"name": "Company", "type": "text"}], "Leads")
        for finds in ({"sheet": "gone", "by": "Name"}, {"sheet": leads, "by": "Company"}):
            with self.subTest(finds), self.services.store.write() as session, self.assertRaises(ValueError):
                sheet = session.get_one(tables.Sheet, leads)
                sheets.set_columns(session, sheet, [{"name": "Company", "type": "text", "finds": finds}], {})
