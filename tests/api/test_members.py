"""Members who are kept to some brands: nothing of another client's is ever seen, told, counted, found or changed by them."""

from __future__ import annotations

import json
import os
from contextvars import copy_context
from typing import Any
from unittest import mock

from sqlalchemy import func, inspect, select

from tests.api.fuzzing import Fuzz
from tests.api.visitor import PASSWORD, Visitor, WithApi
from tests.runtime.house import WHO, page
from tests.short import WHOLE
from ulmus.api.security import auth, members
from ulmus.protocols.errors import Misconfigured
from ulmus.runtime import sheets, workflows
from ulmus.runtime.executors import Threads
from ulmus.store import sight, tables

MARK = "Zebrawood"
"""Stands in everything of the other client."""
THEIRS = "zebrawood"
EVERYBODYS = ("model", "mail")
ROUNDS = int(os.environ.get("SIGHT_ROUNDS", "6" if WHOLE else "1"))


class TwoClients(WithApi):
    """A house with two clients that do the same work, a member for one, and one of its owners."""

    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            session.add(tables.Brand(key=THEIRS, name=MARK, facts={"about": f"{MARK} makes chairs."}))
            session.get_one(tables.Connection, "pond").brand = "marrowbank"
            session.get_one(tables.Sheet, "log").brand = "marrowbank"
            pond = session.get_one(tables.Connection, "pond")
            copied = {"kind": pond.kind, "settings": pond.settings, "sealed": pond.sealed}
            session.add(tables.Connection(key="zpond", name=f"{MARK} pond", brand=THEIRS, **copied))
            sheets.create(session, f"{MARK} log", [{"name": n, "type": "text"} for n in ("Post", "Link", "By")], THEIRS)
            for who, name, brand in (("kim", "Kim", "marrowbank"), ("zed", f"{MARK} Zed", THEIRS)):
                for role in ("maker", "reviewer", "reader"):
                    email = f"{who}.{role}@a.example"
                    password = self.hashes["p"]
                    session.add(tables.User(email=email, name=name, role=role, password=password, brands=[brand]))
        self.kim = Visitor(self.app.test_client()).sign_in("kim.maker@a.example")

    def ours(self) -> int:
        return self.live()

    def theirs(self) -> int:
        """A workflow of the other client's that has run: one piece went out, another waits for a yes."""
        document = page(
            self.town.url,
            editor={"who": "zed.reviewer@a.example"},
            out={"channel": "zpond"},
            log={"sheet": "zebrawood_log", "cells": {"Post": "<<post.text>>", "Link": f"{MARK} <<out.link>>"}},
            post={"standing": f"You write for {MARK}.", "prompt": f"One post for {MARK}.\n<<feed.title>>\n<<page.text>>"},
        ) | {"name": f"{MARK} news", "brand": THEIRS}
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        done = self.new_item(id_)
        self.answer(done, text=f"{MARK} says so.", despite=True)
        self.until(done, "done")
        self.question(self.new_item(id_))
        workflows.capture(self.engine, id_)
        workflows.pause(self.engine, id_, WHO)
        self.beside(id_, done)
        return id_

    def beside(self, id_: int, run: int) -> None:
        """What else there can be of a client."""
        piece = self.piece(run).id
        with self.services.store.write() as session:
            sheet = session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == "zebrawood_log")).first()
            assert sheet is not None
            sheet.cells = {**sheet.cells, "By": MARK}
            at = self.services.clock()
            session.add_all(
                [
                    tables.SheetView(sheet="zebrawood_log", name=f"{MARK} view", shows={}),
                    tables.SheetKey(digest="z", sheet="zebrawood_log", may="read", name=MARK, made_at=at, made_by=MARK),
                    tables.MailingList(sheet="zebrawood_log", address="Post", state="By", words=MARK),
                    tables.Timetable(connection="zpond", rule="FREQ=DAILY", zone="UTC"),
                    tables.Notice(key=f"run {run}", what="failed", workflow_id=id_, words=f"{MARK} failed.", raised_at=at),
                    tables.Notice(key="house", what="disk", workflow_id=None, words=f"{MARK} fills the disk.", raised_at=at),
                    tables.NoticeRule(workflow_id=id_, what=[], way="mail", to=f"z@{THEIRS}.example", since=at, told_until=at),
                    tables.Result(piece_id=piece, what="answer", who=MARK, text=MARK, at=at),
                    tables.Leaver(address=f"gone@{THEIRS}.example", mailing=MARK, at=at),
                    tables.Person(who="zed.maker@a.example", substitute=f"sub@{THEIRS}.example"),
                    tables.Use(connection="zpond", day="2026-01-01", calls=3),
                ]
            )

    def rows_of(self, brand: str) -> dict[str, list[tuple[Any, ...]]]:
        """All that belongs to a brand, row by row."""
        out = {}
        with sight.only(frozenset({brand})), self.services.store.read() as session:
            for kind in sight.RULES:
                names = [column.key for column in inspect(kind).column_attrs]
                found = session.scalars(select(kind).order_by(*kind.__table__.primary_key))
                rows = [tuple(getattr(one, name) for name in names) for one in found]
                out[kind.__tablename__] = [row for row in rows if row[0] not in EVERYBODYS]
        return out


