"""Borders: who signs in and how often, what is asked for without an account, what is shown to whom, odd requests."""

from __future__ import annotations

import io
import json
import threading
from typing import Any
from unittest import mock

from openapi_spec_validator import validate
from sqlalchemy import func, select

from tests.api.visitor import PASSWORD, Visitor, WithApi
from ulmus.api.http import places
from ulmus.api.security import auth, passwords
from ulmus.runtime import links, workflows
from ulmus.store import tables

OTHER = "another good password"


class SigningIn(WithApi):
    def tried(self, email: str, password: str, place: str = "10.0.0.1", client: Any = None) -> int:
        client = client or self.app.test_client()
        answer = client.post("/api/session", json={"email": email, "password": password}, environ_overrides={"REMOTE_ADDR": place})
        return int(answer.status_code)

    def test_whoever_tries_passwords_is_held_up_and_the_rightful_one_is_not(self) -> None:
        email = "owner@a.example"
        known = self.app.test_client()
        self.assertEqual(self.tried(email, PASSWORD, "10.0.0.9", known), 200)
        for _ in range(auth.TRIES):
            self.assertEqual(self.tried(email, "wrong"), 403)
        self.assertEqual(self.tried(email, PASSWORD), 429, "even with the right one, from there")
        self.assertEqual(self.tried(email, PASSWORD, "10.0.0.2"), 200, "from elsewhere")
        with mock.patch.object(auth, "TRIES_OF_ACCOUNT", 12):
            for n in range(20):
                self.tried(email, "wrong", f"10.1.0.{n}")
            self.assertEqual(self.tried(email, PASSWORD, "10.2.0.1"), 429, "tried from everywhere")
            self.assertEqual(self.tried(email, PASSWORD, "10.0.0.9", known), 200, "a browser that was here before")
        for n in range(auth.TRIES):
            self.assertEqual(self.tried("reader@a.example", "wrong", "10.0.0.3"), 403, n)
        self.assertEqual(self.tried("maker@a.example", PASSWORD, "10.0.0.3"), 200, "somebody else at the same place")

    def test_a_cookie_of_another_account_is_no_help(self) -> None:
        known = self.app.test_client()
        self.assertEqual(self.tried("reader@a.example", PASSWORD, "10.0.0.9", known), 200)
        for _ in range(auth.TRIES):
            self.tried("owner@a.example", "wrong", "10.0.0.9", known)
        self.assertEqual(self.tried("owner@a.example", PASSWORD, "10.0.0.9", known), 429)

    def test_an_unknown_address_takes_as_long(self) -> None:
        """What takes the time is done for both alike."""
        self.tried("nobody@a.example", "wrong")  # what is compared with is made once
        for email in ("owner@a.example", "nobody@a.example"):
            with mock.patch.object(passwords, "_hasher", wraps=passwords._hasher) as hasher:
                self.assertEqual(self.tried(email, "wrong", f"10.9.0.{len(email)}"), 403)
            self.assertEqual((hasher.verify.call_count, hasher.hash.call_count), (1, 0), email)

    def test_a_cookie_goes_by_https_only_where_people_come_by_it(self) -> None:
        body = {"email": "owner@a.example", "password": PASSWORD}
        plain = self.app.test_client().post("/api/session", json=body)
        self.assertNotIn("Secure", str(plain.headers.getlist("Set-Cookie")))
        safe = self.app.test_client().post("/api/session", json=body, environ_overrides={"wsgi.url_scheme": "https"})
        self.assertTrue(all("Secure" in cookie for cookie in safe.headers.getlist("Set-Cookie")))
        self.services.public_url = "https://ulmus.example"
        behind = self.app.test_client().post("/api/session", json=body)
        self.assertTrue(all("Secure" in cookie for cookie in behind.headers.getlist("Set-Cookie")))

    def test_a_password_is_changed_and_everywhere_else_one_is_signed_out(self) -> None:
        here, there = self.visitor("maker"), self.visitor("maker")
        for now, new, status in (
            ("wrong one here", OTHER, 403),
            (PASSWORD, "short", 422),
            (PASSWORD, "passwordpassword", 422),
            (PASSWORD, "maker@a.example", 422),
        ):
            here.put("/session/password", {"now": now, "new": new}, status)
        here.csrf = here.put("/session/password", {"now": PASSWORD, "new": OTHER})["csrf"]
        there.get("/today", 401)
        here.get("/today")
        self.assertEqual(self.tried("maker@a.example", PASSWORD), 403)
        self.assertEqual(self.tried("maker@a.example", OTHER), 200)
        here.delete("/session/everywhere")
        here.get("/today", 401)

    def test_common_passwords_will_not_do(self) -> None:
        for wrong in ("", "short", "1234567890", "password1234", "qwertyuiop", "ines.marrow1", "x" * 300):
            self.assertTrue(passwords.what_is_wrong(wrong, "ines.marrow@a.example", "Ines Marrow"), wrong)
        self.assertEqual(passwords.what_is_wrong("three beans on a terrace", "ines@a.example"), "")


