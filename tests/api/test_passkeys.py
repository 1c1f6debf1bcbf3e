"""Signing in by a passkey: made with one's password, good for its owner and this place alone, each challenge once."""

from __future__ import annotations

import unittest
from typing import Any

from tests.api.authenticator import Authenticator
from tests.api.visitor import PASSWORD, Visitor, WithApi
from ulmus.api.security.passkeys import reached
from ulmus.store import tables

HERE = "http://localhost"


class Passkeys(WithApi):
    def made(self, who: Visitor, device: Authenticator, status: int = 201) -> Any:
        options = who.post("/session/passkeys/begin", {"password": PASSWORD})["options"]
        return who.post("/session/passkeys", {"name": "The laptop", "credential": device.make(options)}, status)

    def options(self) -> dict[str, Any]:
        told: dict[str, Any] = self.visitor().post("/session/passkey/begin")["options"]
        return told

    def signs_in(self, proof: dict[str, Any], status: int = 200) -> Any:
        return self.visitor().post("/session/passkey", {"credential": proof}, status)

    def test_made_used_and_taken_away(self) -> None:
        device = Authenticator(HERE)
        self.assertTrue(self.visitor().get("/session")["passkeys"])
        self.owner.post("/session/passkeys/begin", {"password": "not mine at all"}, 403)
        self.made(self.owner, device)
        (one,) = self.owner.get("/session/passkeys")["passkeys"]
        self.assertEqual((one["name"], one["place"], one["used_at"]), ("The laptop", "localhost", None))
        # A second step is asked for with a password; a passkey is both.
        with self.services.store.write() as session:
            session.query(tables.User).filter_by(email="owner@a.example").one().second = self.services.sealer.seal(
                {"secret": "A" * 32}
            )
        signed = self.signs_in(device.prove(self.options()))
        self.assertEqual((signed["signed_in"], signed["email"]), (True, "owner@a.example"))
        self.assertIsNotNone(self.owner.get("/session/passkeys")["passkeys"][0]["used_at"])
        self.assertIn("signed in by a passkey", str(self.owner.get("/trail")["lines"]))
        self.visitor("reader").delete(f"/session/passkeys/{one['mark']}", 404)
        self.owner.delete(f"/session/passkeys/{one['mark']}")
        self.assertIn("not known here", self.signs_in(device.prove(self.options()), 403)["message"])

    def test_what_does_not_prove_it_is_refused(self) -> None:
        device = Authenticator(HERE)
        self.made(self.owner, device)
        options = self.options()
        proof = device.prove(options)
        self.signs_in(proof)
        self.assertIn("used before", self.signs_in(proof, 403)["message"])
        elsewhere = Authenticator("https://ulmus.example.evil")
        elsewhere.key, elsewhere.id, elsewhere.count = device.key, device.id, 50
        self.signs_in(elsewhere.prove(self.options()), 403)
        careless = Authenticator(HERE, verifies=False)
        careless.key, careless.id, careless.count = device.key, device.id, 50
        self.signs_in(careless.prove(self.options()), 403)
        other = Authenticator(HERE)
        other.id = device.id
        other.count = 50
        self.signs_in(other.prove(self.options()), 403)
        # A copy of a device that counts is told by its count.
        copied = Authenticator(HERE)
        copied.key, copied.id, copied.count = device.key, device.id, 0
        self.signs_in(copied.prove(self.options()), 403)
        options, late = self.options(), self.services.clock() + 301
        self.services.clock = lambda: late
        self.signs_in(device.prove(options), 403)
        for wrong in ({}, {"id": "x"}, {"id": None, "response": {"clientDataJSON": "!"}}, {"response": []}):
            self.signs_in(wrong, 403)

    def test_a_challenge_is_for_one_person_and_purpose(self) -> None:
        options = self.owner.post("/session/passkeys/begin", {"password": PASSWORD})["options"]
        device = Authenticator(HERE)
        maker = self.visitor("maker")
        self.assertIn(
            "Try again", maker.post("/session/passkeys", {"name": "", "credential": device.make(options)}, 422)["message"]
        )
        signing = self.options()
        self.owner.post(
            "/session/passkeys", {"name": "", "credential": device.make({**options, "challenge": signing["challenge"]})}, 422
        )
        self.made(self.owner, device)
        self.made(maker, device, 409)

    def test_an_owner_takes_them_away_with_a_lost_device(self) -> None:
        maker, device = self.visitor("maker"), Authenticator(HERE)
        self.made(maker, device)
        who = next(one["id"] for one in self.owner.get("/accounts") if one["email"] == "maker@a.example")
        self.owner.delete(f"/accounts/{who}/second")
        self.signs_in(device.prove(self.options()), 403)

    def test_whoever_is_ended_signs_in_no_more(self) -> None:
        maker, device = self.visitor("maker"), Authenticator(HERE)
        self.made(maker, device)
        who = next(one["id"] for one in self.owner.get("/accounts") if one["email"] == "maker@a.example")
        self.owner.delete(f"/accounts/{who}")
        self.signs_in(device.prove(self.options()), 403)


class Where(unittest.TestCase):
    def test_only_at_the_house_s_own_address(self) -> None:
        own = "https://ulmus.example"
        self.assertEqual(reached(own, "https://ulmus.example/").host, "ulmus.example")  # type: ignore[union-attr]
        # Behind a proxy the server itself may be reached without TLS; browsers tell of the public origin.
        self.assertEqual(reached(own, "http://ulmus.example/").origin, own)  # type: ignore[union-attr]
        self.assertEqual(reached(own, "http://localhost:8420/").origin, "http://localhost:8420")  # type: ignore[union-attr]
        for public, asked in (
            (own, "https://other.example/"),
            ("http://ulmus.example", "http://ulmus.example/"),
            (own, "http://10.0.0.4/"),
            ("https://10.0.0.4", "https://10.0.0.4/"),
        ):
            self.assertIsNone(reached(public, asked), asked)