class EveryOperation(TwoClients):
    def test_nothing_of_another_client_is_seen_or_changed_by_any(self) -> None:
        ours, theirs = self.ours(), self.theirs()
        self.question(self.new_item(ours))
        with self.services.store.read() as session:
            numbers = {
                name: [n for (n,) in session.execute(select(kind.id))]
                for name, kind in (
                    ("run", tables.Run), ("sample", tables.Sample), ("approval", tables.Approval), ("piece", tables.Piece),
                    ("row", tables.SheetRow), ("change", tables.RowChange), ("view", tables.SheetView), ("user", tables.User),
                )
            }  # fmt: skip
        document = self.document(theirs).model_dump(mode="json")
        ids = sorted({ours, theirs, *(n for found in numbers.values() for n in found)})
        known = {
            "id": ids,
            "ids": [ids],
            "workflow": [theirs, theirs, ours],
            "sample": numbers["sample"],
            "step": ["post", "page", "feed", "editor", "out", "log"],
            "key": ["zpond", "zebrawood_log", THEIRS, "log", "pond", "marrowbank"],
            "brand": [THEIRS, THEIRS, "marrowbank"],
            "sheet": ["zebrawood_log"],
            "connection": ["zpond"],
            "into": ["zebrawood_log"],
            "row": numbers["row"],
            "who": ["zed.maker@a.example", "zed.reviewer@a.example"],
            "address": [f"gone@{THEIRS}.example"],
            "document": [document, document | {"brand": "marrowbank", "name": "Ours now"}],
            "number": [1],
            "version": [1, 2],
            "kind": ["csv", "xlsx", "docx", "posting"],
            "words": ["z"],
        }
        fuzz = Fuzz(self.app, 11, known)
        people = [self.kim, *(Visitor(self.app.test_client()).sign_in(f"kim.{role}@a.example") for role in ("reviewer", "reader"))]
        before, mine = self.rows_of(THEIRS), self.rows_of("marrowbank")
        self.assertTrue(
            all(before[name] for name in ("runs", "pieces", "approvals", "sheet_rows", "samples", "journal", "notices"))
        )
        wrong, met = [], set()
        with mock.patch.object(auth, "TRIES", 10**9), mock.patch.object(auth, "TRIES_OF_PLACE", 10**9):
            for n, operation in enumerate([*fuzz.operations] * ROUNDS):
                visitor = people[0] if n % 3 else people[n % len(people)]
                method, path, sent, status, said = fuzz.call(visitor, operation)
                met.add(status)
                if MARK.lower().encode() in fuzz.answered.lower() and MARK.lower() not in str(sent).lower() + path.lower():
                    wrong.append(f"{method} {path} {str(sent)[:200]!r} → {status}: {said}")
                if status == 500:
                    wrong.append(f"{method} {path} {str(sent)[:200]!r} → 500: {said}")
                if n % 40 == 0:
                    for one, role in zip(people, ("maker", "reviewer", "reader"), strict=True):
                        if one.client.get("/api/today").status_code == 401:
                            self.password_back(f"kim.{role}@a.example")
                            one.sign_in(f"kim.{role}@a.example")
        after = self.rows_of(THEIRS)
        self.assertEqual(wrong, [], "\n".join(wrong[:20]))
        for name in before.keys() - {"notices"}:  # the house itself says that they are over
            self.assertEqual(after[name], before[name], f"{name} of the other client")
        self.assertTrue({200, 404, 422} <= met, met)
        self.assertNotEqual(self.rows_of("marrowbank"), mine, "what is one's own was changed by the same calls")

    def password_back(self, email: str) -> None:
        with self.services.store.write() as session:
            session.scalars(select(tables.User).where(tables.User.email == email)).one().password = self.hashes["p"]


