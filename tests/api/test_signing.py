"""Signing in: the second step, the places one is signed in at, and the trail of what was done."""

from __future__ import annotations

import re
import time
from typing import Any, ClassVar
from unittest import mock

import pyotp

from tests.api.visitor import PASSWORD, Visitor, WithApi
from ulmus.api.security import second
from ulmus.runtime.services import audit
from ulmus.store import tables


class SecondStep(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.now = 1_900_000_000.0
        self.services.clock = lambda: self.now  # type: ignore[method-assign]

    def set_up(self, visitor: Visitor) -> tuple[pyotp.TOTP, list[str]]:
        begun = visitor.post("/session/second", {})
        totp = pyotp.TOTP(begun["secret"])
        body = {"token": begun["token"], "figures": totp.at(self.now), "password": PASSWORD}
        return totp, visitor.ask("PUT", "/session/second", 200, json=body)["codes"]

    def enter(self, figures: str, status: int = 200) -> dict[str, Any]:
        visitor = self.visitor()
        body = {"email": "maker@a.example", "password": PASSWORD, "figures": figures}
        told: dict[str, Any] = visitor.post("/session", body, status)
        return told

    def test_figures_are_asked_for_once_it_is_set_up(self) -> None:
        maker = self.visitor("maker")
        totp, codes = self.set_up(maker)
        self.assertEqual((len(codes), len(set(codes))), (10, 10))
        self.assertTrue(maker.get("/session")["second"])
        self.now += 60
        self.assertEqual(self.enter("", 403)["code"], "second")
        self.assertEqual(self.enter("000000", 403)["code"], "second")
        figures = totp.at(self.now)
        self.assertTrue(self.enter(f"{figures[:3]} {figures[3:]}")["signed_in"])
        # Whoever looked over the shoulder cannot use them again, nor those before.
        self.enter(figures, 403)
        self.enter(totp.at(self.now - 30), 403)
        self.now += 30
        self.enter(totp.at(self.now))

    def test_the_password_is_right_before_figures_are_asked_for(self) -> None:
        self.set_up(self.visitor("maker"))
        body = {"email": "maker@a.example", "password": "something else", "figures": ""}
        told = self.visitor().post("/session", body, 403)
        self.assertEqual(told.get("code", ""), "")

    def test_a_code_signs_in_once_in_the_place_of_figures(self) -> None:
        _, codes = self.set_up(self.visitor("maker"))
        self.enter(codes[3].upper().replace("-", " "))
        self.enter(codes[3], 403)
        self.enter(codes[4])

    def test_a_device_shows_that_it_has_the_secret_before_anything_changes(self) -> None:
        maker = self.visitor("maker")
        begun = maker.post("/session/second", {})
        right = {"token": begun["token"], "figures": pyotp.TOTP(begun["secret"]).at(self.now), "password": PASSWORD}
        for wrong, status in (({"figures": "123456"}, 422), ({"password": "not mine"}, 403), ({"token": "x"}, 409)):
            maker.ask("PUT", "/session/second", status, json=right | wrong)
        # What was shown to one is no use to another.
        self.visitor("reviewer").ask("PUT", "/session/second", 422, json=right)
        self.assertFalse(maker.get("/session")["second"])
        maker.ask("PUT", "/session/second", 200, json=right)
        maker.post("/session/second", {}, 409)
        self.assertTrue(begun["picture"].startswith("data:image/svg+xml"))
        self.assertIn("maker%40a.example", begun["address"])

    def test_it_is_kept_sealed_and_signs_out_everywhere_else(self) -> None:
        maker, other = self.visitor("maker"), self.visitor("maker")
        totp, codes = self.set_up(maker)
        other.get("/runs", 401)
        with self.services.store.read() as session:
            user = session.query(tables.User).filter_by(email="maker@a.example").one()
            kept = f"{user.second} {user.second_codes}"
        self.assertNotIn(totp.secret, kept)
        self.assertNotIn(codes[0], kept)

    def test_it_is_taken_away_by_its_person_or_by_an_owner(self) -> None:
        maker = self.visitor("maker")
        self.set_up(maker)
        maker.post("/session/second/away", {"password": "not mine"}, 403)
        maker.post("/session/second/away", {"password": PASSWORD})
        self.enter("")
        self.set_up(maker)
        owner = self.visitor("owner")
        number = next(one["id"] for one in owner.get("/accounts") if one["email"] == "maker@a.example")
        maker.delete(f"/accounts/{number}/second", 403)
        owner.delete(f"/accounts/{number}/second")
        maker.get("/runs", 401)
        self.enter("")

    def test_tries_have_an_end(self) -> None:
        self.set_up(self.visitor("maker"))
        for _ in range(8):
            self.enter("000000", 403)
        self.enter("000000", 429)

    def test_a_clock_may_be_off_by_a_step_and_no_more(self) -> None:
        secret = second.new_secret()
        at = pyotp.TOTP(secret).at
        self.assertEqual(second.step_of(secret, at(self.now - 30), self.now, 0), int(self.now - 30) // 30)
        self.assertIsNone(second.step_of(secret, at(self.now - 90), self.now, 0))
        self.assertIsNone(second.step_of(secret, "", self.now, 0))


class Invitations(WithApi):
    NEW: ClassVar[dict[str, Any]] = {"email": "ada@a.example", "name": "Ada Wyle", "role": "maker", "invite": True}

    def link(self) -> str:
        """The token of the link in the last mail."""
        self.wait_for(lambda: bool(self.mails()), lambda: "a mail")
        found = re.findall(r"invited=([\w.-]+)", self.mails()[-1])
        return str(found[0])

    def mails(self) -> list[str]:
        return [str(one["text"]) for one in self.town.state.mails if "ada@a.example" in str(one["to"])]

    def test_somebody_is_invited_and_chooses_a_password(self) -> None:
        made = self.owner.post("/accounts", self.NEW, 201)
        self.assertTrue(made["invited"])
        token, stranger = self.link(), self.visitor()
        self.assertEqual(stranger.get(f"/session/invited/{token}"), {"email": "ada@a.example", "name": "Ada Wyle"})
        # Nobody signs in before: no password fits what stands in its place.
        stranger.post("/session", {"email": "ada@a.example", "password": ""}, 403)
        self.assertIn("at least", stranger.post(f"/session/invited/{token}", {"password": "short"}, 422)["message"])
        told = stranger.post(f"/session/invited/{token}", {"password": "eight boats at midnight"})
        self.assertEqual((told["signed_in"], told["role"]), (True, "maker"))
        # It works once.
        self.assertIn("used already", self.visitor().get(f"/session/invited/{token}", 404)["message"])
        self.visitor().post(f"/session/invited/{token}", {"password": "nine boats at midnight"}, 404)
        self.visitor().get("/session/invited/nonsense", 404)
        listed = {one["email"]: one for one in self.owner.get("/accounts")}
        self.assertFalse(listed["ada@a.example"]["invited"])

    def test_where_the_mail_cannot_go_nobody_is_added(self) -> None:
        self.owner.post("/accounts", self.NEW | {"email": "full.ada@a.example", "server": "no such"}, 502)
        self.assertNotIn("full.ada@a.example", [one["email"] for one in self.owner.get("/accounts")])
        self.owner.post("/accounts", self.NEW | {"email": "maker@a.example"}, 409)
        self.visitor("maker").post("/accounts", self.NEW, 403)

    def test_a_mailed_link_ends_what_was_signed_in_and_asks_for_the_second_step(self) -> None:
        self.owner.post("/accounts", self.NEW | {"invite": False, "password": "seven boats at noon"}, 201)
        number = next(one["id"] for one in self.owner.get("/accounts") if one["email"] == "ada@a.example")
        ada = self.visitor()
        ada.csrf = ada.post("/session", {"email": "ada@a.example", "password": "seven boats at noon"})["csrf"]
        begun = ada.post("/session/second", {})
        totp = pyotp.TOTP(begun["secret"])
        body = {"token": begun["token"], "figures": totp.at(self.services.clock()), "password": "seven boats at noon"}
        ada.put("/session/second", body)
        self.owner.post(f"/accounts/{number}/invitation", {})
        # The password of before counts until the link is used.
        self.visitor().post("/session", {"email": "ada@a.example", "password": "seven boats at noon"}, 403)
        ada.get("/runs")
        token = self.link()
        told = self.visitor().post(f"/session/invited/{token}", {"password": "nine boats at midnight"})
        self.assertFalse(told["signed_in"])
        ada.get("/runs", 401)
        refused = self.visitor().post("/session", {"email": "ada@a.example", "password": "nine boats at midnight"}, 403)
        self.assertEqual(refused["code"], "second")

    def test_a_link_ends_after_a_week(self) -> None:
        self.owner.post("/accounts", self.NEW, 201)
        token = self.link()
        with mock.patch("itsdangerous.timed.time.time", return_value=time.time() + 8 * 86400):
            self.assertIn("too old", self.visitor().get(f"/session/invited/{token}", 404)["message"])


class Places(WithApi):
    def test_each_place_is_listed_and_can_be_signed_out(self) -> None:
        here, there = self.visitor("maker"), self.visitor("maker")
        places = here.get("/session/places")
        self.assertEqual([one["here"] for one in places].count(True), 1)
        self.assertEqual(len(places), 2)
        self.assertEqual({one["place"] for one in places}, {"127.0.0.1"})
        mark = next(one["mark"] for one in places if not one["here"])
        # Another's place is not theirs to end.
        self.visitor("reviewer").delete(f"/session/places/{mark}")
        there.get("/runs")
        here.delete(f"/session/places/{mark}")
        there.get("/runs", 401)
        here.get("/runs")
        here.delete("/session/places/%25", 422)

    def test_an_owner_signs_somebody_out_everywhere(self) -> None:
        maker = self.visitor("maker")
        listed = {one["email"]: one for one in self.owner.get("/accounts")}
        self.assertEqual(listed["maker@a.example"]["places"], 1)
        self.owner.delete(f"/accounts/{listed['maker@a.example']['id']}/places")
        maker.get("/runs", 401)


class Keys(WithApi):
    def program(self, key: str, method: str, path: str, status: int = 200, **more: Any) -> Any:
        answer = self.app.test_client().open(f"/api{path}", method=method, headers={"Authorization": f"Bearer {key}"}, **more)
        self.assertEqual(answer.status_code, status, f"{method} {path}: {answer.text[:300]}")
        return answer.json

    def test_a_key_does_what_its_person_may_and_no_more_than_its_scope(self) -> None:
        maker = self.visitor("maker")
        reading = maker.post("/keys", {"name": "Export", "scope": "reader"}, 201)["key"]
        making = maker.post("/keys", {"name": "Loader", "scope": "maker"}, 201)["key"]
        self.program(reading, "GET", "/workflows")
        self.assertIn("Export", self.program(reading, "POST", "/brands", 403, json={"name": "X"})["message"])
        self.program(making, "POST", "/brands", 201, json={"name": "X"})
        # An owner's acts are nobody's key's, and neither is what only somebody signed in does.
        self.program(making, "GET", "/accounts", 403)
        for method, path in (
            ("POST", "/keys"),
            ("PUT", "/session/password"),
            ("GET", "/session/places"),
            ("POST", "/session/second"),
        ):
            self.program(making, method, path, 403, json={})
        self.program("ulmus_guess", "GET", "/workflows", 401)
        line = next(one for one in self.owner.get("/trail")["lines"] if one["did"] == "added a brand" or "brand" in one["did"])
        self.assertEqual(line["who"], "maker@a.example")

    def test_it_sees_what_its_person_sees(self) -> None:
        self.owner.post("/brands", {"name": "Mine"}, 201)
        with self.services.store.write() as session:
            session.query(tables.User).filter_by(email="maker@a.example").one().brands = ["mine"]
        key = self.visitor("maker").post("/keys", {"name": "Export", "scope": "reader"}, 201)["key"]
        self.assertEqual([one["key"] for one in self.program(key, "GET", "/brands")], ["mine"])

    def test_it_is_kept_as_a_digest_listed_without_itself_and_taken_away(self) -> None:
        maker = self.visitor("maker")
        key = maker.post("/keys", {"name": "Export", "scope": "reader"}, 201)["key"]
        with self.services.store.read() as session:
            kept = str(vars(session.query(tables.ApiKey).one()))
        self.assertNotIn(key, kept)
        self.program(key, "GET", "/runs")
        (listed,) = maker.get("/keys")
        self.assertEqual((listed["name"], listed["place"], listed["whose"]), ("Export", "127.0.0.1", "maker@a.example"))
        self.assertNotIn(key, str(listed))
        # Not another's to see or to take away, but an owner's.
        reviewer = self.visitor("reviewer")
        self.assertEqual(reviewer.get("/keys"), [])
        reviewer.delete(f"/keys/{listed['mark']}")
        self.program(key, "GET", "/runs")
        self.assertEqual(len(self.owner.get("/keys")), 1)
        self.owner.delete(f"/keys/{listed['mark']}")
        self.program(key, "GET", "/runs", 401)

    def test_a_key_ends_with_its_person_and_may_no_more_than_they_may_now(self) -> None:
        key = self.visitor("maker").post("/keys", {"name": "Loader", "scope": "maker"}, 201)["key"]
        number = next(one["id"] for one in self.owner.get("/accounts") if one["email"] == "maker@a.example")
        self.owner.put(f"/accounts/{number}", {"name": "Maker", "role": "reader"})
        self.program(key, "POST", "/brands", 403, json={"name": "X"})
        self.program(key, "GET", "/brands")
        self.owner.delete(f"/accounts/{number}")
        self.program(key, "GET", "/brands", 401)
        self.visitor("reader").post("/keys", {"name": "More", "scope": "maker"}, 403)

    def test_keys_cannot_be_guessed_without_end(self) -> None:
        for _ in range(100):
            self.program("ulmus_guess", "GET", "/workflows", 401)
        self.program("ulmus_guess", "GET", "/workflows", 429)


class Trail(WithApi):
    def test_who_did_what_and_from_where(self) -> None:
        self.owner.post("/brands", {"name": "=Feld & Wald"}, 201)
        told = self.owner.get("/trail")
        line = next(one for one in told["lines"] if "brand" in one["did"])
        self.assertEqual((line["who"], line["place"]), ("owner@a.example", "127.0.0.1"))
        self.assertIn("owner@a.example", told["people"])
        self.visitor("maker").get("/trail", 403)
        # What the house does by itself has no place.
        with self.services.store.write() as session:
            audit(session, self.services.clock(), "the house", "tidied up")
        self.assertEqual(self.owner.get("/trail")["lines"][0]["place"], "")

    def test_it_is_narrowed_and_read_on(self) -> None:
        with self.services.store.write() as session:
            for n in range(230):
                day = 1_800_000_000 + n * 3600
                session.add(tables.Audit(at=day, who=f"p{n % 2}@a.example", did="changed a page", what=f"100% of {n}"))
        first = self.owner.get("/trail", who="p1@a.example")
        self.assertEqual((len(first["lines"]), first["more"]), (100, True))
        rest = self.owner.get("/trail", who="p1@a.example", before=first["lines"][-1]["id"])
        self.assertEqual((len(rest["lines"]), rest["more"]), (15, False))
        self.assertEqual([one["what"] for one in self.owner.get("/trail", words="100% 229")["lines"]], ["100% of 229"])
        self.assertEqual(self.owner.get("/trail", words="100_")["lines"], [])
        days = self.owner.get("/trail", since="2027-01-16", until="2027-01-16")["lines"]
        self.assertEqual(len(days), 24)

    def test_it_is_saved_as_a_file_that_no_spreadsheet_runs(self) -> None:
        self.owner.post("/brands", {"name": "=cmd()"}, 201)
        saved = self.owner.client.get("/api/trail/trail.csv?words=brand")
        self.assertEqual(saved.mimetype, "text/csv")
        self.assertIn('"\'=cmd()"', saved.text)
        self.assertEqual(self.visitor("maker").client.get("/api/trail/trail.csv").status_code, 403)
