"""Gathering in live runs: research from a site to a row, a job handed in once, files from forms, random picks that hold."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from practice_town import reports
from tests.runtime.house import WHO, WithHouse
from tests.runtime.test_blocks_live import step
from ulmus.core.workflow import read_file
from ulmus.runtime import files, workflows
from ulmus.store import tables

FORM = {"heading": "h", "fields": [{"name": "report", "label": "r", "type": "file"}]}


class Gathering(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        seal = self.services.sealer.seal
        with self.services.store.write() as session:
            films = {"base_url": f"{self.town.url}/render"}
            session.add(tables.Connection(key="films", kind="service", name="Films", settings=films, sealed=seal({"key": "k"})))

    def live(self, *steps: dict[str, Any]) -> int:
        id_ = self.made(
            {
                "format": "ulmus-workflow",
                "version": 1,
                "name": "W",
                "start": {"id": "start", "kind": "form", "settings": FORM},
                "steps": list(steps),
            }
        )
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def run_it(self, id_: int, **item: Any) -> dict[str, Any]:
        run = self.engine.runs.push(id_, {"title": "x", **item})
        assert run is not None
        record = self.until(run, "done", "failed", seconds=30)
        self.assertEqual(record.state, "done", record.message)
        return dict(self.engine.live(run).state.values)

    JOB = {
        "service": "films",
        "path": "/jobs",
        "body": '{"script": <<start.title>>}',
        "result": "$.video",
        "every": 1,
        "longest": 20,
    }

    def test_a_job_is_handed_in_once_and_followed_until_it_is_ready(self) -> None:
        id_ = self.live(step("film", "run_job", **self.JOB, on_failure={"retries": 2, "wait": 0.05}))
        self.assertIn("/render/films/", self.run_it(id_)["film"]["result"])
        (job,) = self.town.state.jobs.values()
        self.assertEqual(job["asked"], 1)
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(tables.Piece.state)), "sent")
            memory = session.get(tables.StepMemory, (id_, "film"))
        assert memory is not None
        self.assertIn("/render/films/", memory.data["kept"]["result"], "proofs go on with it")

    def test_a_job_whose_reply_is_lost_is_unsure_and_a_person_decides(self) -> None:
        self.town.state.set_fault("render", "lost", 1)
        id_ = self.live(step("film", "run_job", **self.JOB, on_failure={"retries": 2, "wait": 0.05}))
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.assertIn("Nobody can tell", self.until(run, "unsure", seconds=20).message)
        (job,) = self.town.state.jobs.values()
        self.assertEqual(job["asked"], 1, "it is not handed in again by itself")
        key = self.piece(run).key
        self.engine.outbox.decide(self.piece(run).id, "again", "Mara")
        self.until(run, "done", seconds=20)
        self.assertEqual((len(self.town.state.jobs), self.piece(run).key), (1, key), "the same job, under the same key")

    def test_a_restart_while_a_job_is_under_way_hands_in_nothing(self) -> None:
        id_ = self.live(step("film", "run_job", **self.JOB))
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.wait_for(lambda: len(self.town.state.jobs) == 1)
        self.wait_for(lambda: self.piece(run).state == "sent")
        self.reopen()
        self.until(run, "done", seconds=20)
        self.assertEqual([job["asked"] for job in self.town.state.jobs.values()], [1])

    def test_a_proof_hands_in_nothing(self) -> None:
        id_ = self.made(
            {
                "format": "ulmus-workflow",
                "version": 1,
                "name": "W",
                "start": {"id": "start", "kind": "by_hand"},
                "steps": [
                    step("film", "run_job", **self.JOB, played='{"link": "https://films.example/1"}'),
                    step("told", "set_values", values={"link": "<<film.result.link>>"}),
                ],
            }
        )
        with self.services.store.write() as session:
            workflows.add_sample(session, id_, {"title": "Good morning"}, "typed", 1.0)
        with self.services.store.read() as session:
            page = read_file({**session.get_one(tables.WorkflowRecord, id_).document, "format": "ulmus-workflow", "version": 1})
            samples = list(session.scalars(select(tables.Sample)))
        self.proofs.run(id_, page, samples, None, False)

        def proved(name: str) -> Any:
            return next(c.result for c in self.proofs.columns(page, samples)[samples[0].id].cells.values() if c.step == name)

        self.wait_for(lambda: proved("told") is not None)
        self.assertIn("Good morning", str(proved("film").output))
        self.assertEqual(proved("told").output["link"], "https://films.example/1", "what was set for proofs stands for it")
        self.assertEqual(self.town.state.jobs, {})

    def test_a_file_from_a_form_is_read(self) -> None:
        kept = files.keep(self.services, "year.pdf", "application/pdf", reports.pdf("seed-year.pdf"))
        values = self.run_it(self.live(step("report", "read_file", file="<<start.report.link>>")), report=kept)
        self.assertEqual((values["report"]["kind"], values["report"]["name"]), ("pdf", "year.pdf"))

    def test_rows_are_near_in_meaning_though_no_word_is_the_same(self) -> None:
        with self.services.store.write() as session:
            for n, post in enumerate(("Legumes in arid terraces", "Barges and moorings", "Bread from the kitchen"), start=1):
                session.add(tables.SheetRow(sheet="log", position=n, cells={"Post": post, "By": ""}))

        def near(name: str, **more: Any) -> dict[str, Any]:
            return step(name, "find_rows", sheet="log", how="near", most=1, **more)

        meant = near("meant", near="beans on a dry slope", judge="model", least=0.3)
        again = near("again", near="a boat in a lock", judge="model", least=0.3)
        words = near("words", near="beans on a dry slope", least=0.3)
        run = self.live(meant, again, words)
        values = self.run_it(run)
        self.assertEqual(values["meant"]["first"]["Post"], "Legumes in arid terraces")
        self.assertEqual(values["again"]["first"]["Post"], "Barges and moorings")
        self.assertEqual(values["words"]["count"], 0, "not a word is the same")

    def test_rows_of_the_house_are_found(self) -> None:
        with self.services.store.write() as session:
            for n, post in enumerate(("Beans in dry soil", "Boats and locks", "Beans again"), start=1):
                session.add(tables.SheetRow(sheet="log", position=n, cells={"Post": post, "By": ""}))
        find = step("liked", "find_rows", sheet="log", keep='Post contains "beans"', choose="random", most=1)
        near = step("near", "find_rows", sheet="log", how="near", near="a lock for boats", most=1)
        values = self.run_it(self.live(find, near))
        self.assertEqual(values["near"]["first"]["Post"], "Boats and locks")
        self.assertEqual(values["liked"]["count"], 1)
        self.assertIn("Beans", values["liked"]["first"]["Post"])
