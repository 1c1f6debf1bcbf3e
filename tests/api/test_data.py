"""A sheet for other programs: read by an address, written into with a key, and nothing beyond."""

from __future__ import annotations

import json
from typing import Any
from unittest import mock

from tests.api.visitor import WithApi
from ulmus.runtime import records


class Data(WithApi):
    def setUp(self) -> None:
        super().setUp()
        columns = [{"name": "Mail", "type": "mail"}, {"name": "Name"}, {"name": "Staff", "type": "number"}]
        self.owner.post("/sheets", {"name": "People", "columns": columns}, 201)
        rows = [{"Mail": f"p{n}@a.example", "Name": f"=Person {n}", "Staff": str(n)} for n in range(3)]
        self.owner.post("/sheets/people/rows", {"rows": rows}, 201)
        self.owner.post("/sheets", {"name": "Other", "columns": columns}, 201)

    def key(self, may: str = "read") -> dict[str, Any]:
        return dict(self.owner.post("/sheets/people/keys", {"name": "the shop", "may": may}, 201))

    def write(self, body: Any, token: str, status: int = 200) -> Any:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        answer = self.client().post("/api/data/rows", json=body, headers=headers)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json

    def client(self) -> Any:
        return self.owner.client.application.test_client()

    def test_read_as_csv_and_json_without_an_account_narrowed_and_in_pages(self) -> None:
        key = self.key()
        visitor = self.client()
        path = key["csv"].partition("/data/")[2]
        text = visitor.get(f"/data/{path}").data.decode("utf-8-sig").splitlines()
        self.assertEqual(text[:2], ['"Mail","Name","Staff"', '"p0@a.example","\'=Person 0","0"'])
        told = visitor.get(f"/data/{key['token']}/rows.json?offset=1&limit=1&sort=Staff&down=true").json
        self.assertEqual((told["total"], [row["cells"]["Staff"] for row in told["rows"]]), (3, ["1"]))
        where = json.dumps([{"column": "Staff", "op": "more", "value": "0"}])
        narrowed = visitor.get(f"/data/{key['token']}/rows.csv", query_string={"where": where, "sort": "Staff"})
        self.assertEqual(len(narrowed.data.splitlines()), 3)
        self.assertEqual(visitor.get(f"/api/data/{key['token']}/rows").json["total"], 3)
        for address in (f"/data/{key['token']}/rows.json?limit=0", f"/data/{key['token']}/rows.csv?sheet=other"):
            self.assertEqual(visitor.get(address).status_code, 422)
        self.assertIsNotNone(self.owner.get("/sheets/people/keys")[0]["used_at"])

    def test_narrowed_rows_come_all_as_csv_however_many(self) -> None:
        self.owner.post("/sheets/other/rows", {"rows": [{"Mail": f"p{n}@b.example", "Name": "x"} for n in range(2600)]}, 201)
        token = self.owner.post("/sheets/other/keys", {"name": "k"}, 201)["token"]
        text = self.client().get(f"/data/{token}/rows.csv?words=b.example&sort=Mail&down=true").data.decode("utf-8-sig")
        lines = text.splitlines()
        self.assertEqual((len(lines), lines[1]), (2601, '"p9@b.example","x",""'))
        self.assertEqual(len(self.client().get(f"/data/{token}/rows.csv?limit=7").data.splitlines()), 8)
        chosen = self.owner.get("/sheets/other/numbers", words="p25")
        self.assertEqual((len(chosen["ids"]), chosen["total"]), (111, 111))

    def test_a_key_that_was_taken_away_or_guessed_reaches_nothing(self) -> None:
        key = self.key()
        self.owner.ask("DELETE", f"/sheets/people/keys/{key['id']}", 200)
        for token in (key["token"], "x", key["id"], "../people"):
            self.assertIn(self.client().get(f"/data/{token}/rows.csv").status_code, (404,))
        self.write({"rows": [{"Name": "x"}]}, key["token"], 401)
        self.owner.ask("DELETE", "/sheets/people/keys/0", 404)
        self.assertNotIn(key["token"], str(self.owner.get("/sheets/people/keys")))

    def test_rows_are_added_or_written_into_by_what_tells_them(self) -> None:
        token = self.key("write")["token"]
        body = {
            "rows": [{"Mail": "P1@a.example", "Staff": 40}, {"Mail": "new@a.example", "Name": "New", "Staff": None}],
            "by": ["Mail"],
        }
        self.assertEqual(self.write(body, token), {"added": 1, "changed": 1, "left": 0})
        self.assertEqual(self.write(body, token), {"added": 0, "changed": 0, "left": 2})
        rows = self.owner.get("/sheets/people/rows")["rows"]
        self.assertEqual([row["cells"].get("Staff") for row in rows], ["0", "40", "2", ""])
        (change,) = self.owner.get(f"/sheets/people/rows/{rows[1]['id']}/history")[:1]
        self.assertEqual((change["who"], change["before"]["Staff"]), ("the key “the shop”", "1"))
        self.write({"rows": [{"row": rows[0]["id"], "Name": "By its number"}]}, token)
        self.assertEqual(self.owner.get("/sheets/people/rows")["rows"][0]["cells"]["Name"], "By its number")
        passed = self.write({"rows": [{"Mail": "nobody@a.example"}], "by": ["Mail"], "missing": "pass"}, token)
        self.assertEqual(passed, {"added": 0, "changed": 0, "left": 1})

    def test_two_alike_in_one_call_are_one_row_and_a_large_sheet_is_gone_through_once(self) -> None:
        token = self.key("write")["token"]
        rows = [{"Mail": "twice@a.example", "Staff": n} for n in range(2)] + [
            {"Mail": f"p{n}@a.example", "Staff": 9} for n in range(3)
        ]
        with mock.patch.object(records, "by_columns", wraps=records.by_columns) as looked:
            self.assertEqual(self.write({"rows": rows, "by": ["Mail"]}, token), {"added": 1, "changed": 4, "left": 0})
        # Only what was not there at first is looked for once more, and only among rows that came since.
        self.assertTrue(all(call.args[3] > 0 for call in looked.call_args_list))
        self.assertEqual(len(looked.call_args_list), 2)
        self.assertEqual([row["cells"]["Staff"] for row in self.owner.get("/sheets/people/rows")["rows"]], ["9", "9", "9", "1"])

    def test_what_cannot_be_is_told_and_nothing_of_the_call_is_kept(self) -> None:
        reads, writes = self.key()["token"], self.key("write")["token"]
        self.write({"rows": [{"Name": "x"}]}, "", 401)
        self.write({"rows": [{"Name": "x"}]}, "guess", 401)
        self.write({"rows": [{"Name": "x"}]}, reads, 403)
        other = self.owner.post("/sheets/other/rows", {"rows": [{"Name": "o"}]}, 201)
        number = self.owner.get("/sheets/other/rows")["rows"][0]["id"]
        self.assertEqual(other["count"], 1)
        for rows, by in (
            ([{"Name": "kept?"}, {"Phone": "1"}], []),
            ([{"Name": "kept?"}, {"Name": "x" * 60_000}], []),
            ([{"Name": "kept?"}, {"Name": "no mail"}], ["Mail"]),
            ([{"Name": "kept?"}, {"row": number, "Name": "of another sheet"}], []),
            ([{"Name": "kept?"}, {"row": "x", "Name": "y"}], []),
            ([], []),
        ):
            with self.subTest(str(rows)[:60]):
                self.write({"rows": rows, "by": by}, writes, 422)
        self.assertEqual(self.owner.get("/sheets/people/rows")["total"], 3)
        self.assertEqual(self.owner.get("/sheets/other/rows")["rows"][0]["cells"]["Name"], "o")
        self.visitor("reviewer").post("/sheets/people/keys", {"name": "x"}, 403)


