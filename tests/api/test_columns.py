"""Typed columns and conditions through the API: what is wrong is marked and not lost, a file's columns are guessed, rows are found."""

from __future__ import annotations

import io
import json
from typing import Any

from tests.api.visitor import WithApi

CSV = """Company,Site,Founded,Staff,State,Notes
Varley Gardens,https://varley.example,2026-01-02,12,new,short
Okonjo & Daughters,https://okonjo.example,03.02.2026,"1,204",new,other
Lock House,https://lock.example,4 March 2026,7,done,third
Reedmere,https://reedmere.example,2026-05-05,40,new,more
Castel Press,https://castel.example,2026-06-06,3,done,again
Weatherall,https://weather.example,2026-07-07,90,new,last
"""


class Typed(WithApi):
    def setUp(self) -> None:
        super().setUp()
        file = {"file": (io.BytesIO(CSV.encode()), "leads.csv"), "name": "Companies"}
        sheet = self.owner.ask("POST", "/sheets/file", 201, data=file)
        self.key = sheet["key"]

    def found(self, *conditions: tuple[str, str, str], **more: Any) -> list[str]:
        where = json.dumps([{"column": column, "op": op, "value": value} for column, op, value in conditions])
        told = self.owner.get(f"/sheets/{self.key}/rows", where=where, **more)
        self.assertEqual(told["total"], len(told["rows"]))
        return [row["cells"]["Company"] for row in told["rows"]]

    def test_a_file_s_columns_are_guessed_and_its_dates_put_alike(self) -> None:
        sheet = next(one for one in self.owner.get("/sheets") if one["key"] == self.key)
        types = {column["name"]: column["type"] for column in sheet["columns"]}
        self.assertEqual(
            types, {"Company": "text", "Site": "link", "Founded": "date", "Staff": "number", "State": "choice", "Notes": "text"}
        )
        self.assertEqual(next(c["choices"] for c in sheet["columns"] if c["name"] == "State"), ["new", "done"])
        rows = self.owner.get(f"/sheets/{self.key}/rows")["rows"]
        self.assertEqual([row["cells"]["Founded"] for row in rows[:3]], ["2026-01-02", "2026-02-03", "2026-03-04"])
        self.assertTrue(all(row["wrong"] == {} for row in rows))

    def test_what_is_of_another_type_is_marked_and_stays(self) -> None:
        row = self.owner.get(f"/sheets/{self.key}/rows")["rows"][0]
        self.owner.patch(
            f"/sheets/{self.key}/rows/{row['id']}", {"cells": {"Staff": "a dozen", "State": "NEW", "Founded": "1.1.2026"}}
        )
        row = self.owner.get(f"/sheets/{self.key}/rows")["rows"][0]
        self.assertEqual((row["cells"]["Staff"], row["cells"]["State"], row["cells"]["Founded"]), ("a dozen", "new", "2026-01-01"))
        self.assertEqual(list(row["wrong"]), ["Staff"])

    def test_conditions_compare_as_the_type_does_several_at_once_with_words_and_sorted(self) -> None:
        self.assertEqual(self.found(("Staff", "more", "40")), ["Okonjo & Daughters", "Weatherall"])
        self.assertEqual(self.found(("Founded", "less", "2026-03-04")), ["Varley Gardens", "Okonjo & Daughters"])
        self.assertEqual(self.found(("State", "is", "DONE")), ["Lock House", "Castel Press"])
        self.assertEqual(self.found(("State", "is", "new"), ("Staff", "less", "50"), sort="Staff"), ["Varley Gardens", "Reedmere"])
        self.assertEqual(self.found(("Company", "begins", "ree")), ["Reedmere"])
        self.assertEqual(self.found(("Company", "contains", "%")), [])
        self.assertEqual(self.found(("Staff", "is", "1204")), ["Okonjo & Daughters"])
        self.assertEqual(self.found(("Notes", "filled", ""), words="varley"), ["Varley Gardens"])
        self.assertEqual(self.found(("Notes", "empty", "")), [])

    def test_conditions_that_cannot_be_are_told(self) -> None:
        for where in (
            '[{"column": "Gone", "op": "is"}]',
            '[{"column": "Staff", "op": "more", "value": "many"}]',
            "not json",
            '[{"column": "Staff", "op": "; drop"}]',
        ):
            with self.subTest(where):
                self.owner.get(f"/sheets/{self.key}/rows", 422, where=where)
        odd = 'A "quoted" \\ column'
        self.owner.put(f"/sheets/{self.key}/columns", {"columns": [{"name": "Company"}, {"name": odd}], "renamed": {"Notes": odd}})
        self.assertEqual(self.found((odd, "is", "third")), ["Lock House"])