class Seen(TwoClients):
    def test_lists_hold_only_what_is_theirs_and_the_owner_sees_all(self) -> None:
        ours, theirs = self.ours(), self.theirs()
        run = self.new_item(ours)
        self.question(run)
        for path in (
            "/workflows", "/runs", "/approvals", "/sheets", "/brands", "/connections", "/people", "/today", "/outbox", "/calendar/days",
            "/timetables", "/lists", "/notices", "/notices/rules", "/report", "/feeds.opml", "/pictures", "/calendar",
        ):  # fmt: skip
            with self.subTest(path=path):
                query = {"from": 0, "to": 2**31} if path.startswith("/calendar") else {}
                answer = self.kim.client.get(f"/api{path}", query_string=query)
                self.assertLess(answer.status_code, 423, answer.text)
                self.assertNotIn(MARK.lower(), answer.text.lower())
        self.assertEqual([one["id"] for one in self.kim.get("/workflows")], [ours])
        self.assertEqual(self.kim.get("/today")["live"], 1)
        self.assertEqual({one["key"] for one in self.kim.get("/connections")["connections"]}, {"model", "mail", "pond"})
        self.assertEqual({one["id"] for one in self.owner.get("/workflows")}, {ours, theirs})
        self.assertIn(MARK, json.dumps(self.owner.get("/people")))
        waiting = self.kim.get("/approvals")["waiting"]
        self.assertEqual((waiting > 0, self.owner.get("/approvals")["waiting"]), (True, waiting + 1), "nor are theirs counted")

    def test_what_is_told_as_it_happens_is_told_to_its_own_people(self) -> None:
        theirs = self.theirs()
        ours = self.ours()
        with self.services.store.read() as session:
            kim = session.scalars(select(tables.User.id).where(tables.User.email == "kim.maker@a.example")).one()
            run = session.scalars(select(tables.Run.id).where(tables.Run.workflow_id == theirs)).first()
            piece, approval = (session.scalars(select(kind.id)).first() for kind in (tables.Piece, tables.Approval))
        told: list[dict[str, Any]] = [
            {"topic": "workflow", "id": theirs},
            {"topic": "page", "id": theirs, "version": 2},
            {"topic": "here", "id": theirs, "name": MARK},
            {"topic": "proof", "workflow": theirs, "sample": 1, "step": "post", "state": "running", "text": MARK},
            {"topic": "comparison", "workflow": theirs, "done": 1, "of": 2},
            {"topic": "run", "id": run},
            {"topic": "piece", "id": piece},
            {"topic": "approval", "id": approval},
            {"topic": "sheet", "key": "zebrawood_log"},
            {"topic": "cell", "key": "zebrawood_log", "name": MARK},
            {"topic": "outside", "id": "connection:zpond"},
            {"topic": "something new", "text": MARK},
        ]
        mine = [{"topic": "workflow", "id": ours}, {"topic": "sheet", "key": "log"}, {"topic": "notice"}]
        store = self.services.store
        ears = members.Ears(store, kim)
        self.assertEqual(ears.heard(told + mine), mine)
        with store.write() as session:
            session.get_one(tables.User, kim).brands = ["marrowbank", THEIRS]
        self.assertEqual(len(ears.heard(told + mine) or []), len(told) - 2 + len(mine), "as things stand now")
        with store.write() as session:
            session.get_one(tables.User, kim).ended_at = 1.0
        self.assertIsNone(ears.heard(mine))

    def test_the_calendar_for_other_programs_shows_what_its_member_sees(self) -> None:
        self.theirs()
        whole = self.owner.post("/calendar/feed")["address"]
        own = self.kim.post("/calendar/feed")["address"]
        read = self.app.test_client()
        self.assertIn(MARK, read.get(whole[len("http://ulmus.example") :]).text)
        mine = read.get(own[len("http://ulmus.example") :])
        self.assertEqual((mine.status_code, MARK in mine.text), (200, False))
        self.assertNotEqual(self.kim.get("/calendar/feed")["address"], whole)
        with self.services.store.write() as session:
            session.scalars(select(tables.User).where(tables.User.email == "kim.maker@a.example")).one().ended_at = 1.0
        self.assertEqual(read.get(own[len("http://ulmus.example") :]).status_code, 404)