class Grid(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.owner.post("/sheets", {"name": "G", "columns": [{"name": "A"}, {"name": "N", "type": "number"}]}, 201)
        self.owner.post("/sheets/g/rows", {"rows": [{"A": "x", "N": "1"}, {"A": "y", "N": "2"}, {"A": "x"}]}, 201)
        self.ids = [row["id"] for row in self.owner.get("/sheets/g/rows")["rows"]]

    def test_many_cells_at_once_taken_back_and_done_again_or_nothing_of_it(self) -> None:
        body = {
            "rows": [{"row": self.ids[0], "cells": {"A": "new"}}, {"row": self.ids[1], "cells": {"A": "new"}}],
            "add": [{"A": "z"}],
        }
        changed = self.owner.post("/sheets/g/write", body)
        self.assertEqual(changed["count"], 3)
        undone = self.owner.post("/row-changes/undo", {"ids": changed["changes"]})
        self.assertEqual((undone["count"], self.column()), (3, ["x", "y", "x"]))
        again = self.owner.post("/row-changes/undo", {"ids": undone["changes"]})
        self.assertEqual((again["count"], self.column()), (3, ["new", "new", "x", "z"]))
        self.owner.post(
            "/sheets/g/write", {"rows": [{"row": self.ids[0], "cells": {"A": "q"}}, {"row": 9999, "cells": {"A": "q"}}]}, 422
        )
        self.assertEqual(self.column()[0], "new")
        self.visitor("reviewer").post("/sheets/g/write", body, 403)

    def column(self) -> list[str]:
        return [row["cells"].get("A", "") for row in self.owner.get("/sheets/g/rows")["rows"]]

    def test_groups_sums_and_views(self) -> None:
        self.assertEqual(self.owner.get("/sheets/g/groups", group="A"), [{"label": "x", "count": 2}, {"label": "y", "count": 1}])
        self.owner.get("/sheets/g/groups", 422, group="Gone")
        told = self.owner.get(
            "/sheets/g/sums", sums=json.dumps([{"column": "N", "what": "mean"}, {"column": "N", "what": "empty"}])
        )
        self.assertEqual([one["value"] for one in told], [1.5, 1])
        self.owner.get("/sheets/g/sums", 422, sums='[{"column": "N", "what": "drop"}]')
        shows = {"group": "A", "hidden": ["N"], "where": [{"column": "A", "op": "is", "value": "x"}]}
        view = self.owner.post("/sheets/g/views", {"name": "Only x", "shows": shows}, 201)
        self.owner.post("/sheets/g/views", {"name": "Only x", "shows": {"sort": "N"}}, 201)
        (kept,) = self.visitor("reader").get("/sheets/g/views")
        self.assertEqual((kept["id"], kept["shows"]["sort"], kept["shows"]["hidden"]), (view["id"], "N", []))
        self.owner.ask("DELETE", f"/sheets/log/views/{view['id']}", 404)
        self.owner.ask("DELETE", f"/sheets/g/views/{view['id']}", 200)
        self.assertEqual(self.owner.get("/sheets/g/views"), [])

    def test_others_are_told_where_one_is(self) -> None:
        with self.house.services.bus.listen() as heard:
            self.visitor("reader").post("/sheets/g/here", {"row": self.ids[0], "column": "A"})
            told = heard.get(timeout=5)
        self.assertEqual((told["topic"], told["key"], told["row"], told["column"]), ("cell", "g", self.ids[0], "A"))