class Accounts(WithApi):
    def test_owners_add_change_and_end_accounts(self) -> None:
        self.visitor("maker").get("/accounts", 403)
        new = {"email": "New@a.example", "name": "New", "role": "maker", "password": OTHER}
        id_ = self.owner.post("/accounts", new, 201)["id"]
        self.owner.post("/accounts", new, 409)
        self.owner.post("/accounts", new | {"email": "x@a.example", "password": "short"}, 422)
        self.owner.post("/accounts", new | {"email": "nobody"}, 422)
        theirs = Visitor(self.app.test_client())
        theirs.csrf = theirs.ask("POST", "/session", json={"email": "new@a.example", "password": OTHER})["csrf"]
        self.owner.put(f"/accounts/{id_}", {"name": "New", "role": "reader"})
        theirs.get("/connections", 403)
        self.owner.delete(f"/accounts/{id_}")
        theirs.get("/today", 401)
        theirs.ask("POST", "/session", 403, json={"email": "new@a.example", "password": OTHER})
        self.assertEqual([a["email"] for a in self.owner.get("/accounts") if a["ended"]], ["new@a.example"])
        self.owner.put(f"/accounts/{id_}", {"name": "New", "role": "reader"}, 422)
        self.owner.put(f"/accounts/{id_}", {"name": "New", "role": "reader", "password": OTHER})
        theirs.ask("POST", "/session", json={"email": "new@a.example", "password": OTHER})

    def test_one_owner_is_left(self) -> None:
        mine = next(a for a in self.owner.get("/accounts") if a["role"] == "owner")
        self.owner.delete(f"/accounts/{mine['id']}", 409)
        self.owner.put(f"/accounts/{mine['id']}", {"name": "O", "role": "maker"}, 409)
        self.owner.get("/accounts")
        self.owner.put("/accounts/9999", {"name": "O", "role": "maker"}, 404)


class Shown(WithApi):
    def called(self) -> int:
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Calls",
            "start": {"id": "call", "kind": "call", "settings": {"proof": "link"}},
            "steps": [
                {"id": "note", "kind": "set_values", "settings": {"values": {"link": "<<run.link>>"}}},
                {"id": "back", "kind": "wait", "settings": {"how": "call", "longest": 60}},
            ],
        }
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, "m")
        return id_

    def test_readers_are_not_shown_where_calls_go(self) -> None:
        id_ = self.called()
        maker, reader = self.visitor("maker"), self.visitor("reader")
        self.assertIn("/call/", maker.get(f"/workflows/{id_}/start")["call_url"])
        self.assertEqual(reader.get(f"/workflows/{id_}/start")["call_url"], "")
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.until(run, "resting")
        told = self.engine.live(run).state.values["note"]["link"]
        self.assertIn(told.rpartition("/")[2], json.dumps(maker.get(f"/runs/{run}/steps/note")))
        self.assertNotIn(told.rpartition("/")[2], json.dumps(reader.get(f"/runs/{run}/steps/note")))
        self.assertNotIn(told.rpartition("/")[2], json.dumps(reader.get(f"/runs/{run}")))

    def test_a_secret_goes_nowhere_it_was_not_typed_in_for(self) -> None:
        path = "/connections/pond"
        record = next(c for c in self.owner.get("/connections")["connections"] if c["key"] == "pond")
        body = {"kind": "posting", "name": "Pondside", "settings": record["settings"]}
        self.owner.put(path, {**body, "name": "Renamed"})
        elsewhere = {**body, "settings": {**record["settings"], "endpoint": "https://evil.example/micropub"}}
        told = self.owner.put(path, elsewhere, 422)
        self.assertEqual((told["problems"][0]["where"], "Type again" in told["message"]), ("token", True))
        self.owner.put(path, {**elsewhere, "secrets": {"token": ""}}, 422)
        model = {"kind": "model", "name": "x", "settings": {"base_url": "https://evil.example", "model": "m"}}
        self.owner.put(path, model)  # another kind asks for another secret
        with self.services.store.read() as session:
            self.assertEqual(self.services.sealer.open(session.get_one(tables.Connection, "pond").sealed), {})
        self.owner.put("/connections/model", {**model, "settings": model["settings"]}, 422)
        self.owner.put("/connections/model", {**model, "secrets": {"key": "typed again"}})


