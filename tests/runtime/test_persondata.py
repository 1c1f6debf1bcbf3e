"""A person's data: found wherever it stands, given out, and gone without a trace, with journals that replay as before."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow
from ulmus.core.mentions import MARK, Mentions
from ulmus.core.workflow import read_file
from ulmus.readmodels.journals import Journals
from ulmus.readmodels.record import run_record
from ulmus.runtime import files, leaving, persondata, records, workflows
from ulmus.store import packed, tables

MAIL, NAME = "ottoline.fenn@mill.example", "Ottoline Fenn"
ASKED = Mentions((MAIL, NAME))


class WithSomebody(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        start = {"id": "call", "kind": "call", "settings": {"known_by": "<<call.body.mail>>", "title": "<<call.body.name>>"}}
        told = "Write to <<call.body.name>> at <<call.body.mail>> about beans in two sentences. We met at the fair in spring."
        steps = [
            {"id": "post", "kind": "draft", "settings": {"model": "model", "prompt": told}, "on_failure": {"retries": 0}},
            {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": WHO}},
            {
                "id": "letter",
                "kind": "send_letter",
                "settings": {
                    "server": "mail",
                    "to": "<<call.body.mail>>",
                    "subject": "For <<call.body.name>>",
                    "text": "<<post.text>>",
                },
            },
            {
                "id": "log",
                "kind": "add_row",
                "settings": {"sheet": "log", "cells": {"Post": "For <<call.body.name>>", "By": "<<call.body.mail>>"}},
            },
        ]
        page = {"format": "ulmus-workflow", "version": 1, "name": "Calls", "start": start, "steps": steps}
        self.id = self.made(page)
        workflows.go_live(self.engine, self.id, WHO)

    def call(self, identity: str = MAIL) -> int | None:
        body = {"name": NAME, "mail": MAIL, "deep": [{"said": f"I am {NAME.upper()} <{MAIL}>"}]}
        return self.engine.runs.push(self.id, {"title": NAME, "body": body}, identity=identity)

    def over(self) -> int:
        run = self.call()
        assert run is not None
        self.answer(run)
        self.until(run, "done")
        return run

    def bytes_with(self, term: str) -> list[str]:
        """The files of the data folder in which a text stands, whatever its letters are like."""
        everything = (path for path in self.folder.rglob("*") if path.is_file())
        return [path.name for path in everything if term.lower().encode() in _unpacked(path).lower()]

    def decisions(self, run: int) -> tuple[Any, ...]:
        state = self.engine.live(run).state
        journal = Journals(self.services.store).of(run)
        return (
            [type(one).__name__ for one in journal],
            state.outcome,
            state.ended,
            state.steps,
            sorted(state.troubles),
            sorted(state.passed),
        )


def _unpacked(path: Path) -> bytes:
    import gzip

    return gzip.decompress(path.read_bytes()) if path.suffix == ".gz" else path.read_bytes()


class Gone(WithSomebody):
    def test_found_given_out_and_removed_without_a_trace(self) -> None:
        first = self.over()
        before = self.decisions(first)
        packed.pack(self.services.store, first)
        second = self.engine.runs.push(self.id, {"title": NAME, "body": {"name": NAME, "mail": MAIL}}, identity="another")
        assert second is not None
        self.answer(second, "decline", note=f"{NAME} knows already")
        self.until(second, "declined")
        later = self.decisions(second)
        kept = files.keep(self.services, "notes.txt", "text/plain", f"Talk with {NAME}.".encode())
        other = files.keep(self.services, "other.txt", "text/plain", b"Talk with Ottoline Fennel.")
        with self.services.store.write() as session:
            leaving.leave(session, MAIL, "Letters", 1.0)
            session.add(tables.Person(who=MAIL, substitute=WHO))
            session.add(tables.Sample(workflow_id=self.id, label=NAME, item={"mail": MAIL}, source="call", created_at=1.0))
            session.add(tables.Audit(at=1.0, who="Ines", did="wrote", what=f"to {NAME}"))
            sheet = session.get_one(tables.Sheet, "log")
            by = records.By(1.0, "Ines")
            (row, _) = records.add(session, sheet, [{"By": MAIL, "Post": "Old"}, {"Post": "Nobody"}], by)
            records.put_cells(session, sheet, [(row.row_id, {"Post": f"New for {NAME}"})], by)
        self.assertTrue(self.bytes_with(MAIL))

        found = persondata.find(self.services, ASKED)
        self.assertEqual(found.open, [])
        self.assertEqual(found.counts["Runs"], 2)
        self.assertEqual(
            {"Rows of sheets", "Runs", "Questions to people", "What went out, and what came back", "Samples and proofs", "Files"}
            - set(found.counts),
            set(),
        )
        self.assertIn("Talk with Ottoline Fenn.", found.examples["Files"][0].words)

        with zipfile.ZipFile(io.BytesIO(persondata.archive(self.services, ASKED))) as archive:
            told = json.loads(archive.read("person.json"))
            self.assertGreaterEqual(len(told["places"]), sum(found.counts.values()))
            (name,) = (one for one in archive.namelist() if one.startswith("files/"))
            self.assertEqual(archive.read(name), f"Talk with {NAME}.".encode())

        removed = persondata.remove(self.services, ASKED, "Ines")
        self.assertEqual(removed, found.counts)
        self.assertEqual(persondata.find(self.services, ASKED).counts, {})
        for term in (MAIL, "Ottoline Fenn."):
            self.assertEqual(self.bytes_with(term), [], "neither in the database, between its pages, in its log, nor in a file")
        # Every journal still says the same.
        self.assertEqual((self.decisions(first), self.decisions(second)), (before, later))
        self.assertEqual(
            [a.by for a in run_record(self.services, self.engine, Journals(self.services.store), first).answers], ["Ines"]
        )
        self.assertEqual(self.piece(first).content["to"], [MARK])
        # What they asked for holds, and nothing is done twice.
        self.assertIsNone(self.call(), "it was here before")
        self.assertIn("left", leaving.why_not(self.services, MAIL))
        self.assertEqual(leaving.gone(self.services, [MAIL, WHO]), {MAIL: "left"})
        # Nobody else is touched; of the files only the one that spoke of them is gone.
        self.assertEqual([row["Post"] for row in self.rows()], ["Nobody"])
        self.assertIsNone(files.fetch(self.services, kept["link"].rpartition("/")[2]))
        self.assertIsNotNone(files.fetch(self.services, other["link"].rpartition("/")[2]))
        with self.services.store.read() as session:
            (trail,) = session.scalars(select(tables.Audit).where(tables.Audit.did == "removed a person’s data"))
        self.assertNotIn("Ottoline", trail.what)
        self.reopen()
        self.assertEqual(self.decisions(first), before)

    def test_what_is_under_way_ends_first(self) -> None:
        run = self.call()
        assert run is not None
        self.question(run)
        self.assertEqual([one.title for one in persondata.find(self.services, ASKED).open][:1], [NAME])
        with self.assertRaises(persondata.StillOpen):
            persondata.remove(self.services, ASKED, "Ines")
        self.assertTrue(self.bytes_with(MAIL), "nothing was changed")
        self.engine.record(run, flow.Cancelled(at=1.0, by="Ines"))
        self.until(run, "cancelled")
        persondata.remove(self.services, ASKED, "Ines")
        self.assertEqual(self.bytes_with(MAIL), [])

    def test_rows_can_stay_with_a_mark_and_pages_are_left_to_people(self) -> None:
        with self.services.store.write() as session:
            records.add(session, session.get_one(tables.Sheet, "log"), [{"By": MAIL, "Post": "Beans"}], records.By(1.0, "Ines"))
        document = self.document(self.id).model_dump(mode="json")
        document["steps"][1]["settings"]["who"] = MAIL
        with self.services.store.write() as session:
            workflows.create(session, read_file(document), 1.0, WHO)
        persondata.remove(self.services, ASKED, "Ines", rows=False, mark="(a reader)")
        self.assertEqual([(row["By"], row["Post"]) for row in self.rows()], [("(a reader)", "Beans")])
        self.assertEqual([one.title for one in persondata.find(self.services, ASKED).by_hand], ["The page “Calls”"])
