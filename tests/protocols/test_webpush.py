"""Pushes: encrypted for the browser, signed by the house, and what a push service may answer."""

from __future__ import annotations

import base64
import json
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from typing import Any

import http_ece
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec

from ulmus.protocols import webpush
from ulmus.protocols.errors import Misconfigured, NotFound, OutsideError, RateLimited, Refused, Unreachable
from ulmus.protocols.net import Web

SECRET = b"a secret of the house"


def text(raw: bytes) -> str:
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode()


class PushService:
    """A push service with one browser behind it, which decrypts what comes, and answers what it is told to."""

    def __init__(self) -> None:
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.auth = b"0123456789abcdef"
        self.status = 201
        self.got: list[Any] = []
        self.heads: list[dict[str, str]] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                outer.heads.append(dict(self.headers))
                status = outer.status
                if status < 300:
                    plain = http_ece.decrypt(body, private_key=outer.key, auth_secret=outer.auth, version="aes128gcm")
                    outer.got.append(json.loads(plain))
                self.send_response(status)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def host(self) -> str:
        return f"127.0.0.1:{self.server.server_port}"

    @property
    def keys(self) -> dict[str, str]:
        point = self.key.public_key().public_bytes(serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint)
        return {"p256dh": text(point), "auth": text(self.auth)}

    def line(self) -> webpush.Line:
        return webpush.line_of(f"http://{self.host}/push/1", self.keys)

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()


class Pushes(unittest.TestCase):
    def setUp(self) -> None:
        self.service = PushService()
        self.addCleanup(self.service.close)
        self.web = Web(frozenset({self.service.host}))
        self.addCleanup(self.web.close)

    def push(self, secret: bytes = SECRET) -> None:
        webpush.push(self.web, self.service.line(), json.dumps({"title": "Ä draft"}).encode(), secret, "https://ulmus.example")

    def test_the_browser_reads_it_and_the_service_knows_who_sent_it(self) -> None:
        self.push()
        self.assertEqual(self.service.got, [{"title": "Ä draft"}])
        head = self.service.heads[0]
        self.assertEqual((head["Content-Encoding"], head["TTL"]), ("aes128gcm", "86400"))
        token, key = head["Authorization"].removeprefix("vapid ").split(",")
        self.assertEqual(key.strip().removeprefix("k="), webpush.public_key(SECRET))
        claims = json.loads(base64.urlsafe_b64decode(token.removeprefix("t=").split(".")[1] + "=="))
        self.assertEqual((claims["aud"], claims["sub"]), (f"http://{self.service.host}", "https://ulmus.example"))

    def test_the_houses_key_stays_the_same_for_its_secret(self) -> None:
        self.assertEqual(webpush.public_key(SECRET), webpush.public_key(SECRET))
        self.assertNotEqual(webpush.public_key(SECRET), webpush.public_key(b"another"))

    def test_what_a_service_may_answer(self) -> None:
        errors: dict[int, type[OutsideError]] = {
            404: NotFound,
            410: NotFound,
            429: RateLimited,
            500: Unreachable,
            403: Refused,
            302: Refused,
        }
        for status, error in errors.items():
            self.service.status = status
            with self.assertRaises(error):
                self.push()

    def test_a_browser_that_says_nonsense_is_refused(self) -> None:
        good = self.service.keys
        for endpoint, keys in (
            ("http://x.example", {**good, "auth": "short"}),
            ("http://x.example", {**good, "p256dh": "AAAA"}),
            ("http://x.example", {}),
            ("file:///etc/passwd", good),
            ("http://x.example", {**good, "p256dh": "not base64!"}),
        ):
            with self.assertRaises(Misconfigured):
                webpush.line_of(endpoint, keys)

    def test_an_address_inside_is_refused_like_any_other(self) -> None:
        guarded = Web(frozenset())
        self.addCleanup(guarded.close)
        with self.assertRaises(OutsideError):
            webpush.push(guarded, self.service.line(), b"{}", SECRET, "https://ulmus.example")
        self.assertEqual(self.service.heads, [])
