"""The failure trial: every outside misbehaves in every way while a page with blocks runs, and runs start by them.

No run hangs; each ends, or waits with words that say what to do; what a bad item costs is that item.
"""

from __future__ import annotations

from typing import Any

from practice_town.faults import MODES
from tests.runtime.house import WHO, WithHouse
from tests.runtime.test_starts import CALENDAR, Starts
from ulmus.core import flow
from ulmus.runtime import workflows
from ulmus.store import tables

QUICK = {"retries": 1, "wait": 0.05}
TOLD = 3  # a message of fewer words than this says nothing


def line(id_: str, kind: str, after: str = "stop", **settings: Any) -> dict[str, Any]:
    more = {k: settings.pop(k) for k in ("steps", "lanes") if k in settings}
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": {**QUICK, "after": after, "value": "not stated"}, **more}


class InBlocks(WithHouse):
    """Three pages, each drafted from and posted; whatever fails for one leaves the others alone."""

    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "model")
            record.settings = {**record.settings, "max_seconds": 1}

    def made_live(self, after: str) -> int:
        pages = "\n".join(
            f"{self.town.url}/sites/furrow-letter/{slug}" for slug in sorted(self.town.state.released["furrow-letter"])[:3]
        )
        inside = [
            line("page", "read_page", after, url="<<it>>"),
            line(
                "post",
                "draft",
                after,
                model="model",
                prompt="One short line.\n<<page.text>>",
                rules=[{"rule": "length", "most": 200}],
            ),
            line("out", "publish_post", after, channel="pond", text='<<post.text>> (<<it | after "letter/">>)'),
        ]
        steps = [
            line("all", "for_each", list=pages, item="it", parallel=1, steps=inside),
            line("log", "add_row", sheet="log", cells={"Post": "<<all.failed>>"}),
        ]
        id_ = self.made(
            {
                "format": "ulmus-workflow",
                "version": 1,
                "name": f"Pages {after}",
                "start": {"id": "start", "kind": "by_hand"},
                "steps": steps,
            }
        )
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def trial(self, outside: str, mode: str, after: str) -> tables.Run:
        self.fault(outside, mode, 2)
        run = self.engine.runs.push(self.made_live(after), {"title": f"{outside} {mode}"})
        assert run is not None
        return self.seen_through(run)

    def seen_through(self, run: int) -> tables.Run:
        """Wait until the run ends; settle what it asks, in the way that goes on."""
        for _ in range(8):
            found = self.until(run, "done", "failed", "skipped", "stuck", "unsure", seconds=40)
            if found.state == "stuck":
                self.assertGreater(len(found.message.split()), TOLD)
                address = next(d.address for d in flow.decide(self.engine.live(run).state) if isinstance(d, flow.Judge))
                self.engine.record(run, flow.Judged(at=self.services.clock(), address=address, choice="again", by="Mara"))
            elif found.state == "unsure":
                self.assertGreater(len(found.message.split()), TOLD)
                with self.services.store.read() as session:
                    doubts = list(session.query(tables.Piece).filter_by(run_id=run, state="unsure"))
                for piece in doubts:
                    self.engine.outbox.decide(piece.id, "sent", "Mara")
            else:
                return found
            # What was said is written by now; the run may have come to ask again at once, and be in the same state.
        raise AssertionError(f"still {self.run_of(run).state}: {self.run_of(run).message}")

    def last_page(self) -> str:
        return f"{self.town.url}/sites/furrow-letter/{sorted(self.town.state.released['furrow-letter'])[2]}"

    def outcome(self, run: tables.Run) -> dict[str, Any]:
        found: dict[str, Any] = self.engine.live(run.id).state.values["all"]
        return found

    def test_what_fails_for_one_item_leaves_the_others_alone(self) -> None:
        for outside in ("page", "model", "network"):
            for mode in MODES[outside]:
                if mode in ("slow", "endless", "busy", "mute"):
                    continue  # these only take their time, or are settled by a person; see the others
                with self.subTest(outside=outside, mode=mode):
                    before = len(self.posts())
                    run = self.trial(outside, mode, "stop")
                    self.assertEqual(run.state, "done")
                    given = self.outcome(run)
                    self.assertEqual(len(given["results"]) + given["failed"], 3)
                    self.assertIn(self.last_page(), [r["it"] for r in given["results"]], "the third met no fault")
                    self.assertTrue(all(len(f["message"].split()) > TOLD for f in given["failures"]), given["failures"])
                    self.assertGreaterEqual(len(self.posts()) - before, len(given["results"]))

    def test_a_person_who_says_again_sees_it_through(self) -> None:
        for outside, mode in (("page", "gone"), ("model", "garbage"), ("network", "refuse")):
            with self.subTest(outside=outside, mode=mode):
                run = self.trial(outside, mode, "ask")
                self.assertEqual((run.state, len(self.outcome(run)["results"])), ("done", 3))

    def test_a_stated_value_stands_in(self) -> None:
        run = self.trial("page", "gone", "value")
        self.assertEqual((run.state, self.outcome(run)["failed"], len(self.outcome(run)["results"])), ("done", 0, 3))

    def test_a_post_that_nobody_can_ask_about_waits_for_a_person(self) -> None:
        run = self.trial("network", "mute", "stop")
        self.assertEqual(run.state, "done")
        self.assertEqual(len(self.posts()), len(set(self.posts())))


class AtStarts(Starts):
    def looked(self, id_: int) -> tables.Start:
        with self.services.store.read() as session:
            return session.get_one(tables.Start, id_)

    def test_a_calendar_that_misbehaves_is_told_of_and_looked_at_again(self) -> None:
        self.town.state.calendar = CALENDAR
        for mode in ("down", "busy"):
            with self.subTest(mode=mode):
                self.fault("calendar", mode, 2)  # it is looked at when it goes live, and at once after
                id_ = self.started("calendar_entry", url=f"{self.town.url}/calendar/office.ics?{mode}", before=7200)
                start = self.looked(id_)
                self.assertTrue(start.failed)
                self.assertGreater(len(start.found.split()), TOLD)
                self.assertGreater(start.next_at, self.now)
                self.engine.polling.look_at(id_)
                self.assertFalse(self.looked(id_).failed)
                self.assertEqual([i["title"] for i in self.items(id_)], ["Planting plan"])

    def test_a_sheet_that_is_gone(self) -> None:
        key = self.sheet([{"Topic": "Beans"}])
        id_ = self.started("new_row", sheet=key)
        with self.services.store.write() as session:
            session.delete(session.get_one(tables.Sheet, key))
        self.engine.polling.look_at(id_)
        self.assertIn("no longer here", self.looked(id_).found)

    def test_a_mailbox_that_is_not_there(self) -> None:
        self.reach(1)
        settings = {"host": "127.0.0.1", "port": 1, "tls": False, "user": "office"}
        with self.services.store.write() as session:
            session.add(
                tables.Connection(key="box", kind="mailbox", name="Office", settings=settings, sealed=self.services.sealer.seal({}))
            )
        id_ = self.started("mail_received", box="box")
        self.assertIn("could not be read", self.looked(id_).found)
