"""Files saved into a store over WebDAV: documents made of texts, never over another's, under names that are safe everywhere."""

from __future__ import annotations

import datetime as dt
import threading
from typing import Any

from tests.protocols.test_pictures import photo
from tests.runtime.house import WHO, WithHouse
from ulmus.protocols import documents, filestore
from ulmus.protocols.documents import typeset
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import files, workflows

TEXT = "# Seed by the water\n\nA **first** line with [a link](https://a.example/x).\n\n1. one\n2. two\n\nЗерно, σπόρος."


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": {"retries": 2, "wait": 0.05}}


class Saving(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.open_files()

    def run_on(self, *steps: dict[str, Any], body: dict[str, Any] | None = None) -> int:
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Files", "start": start, "steps": list(steps)})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "Files", "body": body or {"text": TEXT, "name": "Seed / water: ../<2026>?"}})
        assert run is not None
        return run

    def save(self, **more: Any) -> dict[str, Any]:
        return step(
            "saved", "save_file", **{"store": "files", "folder": "Out", "name": "a.md", "what": "<<item.body.text>>", **more}
        )

    def saved(self, run: int) -> dict[str, Any]:
        self.until(run, "done", seconds=30)
        return dict(self.engine.live(run).state.values["saved"])

    def names(self, folder: str = "Out") -> list[str]:
        return [entry.name for entry in filestore.listing(self.services.web, self.store, folder)]

    def read(self, path: str) -> bytes:
        return filestore.fetch(self.services.web, self.store, path).body


class Documents(Saving):
    def test_a_text_becomes_the_document_its_name_says(self) -> None:
        for ending in ("docx", "odt", "pdf"):
            with self.subTest(ending=ending):
                saved = self.saved(self.run_on(self.save(name=f"Report.{ending}")))
                self.assertEqual(saved["path"], f"Out/Report.{ending}")
                body = self.read(saved["path"])
                self.assertEqual(saved["size"], len(body))
                found = documents.read(body, saved["name"])
                self.assertEqual((found.kind, found.title), (ending, "Report"))
                self.assertEqual(found.headings[0]["words"], "Seed by the water")
                for words in ("first line", "two", "Зерно, σπόρος."):
                    self.assertIn(words, " ".join(found.text.split()))

    def test_html_too_with_the_pictures_that_are_kept_here(self) -> None:
        link = files.keep(self.services, "lock.jpg", "image/jpeg", photo())["link"]
        page = f'<h2>Lock</h2><p>See <img src="{link}" alt="a lock"></p><script>x</script>'
        plain = self.read(
            self.saved(self.run_on(self.save(name="a.docx", what=page.replace(link, "https://a.example/x.jpg"))))["path"]
        )
        with_it = self.read(self.saved(self.run_on(self.save(name="b.docx", what=page)))["path"])
        self.assertGreater(len(with_it), len(plain))
        self.assertNotIn("x</script", documents.read(with_it, "b.docx").text)

    def test_what_a_pdf_cannot_show_is_told_before_anything_is_saved(self) -> None:
        run = self.run_on(self.save(name="a.pdf", what="Seed 種"))
        self.assertIn("cannot show “種”", self.until(run, "failed").message)

    def test_no_html_however_odd_keeps_a_document_from_being_made(self) -> None:
        odd = (
            '<a href="#top">here</a> <a href="/x">there</a>',
            "<table></table><table><tr></tr></table><table><tr><td>1</td></tr><tr><td>1</td><td>2</td></tr></table><p>x</p>",
            "<ul><ul><li>deep</li></ul></ul><li>lone</li><ol><li><p>a</p><p>b</p></li></ol>",
            "<p>a\u200bb\u00adc\tand</p><pre>x\ty</pre>",
            f"<p>{'x' * 5000}</p><h1>{'long ' * 200}</h1><hr><hr>",
        )
        moment = dt.datetime(2026, 11, 28, tzinfo=dt.UTC)
        for page in odd:
            for kind in typeset.TYPES:
                with self.subTest(page=page[:30], kind=kind):
                    self.assertTrue(documents.read(typeset.typeset(kind, "T", page, {}, moment), f"a.{kind}").text.strip())

    def test_what_has_another_ending_stays_as_it_is(self) -> None:
        self.assertEqual(self.read(self.saved(self.run_on(self.save()))["path"]).decode(), TEXT)


class Names(Saving):
    def test_a_slash_is_no_folder_and_the_receipt_says_the_same(self) -> None:
        saved = self.saved(self.run_on(self.save(name="<<item.body.name>>.md")))
        self.assertEqual(saved["name"], "Seed - water- ..-2026-.md")
        self.assertEqual((self.names(), saved["path"]), ([saved["name"]], f"Out/{saved['name']}"))

    def test_nothing_leads_out_and_no_name_is_too_long(self) -> None:
        run = self.run_on(self.save(folder="Out/../.."))
        self.assertIn("leads out", self.until(run, "failed").message)
        saved = self.saved(self.run_on(self.save(name="<<item.body.text>>.md"), body={"text": "ü" * 190, "name": ""}))
        self.assertLessEqual(len(saved["name"].encode()), 200)
        self.assertTrue(saved["name"].endswith(".md"))

    def test_another_runs_file_is_left_alone_unless_that_is_said(self) -> None:
        names = [self.saved(self.run_on(self.save(what=f"No. {n}")))["name"] for n in range(3)]
        self.assertEqual(names, ["a.md", "a 2.md", "a 3.md"])
        over = self.saved(self.run_on(self.save(what="New", there="over")))
        self.assertEqual((over["name"], self.read("Out/a.md")), ("a.md", b"New"))
        self.assertEqual(self.read("Out/a 2.md"), b"No. 1")

    def test_several_go_into_a_folder_of_their_own(self) -> None:
        links = [files.keep(self.services, "same.jpg", "image/jpeg", photo(size))["link"] for size in (80, 81)]
        for path in ("Out/Kit", "Out/Kit 2"):
            saved = self.saved(self.run_on(self.save(name="Kit", what="\n".join(links))))
            self.assertEqual(saved["path"], path)
            self.assertEqual(self.names(path), ["same 2.jpg", "same.jpg"])


class Trouble(Saving):
    def test_after_a_lost_answer_it_is_seen_to_be_there(self) -> None:
        self.saved(self.run_on(self.save(what="Another's")))
        self.fault("files", "lost", 1)
        saved = self.saved(self.run_on(self.save(what="Mine")))
        self.assertEqual((saved["name"], self.names()), ("a 2.md", ["a 2.md", "a.md"]))

    def test_one_that_is_still_on_its_way_is_not_saved_beside_itself(self) -> None:
        put, late = filestore._put, threading.Event()

        def slow(*arguments: Any) -> Any:
            if not late.is_set():
                late.set()
                threading.Timer(0.15, put, arguments).start()
                raise OutsideError("The line broke.", retryable=True, ambiguous=True)
            return put(*arguments)

        filestore._put = slow
        self.addCleanup(setattr, filestore, "_put", put)
        saved = self.saved(self.run_on(self.save()))
        self.assertEqual((saved["name"], self.names()), ("a.md", ["a.md"]))

    def test_a_name_that_is_only_an_ending_says_so(self) -> None:
        run = self.run_on(self.save(name='<<item.body.none | otherwise "">>.docx'))
        self.assertIn("no name before its ending", self.until(run, "failed").message)

    def test_each_refusal_has_words_of_its_own(self) -> None:
        for mode, words in (("locked", "is locked: somebody has it open"), ("full", "The file store is full")):
            with self.subTest(mode=mode):
                self.fault("files", mode)
                self.assertIn(words, self.until(self.run_on(self.save()), "failed", seconds=30).message)
        self.fault("files", "")
        self.saved(self.run_on(self.save(name="Taken", folder="Out/Taken/x")))
        run = self.run_on(self.save(name="Taken", there="over"))
        self.assertIn("A folder is called “Out/Taken” already", self.until(run, "failed").message)
        run = self.run_on(self.save(name="b.md", folder="Out/Taken/x/Taken"))
        self.assertIn("is a file and no folder", self.until(run, "failed").message)

    def test_broken_off_in_the_middle_of_several_a_person_is_asked(self) -> None:
        links = [files.keep(self.services, f"{size}.jpg", "image/jpeg", photo(size))["link"] for size in (80, 81)]
        put = filestore._put
        calls: list[str] = []

        def broken(*arguments: Any) -> Any:
            calls.append(arguments[2])
            if len(calls) == 2:
                self.fault("files", "full", 1)
            return put(*arguments)

        filestore._put = broken
        self.addCleanup(setattr, filestore, "_put", put)
        run = self.run_on(self.save(name="Kit", what="\n".join(links)))
        self.wait_for(lambda: self.piece(run).state == "unsure", lambda: self.piece(run).state, 30)
        self.assertIn("1 of 2 files were saved into “Out/Kit”", self.piece(run).message)
