"""Every misbehaviour of every outside, in a run: it ends or waits with words, can be taken up, loses and doubles nothing."""

from __future__ import annotations

import socket
from unittest import mock

from practice_town.faults import MODES
from tests.runtime.house import WithHouse, page
from ulmus.core import flow
from ulmus.protocols import mailbox
from ulmus.runtime import workflows
from ulmus.store import tables

# Faults the run gets over by itself once the outside behaves again within the retries; all others need a person.
PATIENT = {"slow": 8.0}


ODD = ("notools", "nosystem", "short", "refusal", "loop", "cut")


class EveryFault(WithHouse):
    def one_run(self) -> int:
        if not hasattr(self, "workflow_id"):
            self.workflow_id = self.live()
        return self.new_item(self.workflow_id)

    def finish(self, run_id: int) -> None:
        """Take the run up if it stopped, settle doubts, approve, and see it through."""
        state = self.until(run_id, "failed", "asking", "unsure", "done", seconds=25).state
        if state == "failed":
            self.assertGreater(len(self.run_of(run_id).message.split()), 3, "a reason in words")
            self.assertNotIn("Traceback", self.run_of(run_id).message)
            step = self.engine.live(run_id).state.current
            assert step is not None
            self.engine.record(run_id, flow.TakenUp(at=1, address=step.id, by="Mara"))
            self.finish(run_id)
        elif state == "asking":
            self.answer(run_id)
            self.finish(run_id)
        elif state == "unsure":
            self.engine.outbox.decide(self.piece(run_id).id, "again", "Mara")
            self.finish(run_id)

    def trial(self, outside: str, modes: list[str], left: int) -> None:
        done = 0
        for mode in modes:
            with self.subTest(outside=outside, mode=mode):
                run_id = self.one_run_with(outside, mode, left)
                self.finish(run_id)
                done += 1
                self.assertEqual(len(self.posts()), done)
                self.assertEqual(len(self.rows()), done)
                self.assertEqual(len(set(self.posts())), done)

    def one_run_with(self, outside: str, mode: str, left: int) -> int:
        if outside == "network":
            run_id = self.one_run()
            self.question(run_id)
            self.fault(outside, mode, left)
            return run_id
        if not hasattr(self, "workflow_id"):
            self.workflow_id = self.live()
        self.fault(outside, mode, left)
        return self.one_run()

    def test_pages_that_misbehave_until_someone_looks(self) -> None:
        self.trial("page", [m for m in MODES["page"] if m not in ("slow", "endless")], 3)

    def test_models_that_misbehave_until_someone_looks(self) -> None:
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "model")
            record.settings = {**record.settings, "max_seconds": 1}
        self.trial("model", [m for m in MODES["model"] if m not in ("slow", "busy", "bare", *ODD)], 3)

    def test_models_that_answer_oddly_until_someone_looks(self) -> None:
        self.trial("model", list(ODD), 3)

    def test_networks_that_misbehave_until_someone_looks(self) -> None:
        self.trial("network", [m for m in MODES["network"] if m not in ("slow", "busy")], 3)

    def test_mailboxes_that_misbehave_do_not_hold_up_the_run(self) -> None:
        self.trial("mail", list(MODES["mail"]), 1)


class BadStarts(WithHouse):
    def looked(self, workflow_id: int) -> tables.Start:
        with self.services.store.read() as session:
            return session.get_one(tables.Start, workflow_id)

    def test_each_broken_feed_is_told_on_the_workflow_and_heals(self) -> None:
        id_ = self.live()
        for mode in [m for m in MODES["feed"] if m not in ("slow", "cut", "bare")]:
            with self.subTest(mode=mode):
                self.fault("feed", mode)
                self.engine.polling.look_at(id_)
                start = self.looked(id_)
                self.assertTrue(start.failed)
                self.assertGreater(len(start.found.split()), 3)
                self.fault("feed", "")
                self.engine.polling.look_at(id_)
                self.assertFalse(self.looked(id_).failed)

    def test_a_damaged_feed_is_read_as_far_as_it_can_be(self) -> None:
        id_ = self.live()
        self.town.state.release("furrow-letter")
        self.fault("feed", "cut")
        self.engine.polling.look_at(id_)
        start = self.looked(id_)
        self.assertFalse(start.failed)
        self.assertIn("damaged", start.found)
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Run).count(), 1)

    def test_a_start_that_fails_is_looked_at_less_often_but_not_given_up(self) -> None:
        id_ = self.live()
        self.fault("feed", "down")
        pauses = []
        for _ in range(4):
            self.engine.polling.look_at(id_)
            pauses.append(self.looked(id_).next_at - self.services.clock())
        self.assertEqual(sorted(pauses), pauses)
        self.assertLess(pauses[-1], 3601)

    def test_a_feed_address_that_is_private_or_none(self) -> None:
        for url, words in (("http://10.0.0.7/feed", "private address"), ("not an address", "not a web address")):
            with self.subTest(url=url):
                id_ = self.made(page(self.town.url, feed={"url": url}))
                workflows.go_live(self.engine, id_, "m@a.example")
                self.engine.polling.look_at(id_)
                self.assertIn(words, self.looked(id_).found)

    def test_a_flood_of_items_is_taken_in_portions_and_none_is_lost(self) -> None:
        id_ = self.live(feed={"most": 2})
        for _ in range(5):
            self.town.state.release("furrow-letter")
        counts = []
        for _ in range(4):
            self.engine.polling.look_at(id_)
            with self.services.store.read() as session:
                counts.append(session.query(tables.Run).count())
        self.assertEqual(counts, [2, 4, 5, 5])

    def test_a_mailbox_that_says_nothing_is_given_up_with_words(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as mute, mock.patch.object(mailbox, "PATIENCE", 0.3):
            self.reach(mute.getsockname()[1])
            settings = {"host": "127.0.0.1", "port": mute.getsockname()[1], "tls": False, "user": "desk"}
            with self.services.store.write() as session:
                session.add(tables.Connection(key="box", kind="mailbox", name="Desk", settings=settings))
            log = {"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Post": "<<mail.subject>>"}}}
            start = {"id": "mail", "kind": "mail_received", "settings": {"box": "box"}}
            id_ = self.made({**page(self.town.url), "start": start, "steps": [log]})
            workflows.go_live(self.engine, id_, "m@a.example")
            self.engine.polling.look_at(id_)
            told = self.looked(id_)
            self.assertTrue(told.failed)
            self.assertIn("did not answer in time", told.found)
