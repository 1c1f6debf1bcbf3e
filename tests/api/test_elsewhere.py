"""A file elsewhere as a sheet, through the API: opened, told of, looked at, parted; and what cannot be opened."""

from __future__ import annotations

from tests.api.visitor import WithApi
from ulmus.protocols import filestore


class Elsewhere(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.open_files()
        filestore.save(self.services.web, self.store, "Plans/t.csv", b"Topic,State\nPeas,new\n", "text/csv")

    def test_opened_written_and_parted(self) -> None:
        body = {"name": "Topics", "connection": "files", "place": "Plans/t.csv", "every": 60}
        sheet = self.owner.post("/sheets/outside", body, 201)
        self.assertEqual((sheet["rows"], sheet["outside"]["store"], sheet["outside"]["only_read"]), (1, "The files", False))
        row = self.owner.get("/sheets/topics/rows")["rows"][0]
        self.owner.patch(f"/sheets/topics/rows/{row['id']}", {"cells": {"State": "used"}})
        looked = self.owner.post("/sheets/topics/outside/look")
        self.assertIn("1 row written into the file", looked["outside"]["says"])
        there = filestore.fetch(self.services.web, self.store, "Plans/t.csv").body
        self.assertEqual(there, b"Topic,State\nPeas,used\n")
        columns = {"columns": [{"name": "Subject"}, {"name": "State"}], "renamed": {"Topic": "Subject"}}
        self.assertIn("named in its file", self.owner.put("/sheets/topics/columns", columns, 422)["message"])
        self.visitor("reader").post("/sheets/topics/outside/look", {}, 403)
        self.owner.delete("/sheets/topics/outside")
        self.assertIsNone(next(s for s in self.owner.get("/sheets") if s["key"] == "topics")["outside"])
        self.owner.post("/sheets/topics/outside/look", {}, 404)
        self.owner.put("/sheets/topics/columns", columns)

    def test_what_cannot_be_opened_is_told_and_leaves_no_sheet(self) -> None:
        before = len(self.owner.get("/sheets"))
        for place, connection, status, words in (
            ("Plans/gone.csv", "files", 502, "no file"),
            ("../x.csv", "files", 502, "leads out"),
            ("Plans/t.csv", "", 422, "file store"),
            ("http://10.0.0.1/t.csv", "", 502, ""),
            ("Plans/t.csv", "model", 502, "missing"),
        ):
            with self.subTest(place=place, connection=connection):
                body = {"name": "X", "connection": connection, "place": place}
                self.assertIn(words, self.owner.post("/sheets/outside", body, status)["message"])
        filestore.save(self.services.web, self.store, "Plans/t.pdf", b"%PDF-1.4 x", "application/pdf")
        self.owner.post("/sheets/outside", {"name": "X", "connection": "files", "place": "Plans/t.pdf"}, 502)
        self.assertEqual(len(self.owner.get("/sheets")), before)
