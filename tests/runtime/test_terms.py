"""For how long what workflows did is kept: what goes when its term is over, and what never goes."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select

from tests.runtime.house import WithHouse
from ulmus.core import flow
from ulmus.readmodels.journals import Journals
from ulmus.readmodels.record import run_record
from ulmus.readmodels.runs import run_view
from ulmus.runtime import files, terms
from ulmus.runtime.keeping import DAY, Keeping
from ulmus.store import packed, tables
from ulmus.store.packed import Emptied


class OverTime(WithHouse):
    def ended(self, verdict: str = "decline") -> int:
        run = self.new_item(self.live())
        self.until(run, "asking")
        self.answer(run, verdict)
        self.until(run, "declined", "done")
        return run

    def keep(self, brand: str = "", **days: int) -> None:
        with self.services.store.write() as session:
            terms.set_terms(session, brand, terms.Terms(**days))

    def thin(self, days: float) -> int:
        return Keeping(self.services, self.engine.executor).thin(self.services.clock() + days * DAY)

    def there(self, table: Any, *where: Any) -> int:
        with self.services.store.read() as session:
            return session.scalar(select(func.count()).select_from(table).where(*where)) or 0

    def test_for_ever_unless_somebody_says_otherwise(self) -> None:
        self.ended()
        self.assertEqual(self.thin(36_000), 0)

    def test_a_run_of_which_nothing_stays_goes_whole_and_comes_not_twice(self) -> None:
        run = self.ended()
        packed.pack(self.services.store, run)
        self.keep(nothing=90)
        self.assertEqual(self.thin(89), 0)
        self.assertEqual(self.thin(91), 1)
        self.assertEqual(self.there(tables.Run, tables.Run.id == run), 0)
        self.assertEqual(self.there(tables.JournalEntry, tables.JournalEntry.run_id == run), 0)
        self.assertEqual(self.there(tables.Approval, tables.Approval.run_id == run), 0)
        packed.sweep(self.services.store)
        self.assertFalse(packed.path_of(self.services.store.folder, run).exists())
        # What its start knows of stays known: it is not run again.
        self.assertGreater(self.there(tables.Seen), 0)

    def test_of_one_that_let_something_out_only_the_journal_goes(self) -> None:
        run = self.ended("approve")
        self.keep(nothing=90, something=365)
        self.assertEqual(self.thin(100), 0)
        before = self.there(tables.Piece)
        self.assertEqual(self.thin(366), 1)
        self.assertEqual(self.thin(366), 0, "once is enough")
        self.assertEqual((self.there(tables.Run, tables.Run.id == run), self.there(tables.Piece)), (1, before))
        with self.assertRaises(Emptied):
            Journals(self.services.store).of(run)
        with self.assertRaises(Emptied), self.services.store.read() as session:
            self.engine.pages.load(session, run)

        with self.assertRaises(flow.FlowError):
            self.engine.record(run, flow.TimerFired(at=1.0, address="post"), strict=True)
        view = run_view(self.services, self.engine, Journals(self.services.store), run, [])
        self.assertIsNotNone(view.emptied)
        self.assertTrue(any(cell.piece for cell in view.cells), "what went out is still told")
        record = run_record(self.services, self.engine, Journals(self.services.store), run)
        self.assertEqual([(a.by, a.verdict) for a in record.answers], [("Ines", "approve")])
        self.assertTrue(record.pieces[0].text)

    def test_what_is_not_over_is_left_alone(self) -> None:
        run = self.new_item(self.live())
        self.until(run, "asking")
        self.keep(nothing=90, something=90)
        self.assertEqual(self.thin(4000), 0)
        self.answer(run, "approve")
        self.until(run, "done")
        with self.services.store.write() as session:
            piece = session.scalars(select(tables.Piece).where(tables.Piece.run_id == run)).first()
            assert piece is not None
            piece.state = "unsure"
        self.assertEqual(self.thin(4000), 0, "a piece of it is in doubt")

    def test_one_that_was_taken_up_again_meanwhile_keeps_all(self) -> None:
        run = self.ended()
        entries = self.there(tables.JournalEntry, tables.JournalEntry.run_id == run)
        with self.services.store.write() as session:
            session.get_one(tables.Run, run).ended_at = None
        for whole in (True, False):
            terms.carry_out(self.services.store, terms.Ripe(run, whole), 9.0)
        self.assertEqual(self.there(tables.JournalEntry, tables.JournalEntry.run_id == run), entries)

    def test_a_lost_packed_file_holds_nothing_up(self) -> None:
        run = self.ended()
        packed.pack(self.services.store, run)
        packed.path_of(self.services.store.folder, run).unlink()
        self.keep(nothing=90)
        self.assertEqual(self.thin(91), 1)
        self.assertEqual(self.there(tables.Run, tables.Run.id == run), 0)

    def test_a_brand_has_terms_of_its_own(self) -> None:
        run = self.ended()
        with self.services.store.write() as session:
            session.merge(tables.Brand(key="ours", name="Ours", facts={}))
            session.flush()
            session.get_one(tables.WorkflowRecord, session.get_one(tables.Run, run).workflow_id).brand = "ours"
        self.keep(nothing=90)
        self.keep("ours", nothing=400)
        self.assertEqual(self.thin(399), 0)
        with self.services.store.read() as session:
            self.assertEqual(terms.count(session, self.services.clock() + 401 * DAY), (1, 0))
        self.assertEqual(self.thin(401), 1)

    def test_less_than_two_months_is_refused(self) -> None:
        with self.assertRaises(ValueError):
            terms.Terms(nothing=30)

    def test_a_file_goes_with_the_last_that_names_it(self) -> None:
        one = files.keep(self.services, "seed.pdf", "application/pdf", b"beans")
        sha = str(one["link"]).rpartition("/")[2]
        id_ = self.live()
        first, second = (
            self.engine.runs.push(id_, {"title": f"With {n}", "link": f"{self.town.url}/nowhere", "paper": one}) for n in (1, 2)
        )
        assert first is not None
        assert second is not None
        for run in (first, second):
            self.until(run, "failed", "asking", "done", "stuck")
        store = self.services.store
        packed.pack(store, second)
        with store.write() as session:
            for run in (first, second):
                session.get_one(tables.Run, run).ended_at = 1.0
        terms.carry_out(store, terms.Ripe(first, True), 9.0)
        self.assertIsNotNone(files.fetch(self.services, sha), "the other names it, packed or not")
        terms.carry_out(store, terms.Ripe(second, True), 9.0)
        self.assertIsNone(files.fetch(self.services, sha))
        self.assertFalse((store.folder / "files" / sha[:2] / sha).exists())

    def test_old_proofs_go_where_no_cell_shows_them(self) -> None:
        with self.services.store.write() as session:
            for key in ("a" * 64, "b" * 64):
                session.add(tables.Proof(key=key, ok=True, output={}, detail={}, usage={}, at=1.0))
        self.assertEqual(terms.forget_proofs(self.services.store, self.services.clock(), 1), 1)
        self.assertEqual(terms.forget_proofs(self.services.store, self.services.clock(), 9), 1)
        self.assertEqual(terms.forget_proofs(self.services.store, 2.0, 9), 0)

    def test_sizes(self) -> None:
        self.ended()
        told = terms.sizes(self.services.store)
        self.assertGreater(told["database"][0], 10_000)
        self.assertEqual(told["runs"][1], 1)
