"""What is wrong is told once, to whom it concerns, and is quiet when it is mended."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import func, select

from tests.protocols.test_webpush import PushService
from tests.runtime.house import WHO, WithHouse, page
from ulmus.protocols import mail
from ulmus.runtime import workflows
from ulmus.store import tables


class Wrong(WithHouse):
    def rule(self, **more: Any) -> None:
        now = self.services.clock()
        given = {"what": [], "way": "mail", "connection": "mail", "to": WHO, "since": now - 1, "told_until": now - 1, **more}
        with self.services.store.write() as session:
            session.add(tables.NoticeRule(**given))

    def failing(self) -> int:
        id_ = self.made(page(self.town.url))
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def run_failed(self, workflow: int, message: str, at: float = 0.0, state: str = "failed") -> int:
        """A run of a workflow that ended so."""
        with self.services.store.write() as session:
            revision = session.scalar(select(func.max(tables.Revision.id)))
            at = at or self.services.clock()
            run = tables.Run(
                workflow_id=workflow,
                revision_id=revision,
                title="One",
                state=state,
                message=message,
                started_at=at,
                changed_at=at,
                ended_at=at,
            )
            session.add(run)
            session.flush()
            return run.id

    def look(self) -> None:
        self.engine.notices.look(self.services.clock())

    def told(self, kind: str = "notice") -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            return [
                one.content
                for one in session.scalars(select(tables.Piece).where(tables.Piece.kind == kind).order_by(tables.Piece.id))
            ]

    def standing(self) -> list[str]:
        with self.services.store.read() as session:
            return list(
                session.scalars(select(tables.Notice.what).where(tables.Notice.mended_at.is_(None)).order_by(tables.Notice.id))
            )

    def test_the_same_trouble_is_told_once_and_again_only_after_it_was_mended(self) -> None:
        workflow = self.failing()
        self.rule()
        for n in range(3):
            self.run_failed(workflow, f"The page at http://a.example/{n} did not answer after {n} tries.")
            self.look()
        self.assertEqual(len(self.told()), 1)
        self.run_failed(workflow, "", state="done", at=self.services.clock() + 1)
        self.look()
        self.assertEqual(self.standing(), [])
        self.run_failed(workflow, "The page at http://a.example/9 did not answer after 9 tries.", at=self.services.clock() + 2)
        self.look()
        self.assertEqual(len(self.told()), 2)

    def test_restarted_nothing_is_told_again(self) -> None:
        workflow = self.failing()
        self.rule()
        self.run_failed(workflow, "No.")
        self.look()
        self.reopen()
        self.look()
        self.assertEqual(len(self.told()), 1)

    def test_what_was_mended_before_the_mail_went_out_is_not_told(self) -> None:
        workflow = self.failing()
        self.run_failed(workflow, "No.")
        self.look()
        with self.services.store.write() as session:
            notice = session.query(tables.Notice).one()
            notice.mended_at = self.services.clock()
            session.add(
                tables.Piece(
                    key="late", connection="mail", kind="notice", content={"to": WHO, "way": "mail", "notices": [notice.id]}, state="queued",
                    queued_at=1.0, due_at=1.0,
                )
            )  # fmt: skip

        def left_out() -> bool:
            with self.services.store.read() as session:
                piece = session.query(tables.Piece).filter_by(key="late").one()
                return piece.state == "sent" and "left_out" in (piece.receipt or {})

        self.wait_for(left_out)

    def test_only_what_concerns_somebody_is_told_them(self) -> None:
        first, second = self.failing(), self.failing()
        self.rule(workflow_id=second, to="second@a.example")
        self.rule(what=["unsure"], to="unsure@a.example")
        self.run_failed(first, "No.")
        self.look()
        self.assertEqual(self.told(), [])
        self.run_failed(second, "Neither.")
        self.look()
        self.assertEqual([one["to"] for one in self.told()], ["second@a.example"])

    def test_as_one_letter_in_the_morning_of_what_is_still_wrong(self) -> None:
        workflow = self.failing()
        now = dt.datetime.fromtimestamp(self.services.clock(), dt.UTC)
        at = (now + dt.timedelta(hours=1)).strftime("%H:%M")
        self.rule(at=at, zone="UTC")
        for words in ("First.", "Second.", "Third."):
            self.run_failed(workflow, words)
        self.look()
        self.assertEqual(self.told(), [])
        with self.services.store.write() as session:
            session.query(tables.Notice).filter(tables.Notice.words.like("%Second.%")).update({"mended_at": 1.0})
        later = self.services.clock() + 3700
        self.engine.notices.look(later)
        self.engine.notices.look(later + 10)
        self.assertEqual(len(self.told()), 1)
        self.assertGreaterEqual(len(self.told()[0]["notices"]), 2)

    def test_a_deadline_that_passed_a_start_that_fails_and_one_that_fell_silent(self) -> None:
        workflow = self.failing()
        run = self.new_item(workflow)
        asked = self.question(run)
        with self.services.store.write() as session:
            session.get_one(tables.Approval, asked.id).lapsed_at = self.services.clock()
            start = session.get_one(tables.Start, workflow)
            start.failed, start.found = True, "The feed is gone."
        self.look()
        self.assertCountEqual(self.standing(), ["deadline", "start"])
        with self.services.store.write() as session:
            session.get_one(tables.Start, workflow).failed = False
            session.query(tables.Run).update({"started_at": self.services.clock() - 40 * 86_400})
        for n in range(6):
            self.run_failed(workflow, "", at=self.services.clock() - (30 + n) * 86_400, state="done")
        self.look()
        self.assertIn("silent", self.standing())

    def test_the_mail_says_what_is_wrong_and_where_to_mend_it(self) -> None:
        out = []
        real = mail.compose
        workflow = self.failing()
        self.rule()

        def kept(*arguments: Any) -> Any:
            out.append(arguments[1])
            return real(*arguments)

        mail.compose = kept  # type: ignore[assignment]
        self.addCleanup(setattr, mail, "compose", real)
        run = self.run_failed(workflow, "The page did not answer.")
        self.look()
        self.wait_for(lambda: bool(out))
        self.assertIn("The page did not answer", out[0].subject)
        self.assertIn(f"/runs/{run}", out[0].text)


class Pushed(WithHouse):
    """What waits for somebody is pushed to their browsers."""

    def setUp(self) -> None:
        super().setUp()
        self.service = PushService()
        self.addCleanup(self.service.close)
        self.services.web.allowed = self.services.web.allowed | {self.service.host}
        with self.services.store.write() as session:
            user = tables.User(email=WHO, name="Ines Varga", role="reviewer", password="x")
            session.add(user)
            session.flush()
            session.add(
                tables.PushLine(user_id=user.id, endpoint=f"http://{self.service.host}/push/1", keys=self.service.keys, made_at=1.0)
            )

    def ask(self) -> None:
        id_ = self.made(page(self.town.url))
        workflows.go_live(self.engine, id_, WHO)
        self.question(self.new_item(id_))

    def test_once_with_how_many_wait(self) -> None:
        self.ask()
        self.wait_for(lambda: len(self.service.got) == 1)
        self.assertEqual(self.service.got[0]["waiting"], 1)
        self.assertRegex(self.service.got[0]["link"], r"^/approvals/\d+$")
        self.ask()
        self.wait_for(lambda: len(self.service.got) == 2)
        self.assertEqual(self.service.got[1]["waiting"], 2)
        self.reopen()
        self.engine.pushing.tick(self.services.clock())
        self.assertEqual(len(self.service.got), 2)

    def test_a_browser_that_is_gone_is_forgotten(self) -> None:
        self.service.status = 410
        self.ask()

        def lines() -> int:
            with self.services.store.read() as session:
                return session.query(tables.PushLine).count()

        self.wait_for(lambda: lines() == 0)

    def test_nobody_is_disturbed_in_quiet_hours(self) -> None:
        with self.services.store.write() as session:
            today = dt.datetime.fromtimestamp(self.services.clock(), dt.UTC).weekday()
            session.add(tables.Person(who=WHO, zone="UTC", quiet={"days": [today]}))
        self.ask()
        self.engine.pushing.tick(self.services.clock() + 5)
        self.assertEqual(self.service.heads, [])
