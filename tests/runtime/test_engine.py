"""The engine against the practice town: the whole arc, failures, doubt, restarts."""

from __future__ import annotations

import threading
from typing import Any

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse, page
from ulmus.core import flow
from ulmus.runtime import asking, links, workflows
from ulmus.runtime.engine import Engine, EngineBusy
from ulmus.runtime.journal import Pages as Journals
from ulmus.store import tables


class TheWholeArc(WithHouse):
    def test_a_new_item_becomes_an_approved_published_and_recorded_post(self) -> None:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        self.assertLessEqual(len(question.text), 300)
        self.assertEqual(self.posts(), [])
        self.assertEqual(self.rows(), [])
        self.answer(run_id)
        run = self.until(run_id, "done")
        self.assertEqual(self.posts(), [question.text])
        self.assertEqual([r["Post"] for r in self.rows()], [question.text])
        self.assertIn("/pondside/posts/1", self.rows()[0]["Link"])
        self.assertEqual(self.rows()[0]["By"], "Ines")
        self.assertGreater(run.cost, 0)
        self.assertGreater(run.tokens, 100)
        self.assertIsNotNone(run.ended_at)

    def test_the_person_is_told_by_mail_with_a_link_that_opens_the_draft(self) -> None:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        self.wait_for(lambda: bool(self.town.state.mails))
        mail = self.town.state.mails[0]
        self.assertEqual(mail["to"], WHO)
        self.assertIn(question.text.splitlines()[0], mail["text"])
        token = mail["text"].split("http://ulmus.example/answer/")[1].split()[0]
        self.assertEqual(links.check(self.services.sealer.key, token), (question.id, question.who))

    def test_a_note_brings_a_rewrite_back_for_another_look(self) -> None:
        run_id = self.new_item(self.live())
        first = self.question(run_id)
        self.answer(run_id, "back", note="Make it shorter.")
        self.wait_for(lambda: self.run_of(run_id).state == "asking" and self.question(run_id).id != first.id)
        second = self.question(run_id)
        self.assertEqual(second.round, 2)
        self.assertNotEqual(second.text, first.text)
        self.assertLess(len(second.text), len(first.text))
        self.answer(run_id)
        self.until(run_id, "done")
        self.assertEqual(self.posts(), [second.text])

    def test_changes_made_in_place_are_what_goes_out(self) -> None:
        run_id = self.new_item(self.live())
        self.answer(run_id, text="  Better words.  ", despite=True)
        self.until(run_id, "done")
        self.assertEqual(self.posts(), ["Better words."])
        self.assertEqual(self.rows()[0]["Post"], "Better words.")

    def test_declined_means_nothing_goes_out(self) -> None:
        run_id = self.new_item(self.live())
        self.answer(run_id, "decline", note="Not this one.")
        self.until(run_id, "declined")
        self.assertEqual((self.posts(), self.rows()), ([], []))

    def test_an_answer_counts_once(self) -> None:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        asking.answer(self.engine.services, self.engine.writer, question.id, "approve", "Ines")
        for verdict in ("approve", "back", "decline"):
            with self.assertRaisesRegex(asking.AnswerRefused, "already approved by Ines"):
                asking.answer(self.engine.services, self.engine.writer, question.id, verdict, "Somebody", note="x")  # type: ignore[arg-type]
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_two_people_at_once_are_one_answer(self) -> None:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        told: list[str] = []

        def press(who: str) -> None:
            try:
                asking.answer(self.engine.services, self.engine.writer, question.id, "approve", who)
                told.append("taken")
            except asking.AnswerRefused:
                told.append("refused")

        threads = [threading.Thread(target=press, args=(f"p{i}",)) for i in range(6)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.until(run_id, "done")
        self.assertEqual(sorted(told), ["refused"] * 5 + ["taken"])
        self.assertEqual((len(self.posts()), len(self.rows())), (1, 1))

    def test_answers_that_cannot_be_taken(self) -> None:
        run_id = self.new_item(self.live(editor={"rounds": 1}))
        question = self.question(run_id)
        for verdict, more, words in (
            ("back", {"note": " "}, "Write a note"),
            ("back", {"note": "x"}, "last round"),
            ("approve", {"text": "  "}, "text is empty"),
            ("back", {"note": "x" * 5000}, "too long"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(asking.AnswerRefused, words):
                asking.answer(self.engine.services, self.engine.writer, question.id, verdict, "Ines", **more)  # type: ignore[arg-type]
        with self.assertRaisesRegex(asking.AnswerRefused, "no such draft"):
            asking.answer(self.engine.services, self.engine.writer, 999, "approve", "Ines")
        self.assertEqual(self.run_of(run_id).state, "asking")


class Rules(WithHouse):
    def rounds(self, run_id: int) -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            events = [
                flow.load_event(e)
                for e in session.scalars(select(tables.JournalEntry.event).where(tables.JournalEntry.run_id == run_id))
            ]
        done = next(e for e in events if isinstance(e, flow.Done | flow.Failed) and e.address == "post")
        return list(done.detail["rounds"])

    def test_a_broken_rule_is_mended_before_a_person_is_asked(self) -> None:
        self.town.state.habits.update(length=100, quotes=100)
        run_id = self.new_item(self.live(post={"revisions": 4, "standing": "B"}))
        question = self.question(run_id)
        rounds = self.rounds(run_id)
        self.assertGreater(len(rounds), 1)
        self.assertFalse(all(f["kept"] for f in rounds[0]["findings"]))
        self.assertLessEqual(len(question.text), 300)
        self.assertFalse(question.text.startswith("“") and question.text.endswith("”"), question.text)
        self.assertTrue(all(f["kept"] for f in rounds[-1]["findings"]))

    def test_a_rule_nobody_kept_is_put_before_the_person(self) -> None:
        run_id = self.new_item(self.live(post={"rules": [{"rule": "length", "least": 5000}], "revisions": 1}))
        self.question(run_id)
        self.assertEqual(len(self.rounds(run_id)), 2)

    def test_a_rule_nobody_kept_and_nobody_to_ask_stops_the_run(self) -> None:
        document = page(self.town.url, post={"rules": [{"rule": "length", "least": 5000}], "revisions": 1})
        document["steps"] = [s for s in document["steps"] if s["id"] in ("page", "post", "out")]
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        run = self.until(self.new_item(id_), "failed")
        self.assertIn("still breaks a rule after 1 revision", run.message)
        self.assertGreater(run.cost, 0)
        self.assertEqual(self.posts(), [])


class Failing(WithHouse):
    def test_a_page_that_is_gone_stops_the_run_and_it_is_taken_up_later(self) -> None:
        id_ = self.live()
        self.fault("page", "gone")
        run_id = self.new_item(id_)
        run = self.until(run_id, "failed")
        self.assertIn("nothing at this address", run.message)
        self.fault("page", "")
        self.engine.record(run_id, flow.TakenUp(at=1, address="page", by="Mara"))
        self.answer(run_id)
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_passing_faults_are_tried_again_by_themselves(self) -> None:
        for outside, mode in (("page", "down"), ("model", "garbage"), ("model", "half"), ("model", "empty"), ("model", "down")):
            with self.subTest(outside=outside, mode=mode):
                id_ = self.live() if not hasattr(self, "id_") else self.id_
                self.id_ = id_
                self.fault(outside, mode, 2)
                run_id = self.new_item(id_)
                self.question(run_id)
                self.fault(outside, "")

    def test_a_model_that_asks_for_time_is_given_it(self) -> None:
        id_ = self.live()
        self.fault("model", "busy", 1)
        run_id = self.new_item(id_)
        self.until(run_id, "waiting")
        self.question(run_id)
        with self.services.store.read() as session:
            events = [
                flow.load_event(e)
                for e in session.scalars(select(tables.JournalEntry.event).where(tables.JournalEntry.run_id == run_id))
            ]
        failed = next(e for e in events if isinstance(e, flow.Failed))
        fired = next(e for e in events if isinstance(e, flow.TimerFired))
        self.assertGreaterEqual(fired.at - failed.at, 2.0)

    def test_after_the_last_try_it_says_why(self) -> None:
        id_ = self.live()
        self.fault("model", "down")
        run = self.until(self.new_item(id_), "failed")
        self.assertIn("fault of its own", run.message)

    def test_a_post_the_channel_cannot_take_never_leaves(self) -> None:
        run_id = self.new_item(self.live())
        with self.assertRaisesRegex(asking.AnswerRefused, "at most 300 characters; this has 301"):
            self.answer(run_id, text="x" * 301, despite=True)
        self.assertEqual(self.run_of(run_id).state, "asking", "it is said while the person is there")
        self.assertEqual(self.town.state.counts.get("network", 0), 0)

    def test_a_missing_connection_is_said_and_mended(self) -> None:
        run_id = self.new_item(self.live())
        with self.services.store.write() as session:
            session.get_one(tables.Connection, "pond").kind = "other"
        with self.assertRaisesRegex(asking.AnswerRefused, "“pond” is missing"):
            self.answer(run_id)
        with self.services.store.write() as session:
            session.get_one(tables.Connection, "pond").kind = "posting"
        self.answer(run_id)
        self.until(run_id, "done")

    def test_a_fault_of_our_own_stops_one_run_and_shows_no_trace(self) -> None:
        from unittest import mock

        with mock.patch("ulmus.protocols.pages.from_html", side_effect=ZeroDivisionError("secret detail")):
            run = self.until(self.new_item(self.live()), "failed")
        self.assertIn("Ulmus made a mistake here", run.message)
        self.assertNotIn("secret detail", run.message)

    def test_cancelling_takes_the_piece_out_of_the_outbox(self) -> None:
        run_id = self.new_item(self.live())
        self.question(run_id)
        self.engine.record(run_id, flow.Cancelled(at=1, by="Mara"))
        self.until(run_id, "cancelled")
        with self.assertRaises(asking.AnswerRefused):
            self.answer_any(run_id)

    def answer_any(self, run_id: int) -> None:
        with self.services.store.read() as session:
            id_ = session.scalar(select(tables.Approval.id).where(tables.Approval.run_id == run_id))
        asking.answer(self.engine.services, self.engine.writer, id_ or 0, "approve", "Ines")


class Doubt(WithHouse):
    def approved(self, mode: str, left: int | None = 1) -> int:
        run_id = self.new_item(self.live())
        self.fault("network", mode, left)
        self.answer(run_id)
        return run_id

    def test_a_network_that_takes_the_post_and_drops_the_reply(self) -> None:
        run_id = self.approved("lost")
        self.until(run_id, "done")
        self.assertEqual((len(self.posts()), len(self.rows())), (1, 1))
        self.assertIn("/pondside/posts/1", self.rows()[0]["Link"])

    def test_a_fault_that_took_nothing_is_sent_again_once(self) -> None:
        run_id = self.approved("down", 2)
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_where_nobody_can_tell_a_person_decides_it_is_out(self) -> None:
        run_id = self.approved("mute")
        run = self.until(run_id, "unsure")
        self.assertIn("Nobody can tell", run.message)
        self.engine.outbox.decide(self.piece(run_id).id, "sent", "Mara")
        self.until(run_id, "done")
        self.assertEqual((len(self.posts()), len(self.rows())), (1, 1))

    def test_or_that_it_is_to_be_sent_again_under_the_same_key(self) -> None:
        run_id = self.approved("mute")
        self.until(run_id, "unsure")
        self.engine.outbox.decide(self.piece(run_id).id, "again", "Mara")
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)
        with self.assertRaisesRegex(ValueError, "no longer in doubt"):
            self.engine.outbox.decide(self.piece(run_id).id, "again", "Mara")

    def test_or_that_it_is_dropped(self) -> None:
        run_id = self.approved("mute")
        self.until(run_id, "unsure")
        self.engine.outbox.decide(self.piece(run_id).id, "drop", "Mara")
        self.assertIn("dropped by Mara", self.until(run_id, "failed").message)
        self.assertEqual(self.rows(), [])

    def test_a_fault_of_our_own_after_the_effect_is_looked_into_and_not_sent_again(self) -> None:
        from unittest import mock

        run_id = self.new_item(self.live())
        self.question(run_id)
        with mock.patch("ulmus.protocols.micropub.urljoin", side_effect=KeyError("location")):
            self.answer(run_id)
            self.until(run_id, "done", "failed", "unsure")
        self.until(run_id, "done")
        self.assertEqual((len(self.posts()), len(self.rows())), (1, 1))

    def test_a_refused_key_stops_the_run_and_says_so(self) -> None:
        run_id = self.approved("refuse")
        self.assertIn("may not post here", self.until(run_id, "failed").message)
        self.engine.record(run_id, flow.TakenUp(at=1, address="out", by="Mara"))
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_a_mail_that_was_refused_is_shown_and_the_draft_waits_all_the_same(self) -> None:
        self.fault("mail", "refuse", 1)
        run_id = self.new_item(self.live())
        question = self.question(run_id)

        def told() -> str:
            with self.services.store.read() as session:
                return session.scalar(select(tables.Piece.message).where(tables.Piece.approval_id == question.id)) or ""

        self.wait_for(lambda: "refused" in told())
        self.answer(run_id)
        self.until(run_id, "done")


class Restarts(WithHouse):
    def test_a_question_and_its_timers_are_still_there(self) -> None:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        self.reopen()
        self.assertEqual(self.question(run_id).id, question.id)
        self.answer(run_id)
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_an_intent_without_a_receipt_is_asked_about_and_not_sent_again(self) -> None:
        run_id = self.new_item(self.live())
        question = self.question(run_id)
        self.engine.ticker.parts.remove(self.engine.outbox.tick)
        self.answer(run_id)
        piece = self.piece(run_id)
        # As if the process had died between sending and the receipt: the network has it, we do not know.
        self.web_post(question.text, piece.key)
        with self.services.store.write() as session:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.attempt, record.due_at = "intent", 1, self.services.clock() + 600
        self.reopen()
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)
        self.assertIn("/pondside/posts/1", self.rows()[0]["Link"])

    def test_an_intent_that_never_arrived_is_sent(self) -> None:
        run_id = self.new_item(self.live())
        self.engine.ticker.parts.remove(self.engine.outbox.tick)
        self.answer(run_id)
        piece = self.piece(run_id).id
        with self.services.store.write() as session:
            session.get_one(tables.Piece, piece).state = "intent"
        self.reopen()
        self.until(run_id, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_a_mail_cut_off_while_sending_is_never_sent_blindly_again(self) -> None:
        def state() -> str:
            with self.services.store.read() as session:
                return session.scalars(select(tables.Piece.state).where(tables.Piece.kind == "approval_mail")).one()

        run_id = self.new_item(self.live())
        self.question(run_id)
        self.wait_for(lambda: state() == "sent")
        with self.services.store.write() as session:
            mail = session.scalars(select(tables.Piece).where(tables.Piece.kind == "approval_mail")).one()
            mail.state = "intent"
        self.reopen()

        self.wait_for(lambda: state() == "unsure")
        self.assertEqual(len(self.town.state.mails), 1)

    def web_post(self, text: str, key: str) -> None:
        self.services.web.fetch(
            f"{self.town.url}/pondside/micropub",
            method="POST",
            json={"type": ["h-entry"], "properties": {"content": [text], "uid": [key]}},
            headers={"Authorization": "Bearer pond-token"},
        )

    def test_every_journal_replays_to_the_state_that_is_shown(self) -> None:
        id_ = self.live()
        runs = [self.new_item(id_) for _ in range(3)]
        self.answer(runs[0])
        self.answer(runs[1], "decline")
        self.until(runs[0], "done")
        self.until(runs[1], "declined")
        self.question(runs[2])
        for run_id in runs:
            with self.services.store.read() as session:
                again = Journals().load(session, run_id)
                record = session.get_one(tables.Run, run_id)
            self.assertAlmostEqual(again.state.usage.cost, record.cost)
            self.assertEqual(again.state.ended, record.ended_at is not None)

    def test_a_second_engine_on_the_same_data_stays_out(self) -> None:
        with self.assertRaisesRegex(EngineBusy, "Another Ulmus"):
            Engine(self.services).start()

    def test_the_schema_is_what_the_migrations_make(self) -> None:
        from alembic.autogenerate import compare_metadata
        from alembic.migration import MigrationContext

        with self.services.store.engine.connect() as connection:
            context = MigrationContext.configure(connection, opts={"render_as_batch": True})
            self.assertEqual(compare_metadata(context, tables.Base.metadata), [])

    def test_secrets_lie_sealed(self) -> None:
        raw = (self.folder / "ulmus.db").read_bytes() + (self.folder / "ulmus.db-wal").read_bytes()
        self.assertNotIn(b"pond-token", raw)
        self.assertEqual((self.folder / "secret.key").stat().st_mode & 0o077, 0)


class Listening(WithHouse):
    def runs(self) -> int:
        with self.services.store.read() as session:
            return session.scalar(select(func.count()).select_from(tables.Run)) or 0

    def test_what_is_already_there_is_passed_over_and_each_new_item_counts_once(self) -> None:
        id_ = self.live()
        self.assertEqual(self.runs(), 0)
        self.new_item(id_)
        for _ in range(3):
            self.engine.polling.look_at(id_)
        self.assertEqual(self.runs(), 1)

    def test_an_item_whose_text_changes_is_not_new(self) -> None:
        id_ = self.live()
        with self.town.state.lock:
            for slug in self.town.state.released["furrow-letter"]:
                self.town.state.released["furrow-letter"][slug] += 5
        self.engine.polling.look_at(id_)
        self.assertEqual(self.runs(), 0)

    def test_items_that_come_while_the_server_is_down_are_found_after(self) -> None:
        id_ = self.live()
        self.engine.stop()
        self.town.state.release("furrow-letter")
        self.town.state.release("furrow-letter")
        self.open()
        self.engine.polling.look_at(id_)
        self.assertEqual(self.runs(), 2)

    def test_looking_twice_at_the_same_moment_begins_one_run(self) -> None:
        id_ = self.live()
        self.town.state.release("furrow-letter")
        threads = [threading.Thread(target=self.engine.polling.look_at, args=(id_,)) for _ in range(5)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(self.runs(), 1)

    def test_a_broken_feed_is_told_and_found_again(self) -> None:
        id_ = self.live()
        self.fault("feed", "notfeed")
        self.town.state.release("furrow-letter")
        self.engine.polling.look_at(id_)
        with self.services.store.read() as session:
            start = session.get_one(tables.Start, id_)
        self.assertTrue(start.failed)
        self.assertIn("not a feed", start.found)
        self.assertGreater(start.next_at, self.services.clock() + 2)
        self.fault("feed", "")
        self.engine.polling.look_at(id_)
        self.assertEqual(self.runs(), 1)

    def test_pausing_stops_listening_and_what_comes_meanwhile_is_passed_over(self) -> None:
        id_ = self.live()
        workflows.pause(self.engine, id_, WHO)
        self.town.state.release("furrow-letter")
        self.engine.polling.enabled = True
        self.engine.polling.tick(self.services.clock())
        workflows.go_live(self.engine, id_, WHO)
        self.wait_for(lambda: self.looked(id_))
        self.assertEqual(self.runs(), 0)

    def looked(self, id_: int) -> bool:
        with self.services.store.read() as session:
            return session.get_one(tables.Start, id_).looked_at is not None

    def test_by_itself_within_the_interval(self) -> None:
        id_ = self.live()
        self.engine.polling.enabled = True
        self.town.state.release("furrow-letter")
        self.wait_for(lambda: self.runs() == 1, seconds=8)
        self.assertTrue(self.looked(id_))


class GoingLive(WithHouse):
    def test_a_page_with_gaps_does_not_go_live(self) -> None:
        id_ = self.made(page(self.town.url, out={"channel": "nowhere"}))
        with self.assertRaisesRegex(workflows.NotReady, "“nowhere” is not here"):
            workflows.go_live(self.engine, id_, WHO)

    def test_revisions_count_up_only_when_something_changed(self) -> None:
        id_ = self.live()
        self.assertEqual(workflows.go_live(self.engine, id_, WHO), 1)
        changed = self.document(id_).model_copy(update={"name": "Other"})
        with self.services.store.write() as session:
            workflows.save(session, id_, changed, 1, 1.0)
        self.assertEqual(workflows.go_live(self.engine, id_, WHO), 2)

    def test_running_runs_finish_on_their_revision(self) -> None:
        id_ = self.live()
        run_id = self.new_item(id_)
        self.question(run_id)
        document = page(self.town.url, out={"text": "OTHER"})
        from ulmus.core.workflow import read_file

        with self.services.store.write() as session:
            workflows.save(session, id_, read_file(document), 1, 1.0)
        workflows.go_live(self.engine, id_, WHO)
        self.answer(run_id, text="As approved.", despite=True)
        self.until(run_id, "done")
        self.assertEqual(self.posts(), ["As approved."])

    def test_a_save_on_an_old_version_overwrites_nothing(self) -> None:
        id_ = self.made(page(self.town.url))
        with self.services.store.write() as session:
            workflows.save(session, id_, self.document(id_), 1, 1.0)
        with self.assertRaises(workflows.SaveRefused), self.services.store.write() as session:
            workflows.save(session, id_, self.document(id_), 1, 1.0)

    def test_a_workflow_that_is_live_or_has_open_runs_cannot_be_deleted(self) -> None:
        id_ = self.live()
        self.new_item(id_)
        with self.assertRaisesRegex(ValueError, "Pause it first"), self.services.store.write() as session:
            workflows.remove(session, id_, 1.0, WHO)
        workflows.pause(self.engine, id_, WHO)
        with self.assertRaisesRegex(ValueError, "not over"), self.services.store.write() as session:
            workflows.remove(session, id_, 1.0, WHO)


class Pages(WithHouse):
    """What a page may look like, live."""

    def gone_live(self, document: dict[str, Any]) -> int:
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        return id_

    def test_a_muted_line_is_passed_over(self) -> None:
        document = page(self.town.url)
        document["steps"][3]["muted"] = True
        document["steps"][4]["settings"]["cells"] = {"Post": "<<post.text>>"}
        run_id = self.new_item(self.gone_live(document))
        text = self.question(run_id).text
        self.answer(run_id)
        self.until(run_id, "done")
        self.assertEqual(self.posts(), [])
        self.assertEqual(self.rows(), [{"Post": text}])

    def test_without_a_mail_connection_the_draft_waits_at_the_desk_only(self) -> None:
        run_id = self.new_item(self.live(editor={"mail": "", "outside": False}))
        self.question(run_id)
        with self.services.store.read() as session:
            self.assertIsNone(session.scalar(select(tables.Piece.id)))

    def test_runs_are_numbered_and_dated_for_their_texts(self) -> None:
        cells = {"Post": "No. <<run.number>> for <<brand.name>>", "Link": "<<run.date>>"}
        id_ = self.live(log={"cells": cells})
        for _ in range(2):
            run_id = self.new_item(id_)
            self.answer(run_id)
            self.until(run_id, "done")
        self.assertEqual([r["Post"] for r in self.rows()], ["No. 1 for Marrowbank", "No. 2 for Marrowbank"])
        self.assertRegex(self.rows()[0]["Link"], r"^\d{4}-\d\d-\d\d$")

    def test_a_sheet_that_is_gone_stops_the_run_after_the_post_and_nothing_is_posted_twice(self) -> None:
        run_id = self.new_item(self.live())
        self.question(run_id)
        with self.services.store.write() as session:
            session.delete(session.get_one(tables.Sheet, "log"))
        self.answer(run_id)
        self.assertIn("“log” is no longer here", self.until(run_id, "failed").message)
        with self.services.store.write() as session:
            session.add(tables.Sheet(key="log", name="Again", columns=[{"name": "Post", "type": "text"}]))
        self.engine.record(run_id, flow.TakenUp(at=1, address="log", by="Mara"))
        self.until(run_id, "done")
        self.assertEqual((len(self.posts()), len(self.rows())), (1, 1))
