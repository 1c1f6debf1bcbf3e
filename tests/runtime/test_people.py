"""Several people asked: one of them, all, in order; substitutes, deadlines and what then; questions that are no yes or note."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse, page
from ulmus.core import flow
from ulmus.readmodels.approvals import approval_view
from ulmus.readmodels.journals import Journals
from ulmus.readmodels.queue import queue, stack_view
from ulmus.runtime import asking, workflows
from ulmus.runtime.asking import people
from ulmus.runtime.asking.forms import of_words
from ulmus.store import tables

TOM = "tom@boats.example"
LEA = "lea@client.example"


class Asked(WithHouse):
    def start(self, **settings: Any) -> tuple[int, tables.Approval]:
        id_ = self.made(page(self.town.url, editor=settings, post={"rules": [{"rule": "length", "most": 300}]}))
        workflows.go_live(self.engine, id_, WHO)
        run = self.new_item(id_)
        return run, self.question(run)

    def yes(self, approval: int, who: str, **more: Any) -> None:
        asking.answer(self.services, self.engine.writer, approval, "approve", who, person=who, **more)

    def refused(self, approval: int, who: str) -> str:
        with self.assertRaises(asking.AnswerRefused) as met:
            self.yes(approval, who)
        return str(met.exception)

    def overdue(self, approval: int, **more: Any) -> None:
        """Let the time for the answer be over, once it is known what is told of the question and by when."""
        self.wait_for(lambda: self.again(approval).brief is not None)
        with self.services.store.write() as session:
            record = session.get_one(tables.Approval, approval)
            record.deadline_at = record.due_at = self.services.clock() - 1
            for name, value in more.items():
                setattr(record, name, value)

    def again(self, approval: int) -> tables.Approval:
        with self.services.store.read() as session:
            return session.get_one(tables.Approval, approval)

    def mails(self, count: int) -> list[str]:
        """To whom mails about questions went out, once so many did."""

        def to() -> list[str]:
            with self.services.store.read() as session:
                sent = select(tables.Piece).where(tables.Piece.kind == "approval_mail", tables.Piece.state == "sent")
                return [
                    p.content["to"] for p in session.scalars(sent.order_by(tables.Piece.id)) if "left_out" not in (p.receipt or {})
                ]

        self.wait_for(lambda: len(to()) >= count, lambda: str(to()))
        return to()


class Outside(Asked):
    def test_who_has_no_account_is_mailed_by_the_only_server_unless_the_maker_says_otherwise(self) -> None:
        with self.services.store.write() as session:
            session.add(tables.User(email=TOM, name="Tom", role="reviewer", password=""))
        self.start(who=f"{LEA}, {TOM}", mail="")
        self.assertEqual(self.mails(1), [LEA], "and the colleague finds it under Approvals")
        self.start(who=LEA, mail="", outside=False)
        with self.services.store.write() as session:
            one = session.scalars(select(tables.Connection).where(tables.Connection.kind == "mail")).one()
            session.add(tables.Connection(key="second", kind="mail", name="Second", settings=one.settings, sealed=one.sealed))
        self.start(who=LEA, mail="")
        with self.services.store.read() as session:
            self.assertEqual(len(session.scalars(select(tables.Piece).where(tables.Piece.kind == "approval_mail")).all()), 1)

    def test_a_question_of_an_earlier_version_says_nothing_of_ways_and_is_handed_over_all_the_same(self) -> None:
        _, asked = self.start(who=WHO, mail="", outside=False)
        with self.services.store.write() as session:
            record = session.get_one(tables.Approval, asked.id)
            record.ways = {}
            self.assertTrue(asking.questions.hand_over(session, record, WHO, TOM, self.services.clock()))


class Several(Asked):
    def test_all_of_them_must_say_yes_and_each_once(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="all")
        self.assertCountEqual(self.mails(2), [WHO, TOM])
        self.yes(asked.id, TOM)
        self.assertEqual(self.again(asked.id).state, "open")
        self.assertIn("already", self.refused(asked.id, TOM))
        self.assertIn("must say yes", self.refused(asked.id, "stranger@else.example"))
        self.yes(asked.id, WHO)
        self.until(run, "done")
        self.assertEqual(self.again(asked.id).decided_by, f"{TOM}, {WHO}")
        agreed = [e for e in Journals(self.services.store).of(run) if isinstance(e, flow.Agreed)]
        self.assertEqual([(e.by, e.waits_for) for e in agreed], [(TOM, [WHO])])

    def test_a_change_after_anothers_yes_asks_that_one_again(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="all")
        self.mails(2)
        self.yes(asked.id, TOM)
        self.yes(asked.id, WHO, text="Seed for all, and for nothing.")
        waits = self.again(asked.id)
        self.assertEqual(waits.state, "open")
        self.assertEqual(people.waited_for(waits), [TOM])
        self.assertEqual(waits.text, "Seed for all, and for nothing.", "the other reads it as it was changed")
        self.mails(3)
        self.yes(asked.id, TOM)
        self.until(run, "done")
        self.assertEqual(self.posts(), ["Seed for all, and for nothing."])

    def test_in_order_the_next_is_told_when_the_one_before_said_yes(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="order")
        self.assertEqual(self.mails(1), [WHO])
        self.assertIn("turn", self.refused(asked.id, TOM))
        self.yes(asked.id, WHO, text="Changed by the first.")
        self.assertEqual(self.mails(2), [WHO, TOM])
        self.yes(asked.id, TOM)
        self.until(run, "done")
        self.assertEqual(self.posts(), ["Changed by the first."])

    def test_one_of_them_is_enough_and_anybodys_note_sends_back(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="one")
        asking.answer(self.services, self.engine.writer, asked.id, "back", TOM, note="Say where.", person=TOM)
        second = self.question(run)
        self.assertEqual(second.round, 2)
        self.yes(second.id, TOM)
        self.until(run, "done")

    def test_restarted_between_two_yeses_the_first_still_counts(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="all")
        self.yes(asked.id, TOM)
        self.reopen()
        self.yes(asked.id, WHO)
        self.until(run, "done")

    def test_an_owner_decides_in_the_place_of_all(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="all")
        asking.answer(self.services, self.engine.writer, asked.id, "approve", "Mara Tollen")
        self.until(run, "done")

    def test_people_by_a_value_and_by_name(self) -> None:
        with self.services.store.write() as session:
            session.add(tables.User(email=LEA, name="Lea Brandt", role="reviewer", password="x"))
            brand = session.get(tables.Brand, "marrowbank")
            if brand is not None:
                brand.facts = {**brand.facts, "editor": TOM}
        _, asked = self.start(who="Lea Brandt, <<brand.editor>>")
        self.assertEqual([one["who"] for one in asked.people], [LEA, TOM])

    def test_a_value_that_names_nobody_fails_with_words(self) -> None:
        id_ = self.made(page(self.town.url, editor={"who": "<<feed.title>>"}))
        workflows.go_live(self.engine, id_, WHO)
        run = self.until(self.new_item(id_), "failed", "stuck")
        self.assertIn("no mail address", run.message)


class Away(Asked):
    def away(self, who: str, substitute: str, until: float = 86_400) -> None:
        with self.services.store.write() as session:
            session.merge(tables.Person(who=who, away_until=self.services.clock() + until, substitute=substitute))

    def test_a_substitute_is_asked_and_it_is_said(self) -> None:
        self.away(WHO, TOM)
        run, asked = self.start()
        self.assertEqual(asked.people[0]["who"], TOM)
        self.assertEqual(asked.people[0]["instead_of"], WHO)
        self.assertEqual(self.mails(1), [TOM])
        self.yes(asked.id, TOM)
        self.until(run, "done")

    def test_what_waits_already_is_handed_over(self) -> None:
        _, asked = self.start()
        self.mails(1)
        self.away(WHO, TOM)
        self.assertEqual(self.mails(2), [WHO, TOM])
        handed = self.again(asked.id)
        self.assertEqual([(one["who"], one["instead_of"]) for one in handed.people], [(TOM, WHO)])
        self.assertEqual(handed.who, TOM)

    def test_handed_to_one_who_is_asked_already_one_yes_is_for_both(self) -> None:
        run, asked = self.start(who=f"{WHO}, {TOM}", needs="all")
        self.mails(2)
        self.away(WHO, TOM)
        self.wait_for(lambda: len(self.again(asked.id).people) == 1)
        self.yes(asked.id, TOM)
        self.until(run, "done")

    def test_one_who_said_yes_already_is_not_asked_for_another_and_nothing_is_written_again_and_again(self) -> None:
        _, asked = self.start(who=f"{WHO}, {TOM}", needs="all")
        self.mails(2)
        self.yes(asked.id, TOM)
        self.wait_for(lambda: self.again(asked.id).brief is not None)
        self.away(WHO, TOM)
        self.engine.deadlines.tick(self.services.clock() + 5)
        before = self.services.store.written("approvals")
        for n in range(3):
            self.engine.deadlines.tick(self.services.clock() + 100 * (n + 1))
        self.assertEqual(self.services.store.written("approvals"), before)
        self.assertEqual(people.waited_for(self.again(asked.id)), [WHO])

    def test_substitutes_in_a_circle_end_somewhere(self) -> None:
        self.away(WHO, TOM)
        self.away(TOM, WHO)
        _, asked = self.start()
        self.assertIn(asked.people[0]["who"], (WHO, TOM))

    def test_quiet_hours_and_one_mail_for_many(self) -> None:
        quiet = tables.Person(who="a", quiet={"from": "20:00", "until": "07:00"}, zone="UTC", collect=[])
        night = dt.datetime(2026, 3, 2, 23, 0, tzinfo=dt.UTC)
        told = dt.datetime.fromtimestamp(people.told_at(quiet, night.timestamp()), dt.UTC)
        self.assertEqual((told.day, told.hour), (3, 7))
        noon = dt.datetime(2026, 3, 2, 12, 0, tzinfo=dt.UTC).timestamp()
        self.assertEqual(people.told_at(quiet, noon), noon)
        weekend = tables.Person(who="a", quiet={"days": [5, 6]}, zone="UTC", collect=[])
        saturday = dt.datetime(2026, 3, 7, 10, 0, tzinfo=dt.UTC)
        self.assertEqual(dt.datetime.fromtimestamp(people.told_at(weekend, saturday.timestamp()), dt.UTC).day, 9)
        with self.services.store.write() as session:
            soon = dt.datetime.fromtimestamp(self.services.clock(), dt.UTC) + dt.timedelta(minutes=30)
            session.merge(tables.Person(who=WHO, zone="UTC", collect=[soon.strftime("%H:%M")]))
        first, second = self.start()[0], self.start()[0]
        with self.services.store.write() as session:
            due = session.scalars(select(tables.Piece).where(tables.Piece.kind == "approval_mail")).all()
            self.assertTrue(all(one.due_at > self.services.clock() + 600 for one in due))
            for one in due:
                one.due_at = self.services.clock() + 2
        self.assertEqual(self.mails(1), [WHO])
        with self.services.store.read() as session:
            mails = session.scalars(select(tables.Piece).where(tables.Piece.kind == "approval_mail")).all()
            told = [one.content["approvals"] for one in mails if "approvals" in one.content]
            asked = session.scalars(select(tables.Approval.id).where(tables.Approval.run_id.in_((first, second)))).all()
        self.assertEqual({one.state for one in mails}, {"sent"})
        self.assertEqual([sorted(numbers) for numbers in told], [sorted(asked)])


class InTime(Asked):
    def late(self, then: str, **more: Any) -> tuple[int, tables.Approval]:
        run, asked = self.start(within=3600, then=then, **more)
        self.overdue(asked.id)
        return run, asked

    def test_nobody_in_time_it_goes_on(self) -> None:
        run, asked = self.late("approve")
        self.until(run, "done")
        self.assertEqual(self.again(asked.id).decided_by, "nobody in time")

    def test_nobody_in_time_it_is_left(self) -> None:
        self.until(self.late("decline")[0], "declined")

    def test_nobody_in_time_another_is_asked(self) -> None:
        run, asked = self.late("other", other=TOM)
        self.wait_for(lambda: self.again(asked.id).who == TOM)
        self.assertIn(TOM, self.mails(2))
        self.yes(asked.id, TOM)
        self.until(run, "done")

    def test_one_of_two_said_yes_and_another_is_asked_for_the_one_who_did_not(self) -> None:
        run, asked = self.start(within=3600, then="other", other=LEA, who=f"{WHO}, {TOM}", needs="all")
        self.yes(asked.id, WHO)
        self.overdue(asked.id)
        self.wait_for(lambda: people.waited_for(self.again(asked.id)) == [LEA])
        self.yes(asked.id, LEA)
        self.until(run, "done")
        self.assertEqual(self.again(asked.id).decided_by, f"{WHO}, {LEA}")

    def test_a_broken_rule_is_never_let_out_by_the_clock(self) -> None:
        _, asked = self.start(within=3600, then="approve")
        self.overdue(asked.id, edit={"text": "word " * 200, "parts": {}})
        self.wait_for(lambda: self.again(asked.id).lapsed_at is not None)
        self.assertEqual(self.again(asked.id).state, "open")
        self.assertEqual(self.posts(), [])


class OtherAnswers(WithHouse):
    """Questions that are answered by choosing, filling in, or yes and no."""

    def ask(self, kind: str, settings: dict[str, Any]) -> tuple[int, tables.Approval]:
        document = {
            "start": {"id": "hand", "kind": "by_hand", "settings": {}},
            "steps": [
                {"id": "q", "kind": kind, "settings": {"who": WHO, **settings}},
                {"id": "after", "kind": "set_values", "settings": {"values": {"told": "<<q.text>>"}}},
            ],
        }
        id_ = self.made({**page(self.town.url), **document})
        workflows.go_live(self.engine, id_, WHO)
        with self.engine.transaction() as tx:
            run = self.engine.begin(tx, id_, {}, "By hand")
        return run, self.question(run)

    def told(self, run: int) -> dict[str, Any]:
        self.until(run, "done")
        return dict(self.engine.live(run).state.values["q"])

    def give(self, asked: tables.Approval, given: dict[str, Any], note: str = "") -> None:
        asking.answer(self.services, self.engine.writer, asked.id, "approve", WHO, None, note, given=given, person=WHO)

    def test_choose_one_of_several(self) -> None:
        run, asked = self.ask("ask_choice", {"among": {"Short": "Seed.", "Long": "Seed for all."}})
        for wrong in ({}, {"number": 0}, {"number": 3}, {"number": True}, {"number": "1"}):
            with self.assertRaises(asking.AnswerRefused):
                self.give(asked, wrong)
        self.give(asked, {"number": 2}, "It says more.")
        told = self.told(run)
        self.assertEqual(
            (told["text"], told["name"], told["number"], told["reason"]), ("Seed for all.", "Long", 2, "It says more.")
        )

    def test_fill_in_a_form(self) -> None:
        fields = [{"name": "price", "label": "Price", "type": "number", "required": True}, {"name": "place", "label": "Place"}]
        run, asked = self.ask("ask_form", {"question": "What is missing?", "fields": fields})
        with self.assertRaises(asking.AnswerRefused) as met:
            self.give(asked, {"price": "much"})
        self.assertIn("Price", str(met.exception))
        self.give(asked, {"price": "12", "place": "Ostrey"})
        told = self.told(run)
        self.assertEqual((told["price"], told["place"]), (12, "Ostrey"))

    def test_yes_or_no_either_way_goes_on(self) -> None:
        run, asked = self.ask("ask_yes_no", {"question": "Shall we?"})
        self.give(asked, {"yes": False}, "Too early.")
        told = self.told(run)
        self.assertEqual((told["answer"], told["yes"], told["reason"]), ("no", False, "Too early."))

    def test_in_words_as_by_mail(self) -> None:
        options = {"form": "choose", "options": [{"name": "Short", "text": "a"}, {"name": "Long", "text": "b"}]}
        self.assertEqual(of_words(options, "2, it says more", "")[0], {"number": 2})
        self.assertEqual(of_words(options, "Long", "")[0], {"number": 2})
        self.assertEqual(of_words(options, "No. 1", "")[0], {"number": 1})
        unclear_ones = (
            "both",
            "3",
            "Short or Long?",
            "",
            "2 of these are wrong",
            "1 is bad, take the other",
            "2, but shorter",
            "Long\nonly if",
        )
        for unclear in unclear_ones:
            with self.assertRaises(asking.AnswerRefused):
                of_words(options, unclear, "")
        yes_no = {"form": "yes_no"}
        self.assertEqual(of_words(yes_no, "Nein, zu früh", "")[0], {"yes": False})
        self.assertEqual(of_words(yes_no, "Yes. It is time.", ""), ({"yes": True}, "It is time."))
        for turned in ("Yes, but only in May", "Yes\nbut only in May", "Ja, falls es regnet", "perhaps", "Yes?\nReally?"):
            with self.assertRaises(asking.AnswerRefused):
                of_words(yes_no, turned, "")
        form = {"form": "fill", "fields": [{"name": "price", "label": "Price"}, {"name": "place", "label": "Place"}]}
        self.assertEqual(
            of_words(form, "Price: 12\nPlace: Ostrey,\nby the mill", "")[0], {"price": "12", "place": "Ostrey,\nby the mill"}
        )


class Queued(Asked):
    def test_what_a_queue_tells_and_those_due_first(self) -> None:
        _, first = self.start()
        _, second = self.start(within=600)
        self.wait_for(lambda: all(self.again(one.id).brief for one in (first, second)))
        with self.services.store.read() as session:
            told = queue(session, 50, WHO)
        self.assertEqual([one.id for one in told.open], [second.id, first.id])
        brief = told.open[0].brief
        assert brief is not None
        self.assertEqual(brief.form, "post")
        self.assertTrue(brief.opening)
        self.assertTrue(told.open[0].mine)
        self.assertFalse(any(one.mine for one in queue(session, 50, "else@a.example").open))

    def test_sixty_alike_are_a_stack_and_hide_no_single_one(self) -> None:
        run, asked = self.start()
        with self.services.store.write() as session:
            for n in range(60):
                text = f"Dear {n}, we have seed of old sorts."
                session.add(
                    tables.Approval(
                        run_id=run, address=f"all:{n + 1}/ask", round=1, last=False, draft="letter", who=TOM, text=text, created_at=1.0 + n,
                        people=[{"who": TOM}], brief={"opening": text, "broken": ["too long"] if n < 3 else [], "doubtful": int(n == 5)},
                    )
                )  # fmt: skip
        with self.services.store.read() as session:
            told = queue(session, 50, WHO)
            stack = told.stacks[0]
            rows = stack_view(session, stack.workflow, "ask").rows
        self.assertEqual([one.id for one in told.open], [asked.id])
        self.assertEqual((stack.count, stack.broken, stack.doubtful, told.waiting), (60, 3, 1, 61))
        self.assertEqual(len(rows), 60)
        changed = "".join(mark.text for mark in rows[7].marks if mark.what == "added")
        self.assertEqual(changed, "7")


class ThePieceItself(Asked):
    """What of a piece no draft wrote is changed at approval: its tags, and when it goes."""

    def tagged(self) -> tuple[int, tables.Approval]:
        document = page(self.town.url, post={"rules": [{"rule": "length", "most": 300}]}, out={"tags": "seed, library"})
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.new_item(id_)
        return run, self.question(run)

    def sent(self, run: int) -> tables.Piece:
        self.until(run, "done", "resting", "waiting")
        with self.services.store.read() as session:
            return session.scalars(select(tables.Piece).where(tables.Piece.run_id == run)).one()

    def test_tags_and_the_time_it_goes(self) -> None:
        run, asked = self.tagged()
        at = self.services.clock() + 3600
        self.yes(asked.id, WHO, pieces={"out": {"tags": ["beans", "beans", " "], "goes": at}})
        self.wait_for(lambda: self.again(asked.id).state == "approve")

        def queued() -> bool:
            with self.services.store.read() as session:
                return session.query(tables.Piece).filter_by(run_id=run).count() == 1

        self.wait_for(queued)
        with self.services.store.read() as session:
            piece = session.query(tables.Piece).filter_by(run_id=run).one()
        self.assertEqual(piece.content["tags"], ["beans"])
        self.assertAlmostEqual(piece.goes_at or 0, at, delta=2)

    def test_the_subject_of_a_letter_no_draft_wrote(self) -> None:
        letter = {"server": "mail", "to": LEA, "subject": "Seed", "text": "<<editor.text>>"}
        document = page(self.town.url, post={"rules": [{"rule": "length", "most": 300}]})
        document["steps"] = [
            {"id": "out", "kind": "send_letter", "settings": letter} if step["id"] == "out" else step
            for step in document["steps"]
            if step["id"] != "log"
        ]
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.new_item(id_)
        asked = self.question(run)
        view = approval_view(self.services, self.engine, Journals(self.services.store), asked.id)
        self.assertEqual([one.changeable for one in view.pieces], [["subject", "goes"]])
        self.yes(asked.id, WHO, pieces={"out": {"subject": "Seed for all"}})
        self.until(run, "done")
        with self.services.store.read() as session:
            sent = session.scalars(select(tables.Piece).where(tables.Piece.kind == "send_letter")).one()
        self.assertEqual((sent.state, sent.content["subject"]), ("sent", "Seed for all"))

    def test_what_cannot_be_changed_is_refused_and_nothing_is_decided(self) -> None:
        _, asked = self.tagged()
        endless = ({"goes": 1e300}, {"goes": True}, {"goes": "soon"}, {"goes": -1})
        for wrong in ({"text": "other"}, {"pictures": [1]}, {"pictures": ["x"]}, {"form": "act"}, *endless):
            with self.assertRaises(asking.AnswerRefused):
                self.yes(asked.id, WHO, pieces={"out": wrong})
        with self.assertRaises(asking.AnswerRefused):
            self.yes(asked.id, WHO, pieces={"log": {"goes": 1e9}})
        self.assertEqual(self.again(asked.id).state, "open")

    def test_what_comes_from_outside_under_that_name_changes_nothing(self) -> None:
        start = {"id": "item", "kind": "call", "settings": {}}
        steps = [step for step in page(self.town.url)["steps"] if step["id"] == "out"]
        steps[0]["settings"]["text"] = "<<item.title>>"
        id_ = self.made({**page(self.town.url), "start": start, "steps": steps})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "As it is", "pieces": {"out": {"tags": ["forged"]}}})
        assert run is not None
        self.until(run, "done")
        self.assertEqual(self.sent(run).content.get("tags", []), [])