class Made(TwoClients):
    def test_what_a_member_makes_is_their_brand_s(self) -> None:
        sheet = self.kim.post("/sheets", {"name": "Leads", "columns": [{"name": "Name"}]}, 201)
        self.assertEqual(sheet["brand"], "marrowbank")
        self.kim.post("/sheets", {"name": "Leads", "columns": [{"name": "Name"}], "brand": THEIRS}, 422)
        id_ = self.kim.post("/workflows", {"name": "Mine"}, 201)["id"]
        self.assertEqual(self.document(id_).brand, "marrowbank")
        self.kim.post("/workflows", {"name": "Mine", "brand": THEIRS}, 422)
        self.kim.post("/brands", {"name": "Another"}, 403)
        self.assertEqual(
            self.kim.post("/sheets", {"name": f"{MARK} log", "columns": [{"name": "a"}]}, 201)["key"], "zebrawood_log_2"
        )

    def test_a_page_is_not_given_to_another_client(self) -> None:
        id_ = self.kim.post("/workflows", {"name": "Mine"}, 201)["id"]
        document = self.document(id_).model_dump(mode="json")
        for brand in (THEIRS, None):
            self.kim.put(f"/workflows/{id_}", {"document": document | {"brand": brand}, "version": 1}, 422)
        self.assertEqual(self.document(id_).brand, "marrowbank")

    def test_another_s_channel_sheet_and_workflow_are_as_good_as_not_there(self) -> None:
        theirs = self.theirs()
        document = page(self.town.url, out={"channel": "zpond"}, log={"sheet": "zebrawood_log"})
        document["steps"].append({"id": "other", "kind": "run_workflow", "settings": {"workflow": str(theirs)}})
        id_ = self.kim.post("/workflows", {"document": document}, 201)["id"]
        self.kim.put(f"/workflows/{id_}", {"document": document, "version": 1})
        told = self.kim.post(f"/workflows/{id_}/live", {}, 409)
        self.assertIn("not ready", told["message"])
        where = {p["step"] for p in self.kim.get(f"/workflows/{id_}/before")["problems"] if p["severity"] == "error"}
        self.assertTrue({"out", "log", "other"} <= where, where)

    def test_a_proof_reads_no_sheet_and_asks_no_service_of_another(self) -> None:
        self.theirs()
        steps = [{"id": "rows", "kind": "read_rows", "settings": {"sheet": "zebrawood_log"}}]
        start = {"id": "topic", "kind": "by_hand", "settings": {"fields": [{"name": "text", "label": "Text"}]}}
        document = {"format": "ulmus-workflow", "version": 1, "name": "P", "brand": "marrowbank", "start": start, "steps": steps}
        id_ = self.kim.post("/workflows", {"document": document}, 201)["id"]
        self.kim.put(f"/workflows/{id_}", {"document": document, "version": 1})
        self.kim.post(f"/workflows/{id_}/samples", {"item": {"text": "x"}})
        self.kim.post(f"/workflows/{id_}/proofs", {})

        bench = self.kim.get(f"/workflows/{id_}/bench")
        (cell,) = (c for c in bench["cells"] if c["step"] == "rows")
        self.assertEqual((cell["state"], MARK in json.dumps(cell)), ("empty", False), "its line is not complete")
        heard: list[str] = []

        def proof() -> None:
            try:
                self.services.connect("zpond", "posting")
                heard.append("asked")
            except Misconfigured as error:
                heard.append(error.message)
            with self.services.store.read() as session:
                heard.append(str(session.scalar(select(func.count()).select_from(tables.SheetRow))))

        with sight.only(frozenset({"marrowbank"})):
            self.services.connect("pond", "posting")
            Threads(1).submit(copy_context().run, proof)
        self.wait_for(lambda: len(heard) == 2)
        self.assertEqual((heard[0][:22], heard[1]), ("The connection “zpond”", "0"), "also in the thread that makes it")

    def test_a_page_that_others_follow_goes_live_by_who_sees_them_all(self) -> None:
        id_ = self.made(page(self.town.url))
        self.owner.put(f"/workflows/{id_}/clients/{THEIRS}", {"own": {}, "facts": {}})
        self.kim.post(f"/workflows/{id_}/live", {}, 403)
        self.owner.post(f"/workflows/{id_}/live", {})
        follower = next(one["id"] for one in self.owner.get("/workflows") if one["id"] != id_)
        zed = Visitor(self.app.test_client()).sign_in("zed.maker@a.example")
        shown = zed.get(f"/workflows/{follower}/bench")
        self.assertEqual(shown["follows"]["id"], 0)
        zed.get(f"/workflows/{follower}/clients", 404)
        zed.get(f"/workflows/{id_}/bench", 404)


