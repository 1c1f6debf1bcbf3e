"""A house in which much has gathered: recovery loads only what has something to do, sheets are read from where they changed."""

from __future__ import annotations

import datetime as dt
from email.utils import format_datetime
from typing import Any
from unittest import mock

from sqlalchemy import select, text

from tests.protocols.outside import Raw, answering
from tests.runtime.house import WithHouse
from ulmus.runtime import workflows
from ulmus.runtime.journal import Pages
from ulmus.runtime.runs import counted
from ulmus.steps.api import Row as _Row
from ulmus.store import tables


def on_rows(which: str = "new") -> dict[str, Any]:
    settings = {"sheet": "log", "which": which, "every": 1}
    return {
        "format": "ulmus-workflow",
        "version": 1,
        "name": "Rows",
        "start": {"id": "row", "kind": "new_row", "settings": settings},
        "steps": [{"id": "note", "kind": "set_values", "settings": {"values": {"post": "<<row.Post>>"}}}],
    }


class Recovery(WithHouse):
    def test_only_runs_with_something_to_do_are_loaded(self) -> None:
        workflow = self.live()
        asking = [self.new_item(workflow) for _ in range(3)]
        for run in asking:
            self.question(run)
        at_work = self.new_item(workflow)
        self.question(at_work)
        self._close(self.engine, self.services)
        loaded: list[int] = []
        real = Pages.load

        def load(this: Pages, session: Any, run_id: int) -> Any:
            loaded.append(run_id)
            return real(this, session, run_id)

        self.open_unstarted()
        with self.services.store.write() as session:
            # As if the process had died in the middle of a step.
            session.execute(text("UPDATE runs SET idle = 0 WHERE id = :run"), {"run": at_work})
        with mock.patch.object(Pages, "load", load):
            self.engine.start(polling=False)
            self.wait_for(lambda: at_work in loaded)
        self.assertEqual(set(loaded), {at_work})
        for run in asking:
            self.answer(run)
            self.until(run, "done")

    def open_unstarted(self) -> None:
        """Open the house; its engine is started by the test."""
        with mock.patch("ulmus.runtime.engine.Engine.start"):
            self.open()


class Rows(WithHouse):
    def added(self, *posts: str) -> None:
        with self.services.store.write() as session:
            last = sum(counted(session, "rows", "log").values())
            for n, post in enumerate(posts, start=1):
                session.add(tables.SheetRow(sheet="log", position=last + n, cells={"Post": post}))

    def runs(self) -> list[str]:
        with self.services.store.read() as session:
            return sorted(session.scalars(select(tables.Run.title)))

    def test_a_look_reads_only_what_changed_since_the_last(self) -> None:
        self.added("one", "two")
        id_ = self.made(on_rows())
        workflows.go_live(self.engine, id_, "m")
        self.engine.polling.look_at(id_)
        read: list[int] = []
        self.added("three")
        with mock.patch("ulmus.runtime.polling.Row", side_effect=lambda *of: read.append(of[0]) or _Row(*of)):
            self.engine.polling.look_at(id_)
            self.engine.polling.look_at(id_)
        self.assertEqual((len(read), self.runs()), (1, ["three"]))

    def test_a_row_that_was_empty_counts_once_it_is_filled_and_an_old_one_that_is_edited_does_not(self) -> None:
        self.added("one", "")
        id_ = self.made(on_rows())
        workflows.go_live(self.engine, id_, "m")
        self.engine.polling.look_at(id_)
        with self.services.store.write() as session:
            first, second = session.scalars(select(tables.SheetRow).order_by(tables.SheetRow.position))
            first.cells, second.cells = {"Post": "one, edited"}, {"Post": "filled"}
        self.engine.polling.look_at(id_)
        self.assertEqual(self.runs(), ["filled"])

    def test_changed_rows_count_where_they_are_wanted(self) -> None:
        self.added("one", "two")
        id_ = self.made(on_rows("changed"))
        workflows.go_live(self.engine, id_, "m")
        self.engine.polling.look_at(id_)
        for words in ("once", "twice"):
            with self.services.store.write() as session:
                session.scalars(select(tables.SheetRow)).all()[0].cells = {"Post": words}
            self.engine.polling.look_at(id_)
        self.assertEqual(self.runs(), ["once", "twice"])

    def test_a_row_in_the_place_of_a_deleted_one_is_a_new_row(self) -> None:
        id_ = self.made(on_rows())
        workflows.go_live(self.engine, id_, "m")
        self.engine.polling.look_at(id_)
        for post in ("first", "second"):
            self.added(post)
            self.engine.polling.look_at(id_)
            with self.services.store.write() as session:
                session.execute(text("DELETE FROM sheet_rows"))
        self.assertEqual(self.runs(), ["first", "second"])

    def test_what_is_counted_is_what_is_there(self) -> None:
        run = self.new_item(self.live())
        self.answer(run)
        self.until(run, "done")
        self.added("one", "two")
        with self.services.store.write() as session:
            session.execute(text("DELETE FROM sheet_rows WHERE position = 1"))
        with self.services.store.read() as session:
            rows, runs = counted(session, "rows", "log"), counted(session, "runs", 1)
            there = session.execute(text("SELECT count(*) FROM sheet_rows")).scalar()
        self.assertEqual((rows, runs), ({"": there}, {"done": 1}))


class OldItems(WithHouse):
    def feed(self, *items: tuple[str, str]) -> None:
        """What the feed holds from now on: titles and dates."""
        one = "<item><title>{0}</title><guid>{0}</guid><pubDate>{1}</pubDate></item>"
        inside = "".join(one.format(*item) for item in items)
        self.body = f'<rss version="2.0"><channel><title>F</title>{inside}</channel></rss>'.encode()

    def test_what_is_dated_long_before_going_live_is_passed_over_in_sight(self) -> None:
        server = Raw(lambda line: answering(self.body)(line))
        self.addCleanup(server.stop)
        self.reach(server.port)
        self.feed(("Today", format_datetime(dt.datetime.now(dt.UTC))))
        document = on_rows() | {"start": {"id": "row", "kind": "feed_item", "settings": {"url": server.url, "every": 2}}}
        document["steps"] = [{"id": "note", "kind": "set_values", "settings": {"values": {"post": "<<row.title>>"}}}]
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, "m")
        self.engine.polling.look_at(id_)
        now = format_datetime(dt.datetime.now(dt.UTC) - dt.timedelta(days=1))
        self.feed(("Brought up again", "Mon, 02 Mar 2020 09:00:00 GMT"), ("Without a date", ""), ("Yesterday", now))
        self.engine.polling.look_at(id_)
        self.engine.polling.look_at(id_)
        with self.services.store.read() as session:
            self.assertEqual(sorted(session.scalars(select(tables.Run.title))), ["Without a date", "Yesterday"])
            start = session.get_one(tables.Start, id_)
            self.assertEqual([one["item"]["title"] for one in start.memory["passed"]], ["Brought up again"])
        self.assertEqual(self.engine.polling.run_for_passed(id_, run=True), 1)
        self.assertEqual(self.engine.polling.run_for_passed(id_, run=True), 0)
        self.engine.polling.look_at(id_)
        with self.services.store.read() as session:
            titles = sorted(session.scalars(select(tables.Run.title)))
        self.assertEqual(titles, ["Brought up again", "Without a date", "Yesterday"])
