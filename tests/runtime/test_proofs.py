"""Proofs: made once, kept by what they depend on, and nothing leaves the house."""

from __future__ import annotations

from typing import Any
from unittest import mock

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse, page
from ulmus.core.workflow import read_file
from ulmus.protocols import chat
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import execution, workflows
from ulmus.runtime.proofing import Cell
from ulmus.store import tables


class WithPage(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.made(page(self.town.url))
        workflows.capture(self.engine, self.id_, 3)

    @property
    def samples(self) -> list[tables.Sample]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Sample).order_by(tables.Sample.id)))

    def cells(self) -> dict[str, list[str]]:
        columns = self.proofs.columns(self.document(self.id_), self.samples)
        return {line.id: [columns[s.id].cells[line.id].state for s in self.samples] for line in self.document(self.id_).steps}

    def cell(self, step: str, sample: int = 0) -> Cell:
        return self.proofs.columns(self.document(self.id_), self.samples)[self.samples[sample].id].cells[step]

    def make(self, steps: set[str] | None = None, samples: list[int] | None = None, again: bool = False) -> None:
        chosen = [s for i, s in enumerate(self.samples) if samples is None or i in samples]
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.proofs.run(self.id_, self.document(self.id_), chosen, steps, again)

    def edit(self, step: str, **settings: Any) -> None:
        document = self.document(self.id_).model_dump(mode="json")
        line = next(s for s in document["steps"] if s["id"] == step)
        muted = settings.pop("muted", line["muted"])
        line["settings"].update(settings)
        line["muted"] = muted
        with self.services.store.write() as session:
            version = session.get_one(tables.WorkflowRecord, self.id_).version
            workflows.save(session, self.id_, read_file(document), version, 1.0)

    def calls(self) -> int:
        return self.town.state.counts.get("model", 0)


class OfTheBrand(WithPage):
    """What the brand never says holds for drafts that name no brand."""

    def never(self, words: str) -> None:
        with self.services.store.write() as session:
            brand = session.get_one(tables.Brand, "marrowbank")
            brand.facts = {**brand.facts, "never": words}

    def test_its_rules_hold_in_proofs_in_runs_and_at_the_desk(self) -> None:
        self.edit("post", standing="", prompt="One post.\nTitle: <<feed.title>>\n<<page.text>>")
        self.make({"post"})
        self.assertEqual(self.cells()["post"], ["fresh"] * 3)
        self.never("zebra crossing")
        self.assertEqual(self.cells()["post"], ["stale"] * 3, "another rule holds now")
        self.make({"post"}, [0])
        proof = self.cell("post").result
        assert proof is not None
        self.assertIn("no banned words", [f["says"] for f in proof.detail["rounds"][-1]["findings"]])
        workflows.go_live(self.engine, self.id_, WHO)
        run = self.new_item(self.id_)
        self.question(run)
        values = {"post": {"text": "x"}, "brand": {"never": "zebra crossing"}}
        line = self.document(self.id_).line("post")
        self.assertIn("says “zebra crossing”", execution.broken_rules(line, values, "At the zebra crossing."))