class Kept(TwoClients):
    def test_owners_say_who_is_kept_to_what(self) -> None:
        new = {"email": "lou@a.example", "name": "Lou", "role": "maker", "password": PASSWORD, "brands": ["nobody"]}
        self.owner.post("/accounts", new, 422)
        self.owner.post("/accounts", new | {"brands": []}, 422)
        id_ = self.owner.post("/accounts", new | {"brands": [THEIRS]}, 201)["id"]
        lou = Visitor(self.app.test_client()).sign_in("lou@a.example")
        self.assertEqual(lou.get("/session")["brands"], [THEIRS])
        self.assertEqual([one["key"] for one in lou.get("/brands")], [THEIRS])
        self.owner.put(f"/accounts/{id_}", {"name": "Lou", "role": "maker"})
        self.assertEqual([one["key"] for one in lou.get("/brands")], [THEIRS], "left out, it stays as it is")
        self.owner.put(f"/accounts/{id_}", {"name": "Lou", "role": "maker", "brands": None})
        self.assertEqual(len(lou.get("/brands")), 2)
        changed = self.owner.put(f"/accounts/{id_}", {"name": "Lou", "role": "owner", "brands": [THEIRS]})
        self.assertIsNone(changed["brands"], "owners see all of the house")

    def test_whose_a_sheet_or_connection_is_can_be_said_anew(self) -> None:
        self.kim.get("/sheets/zebrawood_log/rows", 404)
        self.kim.put("/sheets/log/brand", {"brand": ""}, 403)
        self.owner.put("/sheets/zebrawood_log/brand", {"brand": "marrowbank"})
        self.kim.get("/sheets/zebrawood_log/rows")
        self.owner.put("/sheets/zebrawood_log/brand", {"brand": ""})
        self.kim.get("/sheets/zebrawood_log/rows", 404)
        self.owner.put("/sheets/zebrawood_log/brand", {"brand": "nobody"}, 422)
        pond = next(c for c in self.owner.get("/connections")["connections"] if c["key"] == "zpond")
        body = {"kind": "posting", "name": "Shared", "settings": pond["settings"]}
        self.owner.put("/connections/zpond", body)
        self.assertNotIn("zpond", {c["key"] for c in self.kim.get("/connections")["connections"]}, "left out, it stays")
        self.owner.put("/connections/zpond", body | {"brand": ""})
        self.assertIn("zpond", {c["key"] for c in self.kim.get("/connections")["connections"]})

    def test_a_request_leaves_nothing_behind_for_the_next(self) -> None:
        self.theirs()
        self.kim.get("/workflows")
        self.assertIn(MARK, json.dumps(self.owner.get("/workflows")))
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(tables.Brand)), 2)