class Forms(WithApi):
    def form(self, **settings: Any) -> tuple[int, str]:
        fields = [{"name": "photo", "label": "Photo", "type": "file"}, {"name": "what", "label": "What", "type": "text"}]
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Form",
            "start": {"id": "form", "kind": "form", "settings": {"heading": "H", "fields": fields, **settings}},
            "steps": [{"id": "note", "kind": "set_values", "settings": {"values": {"x": "<<form.what>>"}}}],
        }
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, "m")
        return id_, links.sign_key(self.services.sealer.key, "form", id_)

    def sent(self, token: str, place: str = "10.0.0.1") -> int:
        data = {"what": "x", "photo": (io.BytesIO(b"picture"), "a.png")}
        answer = self.app.test_client().post(f"/api/forms/{token}", data=data, environ_overrides={"REMOTE_ADDR": place})
        return int(answer.status_code)

    def kept(self) -> int:
        with self.services.store.read() as session:
            return session.scalar(select(func.count()).select_from(tables.StoredFile)) or 0

    def test_a_closed_form_keeps_no_file(self) -> None:
        id_, token = self.form()
        workflows.pause(self.engine, id_, "m")
        self.assertEqual((self.sent(token), self.kept()), (409, 0))

    def test_a_form_takes_so_many_a_day_from_everybody_together(self) -> None:
        _, token = self.form(daily=3)
        self.assertEqual([self.sent(token, f"10.0.0.{n}") for n in range(5)], [200, 200, 200, 429, 429])


class Odd(WithApi):
    def test_numbers_no_record_can_have(self) -> None:
        beyond = 2**64
        for path in (f"/runs/{beyond}", f"/workflows/{beyond}/bench", f"/approvals/{beyond}", f"/workflows/{beyond}/start"):
            self.owner.get(path, 404)
        self.owner.get("/runs", 404, before=str(beyond))
        self.owner.post(f"/workflows/{beyond}/pause", status=404)

    def test_missing_workflows_are_missing_everywhere(self) -> None:
        for method, path in (
            ("GET", "/workflows/999/bench"),
            ("GET", "/workflows/999/before"),
            ("GET", "/workflows/999/forecast"),
            ("GET", "/workflows/999/revisions"),
            ("GET", "/workflows/999/start"),
            ("GET", "/workflows/999/file"),
            ("GET", "/workflows/999/offers"),
            ("POST", "/workflows/999/pause"),
            ("POST", "/workflows/999/live"),
            ("POST", "/workflows/999/grant"),
            ("POST", "/workflows/999/look"),
            ("DELETE", "/workflows/999"),
        ):
            answer = self.owner.client.open(f"/api{path}", method=method, headers={"X-CSRF-Token": self.owner.csrf}, json={})
            self.assertIn(answer.status_code, (404, 405, 422), (method, path, answer.text[:200]))

    def test_headers_that_are_no_ascii(self) -> None:
        answer = self.owner.client.post("/api/workflows", json={}, headers={"X-CSRF-Token": "ü€"})
        self.assertEqual(answer.status_code, 403)
        answer = self.app.test_client().get("/api/today", headers={"Cookie": "ulmus_session=ü€; ulmus_known=ü"})
        self.assertEqual(answer.status_code, 401)

    def test_unknown_fields_are_refused(self) -> None:
        told = self.owner.post("/sheets", {"name": "S", "columns": [{"name": "A", "type": "text"}], "colour": "red"}, 422)
        self.assertIn("colour", json.dumps(told))
        self.owner.post("/sheets", {"name": "S", "columns": [{"name": "A", "type": "text", "colour": "red"}]}, 422)
        self.owner.get("/runs", 422, colour="red")

    def test_who_asks_is_known_before_what_is_asked_is_read(self) -> None:
        for visitor, status in ((self.visitor(), 401), (self.visitor("reader"), 403)):
            visitor.ask("POST", "/sheets", status, data=b"{" * 1000, content_type="application/json")
            visitor.ask("POST", "/sheets", status, json={"nonsense": 1})

    def test_without_an_account_little_is_read(self) -> None:
        for path in ("/session", "/nothing"):
            answer = self.app.test_client().post(f"/api{path}", data=b"x" * 200_000, content_type="application/json")
            self.assertIn(answer.status_code, (413, 404, 405), path)

    def test_slow_pictures_hold_nobody_up(self) -> None:
        reader, come = self.visitor("reader"), threading.Event()
        self.addCleanup(come.set)
        with mock.patch("ulmus.protocols.net.Web.fetch", side_effect=lambda *a, **k: come.wait(60)):
            reader.get("/pictures", 504, address="http://slow.example/a.png")
            self.assertFalse(come.is_set(), "it was waited for to its end")

    def test_listening_takes_places_of_ones_own_and_gives_them_back(self) -> None:
        reader, maker = self.visitor("reader"), self.visitor("maker")
        self.assertEqual(reader.client.head("/api/events").status_code, 200)
        self.assertEqual(len(self.house.places), 0)
        open_ = [reader.client.get("/api/events") for _ in range(places.MOST_EACH)]
        self.assertEqual(reader.client.get("/api/events").status_code, 503)
        other = maker.client.get("/api/events")
        self.assertEqual(other.status_code, 200, "another person’s places are their own")
        for answer in (*open_, other):
            answer.close()
        self.assertEqual(len(self.house.places), 0)

    def test_the_api_tells_what_it_is(self) -> None:
        told = self.visitor().get("/openapi.json")
        self.assertTrue(told["openapi"].startswith("3."))
        self.assertIn("/api/workflows", told["paths"])
        validate(told)