class Making(WithPage):
    def test_samples_are_the_starts_latest_items_without_repeats(self) -> None:
        self.assertEqual(len({s.label for s in self.samples}), 3)
        self.assertEqual(workflows.capture(self.engine, self.id_, 2), 2)
        self.assertEqual(len({s.item["identity"] for s in self.samples}), 5)

    def test_a_new_page_has_empty_cells_and_then_fresh_ones(self) -> None:
        self.assertEqual(set(map(tuple, self.cells().values())), {("empty",) * 3})
        self.make()
        self.assertEqual(set(map(tuple, self.cells().values())), {("fresh",) * 3})
        self.assertTrue(self.cell("post").result.output["text"])  # type: ignore[union-attr]

    def test_nothing_leaves_the_house(self) -> None:
        self.make()
        with self.services.store.read() as session:
            for table in (tables.Piece, tables.SheetRow, tables.Approval, tables.Run):
                self.assertEqual(session.scalar(select(func.count()).select_from(table)), 0, table.__tablename__)
        self.assertEqual((self.posts(), self.town.state.mails), ([], []))
        self.assertEqual(self.town.state.counts.get("network", 0), 0)

    def test_what_would_go_out_and_be_written_is_shown(self) -> None:
        self.make()
        out, log = self.cell("out").result, self.cell("log").result
        assert out is not None
        assert log is not None
        self.assertEqual(out.detail["would"], "send")
        self.assertEqual(out.output["text"], self.cell("post").result.output["text"])  # type: ignore[union-attr]
        self.assertEqual(log.detail["would"], "write")
        self.assertEqual(log.detail["cells"]["Post"], out.output["text"])

    def test_what_is_fresh_is_not_asked_for_again(self) -> None:
        self.make()
        before = self.calls()
        self.make()
        self.reopen()
        self.make()
        self.assertEqual(self.calls(), before)
        self.assertEqual(set(map(tuple, self.cells().values())), {("fresh",) * 3})

    def test_running_one_cell_makes_what_it_needs_first_and_no_more(self) -> None:
        self.make({"post"}, [1])
        self.assertEqual(
            self.cells(),
            {
                "page": ["empty", "fresh", "empty"],
                "post": ["empty", "fresh", "empty"],
                "editor": ["empty"] * 3,
                "out": ["empty"] * 3,
                "log": ["empty"] * 3,
            },
        )

    def test_asking_again_on_purpose_calls_the_model(self) -> None:
        self.make()
        before = self.calls()
        self.make({"post"}, [0], again=True)
        self.assertEqual(self.calls(), before + 1)

    def test_an_answer_that_comes_out_the_same_leaves_what_follows_fresh(self) -> None:
        self.make()
        self.make({"post"}, again=True)
        self.assertEqual(self.cells()["log"], ["fresh"] * 3)


class Editing(WithPage):
    def setUp(self) -> None:
        super().setUp()
        self.make()

    def test_an_edit_puts_out_of_date_exactly_what_follows(self) -> None:
        self.edit("post", prompt="Another post.\n<<page.text>>")
        found = self.cells()
        self.assertEqual(found["page"], ["fresh"] * 3)
        for step in ("post", "editor", "out", "log"):
            self.assertEqual(found[step], ["stale"] * 3, step)

    def test_undoing_the_edit_makes_it_fresh_without_a_call(self) -> None:
        before, prompt = self.calls(), "One post.\nTitle: <<feed.title>>\n<<page.text>>"
        self.edit("post", prompt="Another.\n<<page.text>>")
        self.edit("post", prompt=prompt)
        self.assertEqual(set(map(tuple, self.cells().values())), {("fresh",) * 3})
        self.assertEqual(self.calls(), before)

    def test_an_edit_of_the_last_line_touches_nothing_else(self) -> None:
        self.edit("log", cells={"Post": "<<feed.title>>"})
        self.assertEqual([s for s, states in self.cells().items() if states != ["fresh"] * 3], ["log"])

    def test_a_changed_rule_is_measured_anew(self) -> None:
        self.edit("post", rules=[{"rule": "length", "most": 120}])
        self.make()
        result = self.cell("post").result
        assert result is not None
        self.assertLessEqual(len(result.output["text"]), 120)

    def test_a_rule_that_cannot_be_kept_is_shown_broken(self) -> None:
        self.edit("post", rules=[{"rule": "length", "least": 5000}], revisions=1)
        self.make({"post"}, [0])
        result = self.cell("post").result
        assert result is not None
        self.assertEqual(len(result.detail["rounds"]), 2)
        self.assertFalse(result.detail["rounds"][-1]["findings"][0]["kept"])
        self.assertEqual(result.usage["calls"], 2)

    def test_a_sample_that_changes_changes_its_column_only(self) -> None:
        with self.services.store.write() as session:
            sample = session.get_one(tables.Sample, self.samples[0].id)
            sample.item = {**sample.item, "title": "Another title"}
        self.assertEqual(self.cells()["post"], ["stale", "fresh", "fresh"])
        self.assertEqual(self.cells()["page"], ["fresh"] * 3)

    def test_another_model_puts_drafts_out_of_date(self) -> None:
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "model")
            record.settings = {**record.settings, "model": "practice-2"}
        self.assertEqual(self.cells()["post"], ["stale"] * 3)
        self.assertEqual(self.cells()["page"], ["fresh"] * 3)

    def test_a_muted_line_is_passed_over(self) -> None:
        self.edit("editor", muted=True)
        self.assertEqual(self.cells()["editor"], ["muted"] * 3)
        self.assertEqual(self.cells()["out"], ["fresh"] * 3)

    def test_the_last_result_stays_to_be_read(self) -> None:
        text = self.cell("post").result.output["text"]  # type: ignore[union-attr]
        self.edit("post", prompt="Another.\n<<page.text>>")
        self.assertEqual(self.cell("post").result.output["text"], text)  # type: ignore[union-attr]


def _second_call_fails() -> list[Any]:
    """A short first answer, then a server that is down."""
    return [chat.Answer("Too short.", 100, 10, True, 0.1), OutsideError("The model’s server is down.")]


class Trouble(WithPage):
    def test_a_failing_cell_says_why_and_harms_no_other(self) -> None:
        self.make({"page"}, [0, 1])
        self.fault("page", "gone", 1)
        self.make({"post"}, [2])
        self.assertEqual(self.cells()["page"], ["fresh", "fresh", "failed"])
        self.assertEqual(self.cells()["post"], ["empty"] * 3)
        self.assertIn("nothing at this address", self.cell("page", 2).result.output["message"])  # type: ignore[union-attr]
        self.make({"post"}, [2])
        self.assertEqual(self.cell("post", 2).state, "fresh")

    def test_a_failure_keeps_its_cost(self) -> None:
        self.edit("post", rules=[{"rule": "length", "least": 9000}], revisions=1)
        self.make({"page"}, [0])
        with mock.patch("ulmus.protocols.chat.complete", side_effect=_second_call_fails()):
            self.make({"post"}, [0])
        result = self.cell("post").result
        assert result is not None
        self.assertFalse(result.ok)
        self.assertEqual((result.usage["calls"], result.usage["tokens_in"]), (1, 100))

    def test_stopping_keeps_nothing_half_made(self) -> None:
        self.town.state.habits["pace"] = 60
        self.make({"page"})
        chosen = self.samples[:1]
        self.proofs.run(self.id_, self.document(self.id_), chosen, {"post"}, False)
        self.wait_for(lambda: self.cell("post").state == "running" and bool(self.cell("post").partial))
        self.proofs.stop(self.id_)
        self.wait_for(lambda: self.cell("post").state != "running")
        self.assertEqual(self.cell("post").state, "empty")

    def test_words_stream_in_while_it_runs(self) -> None:
        self.town.state.habits["pace"] = 15
        with self.services.bus.listen() as news:
            self.make({"post"}, [0])
            heard = [m for m in list(news.queue) if m["topic"] == "proof" and m["step"] == "post"]
        texts = [m["text"] for m in heard if m["state"] == "running"]
        self.assertGreater(len(texts), 5)
        self.assertEqual(heard[-1]["state"], "made")

    def test_a_line_that_is_not_set_up_says_so(self) -> None:
        self.edit("page", url="")
        self.make({"page"}, [0])
        self.assertIn("not set up", self.cell("page").result.output["message"])  # type: ignore[union-attr]

    def test_a_fault_of_our_own_is_said_in_the_cell_and_harms_no_other(self) -> None:
        with mock.patch("ulmus.runtime.execution.perform", side_effect=RuntimeError("odd")):
            self.make({"page"}, [0])
        self.assertEqual(self.cells()["page"], ["failed", "empty", "empty"])
        self.assertIn("made a mistake", self.cell("page").result.output["message"])  # type: ignore[union-attr]
        self.make({"page"})
        self.assertEqual(self.cells()["page"], ["fresh"] * 3)

    def test_a_block_that_is_not_set_up_says_so(self) -> None:
        block = {"id": "all", "kind": "for_each", "settings": {"item": "it"}, "steps": [{"id": "s", "kind": "stop"}]}
        self.id_ = self.made({**page(self.town.url), "steps": [block]})
        with self.services.store.write() as session:
            workflows.add_sample(session, self.id_, {"title": "One"}, "typed", 1.0)
        mine = [s for s in self.samples if s.workflow_id == self.id_]
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.proofs.run(self.id_, self.document(self.id_), mine, None, False)
        cell = self.proofs.columns(self.document(self.id_), mine)[mine[0].id].cells["all"]
        self.assertEqual(cell.state, "failed")
        self.assertIn("not set up", cell.result.output["message"])  # type: ignore[union-attr]

    def test_proofs_of_a_live_workflow_start_no_runs(self) -> None:
        workflows.go_live(self.engine, self.id_, WHO)
        self.make()
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(tables.Run)), 0)
