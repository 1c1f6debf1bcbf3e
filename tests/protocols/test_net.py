"""Fetching: the address guard, limits of size, time and redirects, errors in words."""

from __future__ import annotations

import datetime as dt
import gzip
import http.server
import socket
import ssl
import tempfile
import threading
import time
import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from tests.protocols.outside import answering, raw
from ulmus.protocols.errors import OutsideError, RefusedAddress
from ulmus.protocols.net import Enough, Fetched, Web, check_url, retry_after


class Guard(unittest.TestCase):
    def test_private_loopback_and_link_local_addresses_are_refused(self) -> None:
        web = Web()
        self.addCleanup(web.close)
        for host in (
            "127.0.0.1",
            "localhost",
            "10.0.0.7",
            "192.168.1.1",
            "172.16.0.1",
            "169.254.169.254",
            "[::1]",
            "0.0.0.0",
            "[fe80::1]",
            "100.64.0.1",
            "[::ffff:127.0.0.1]",
        ):
            with self.subTest(host=host), self.assertRaises((RefusedAddress, OutsideError)) as caught:
                web.fetch(f"http://{host}:1/")
            self.assertIsInstance(caught.exception, RefusedAddress, host)

    def test_names_are_checked_after_resolution(self) -> None:
        web = Web()
        self.addCleanup(web.close)
        found = [(socket.AF_INET, socket.SOCK_STREAM, 6, "", ("10.1.2.3", 80))]
        with (
            mock.patch("ulmus.protocols.net.socket.getaddrinfo", return_value=found),
            self.assertRaisesRegex(RefusedAddress, "harmless.example.*10.1.2.3"),
        ):
            web.fetch("http://harmless.example/")

    def test_one_private_address_among_public_ones_is_enough(self) -> None:
        web = Web()
        self.addCleanup(web.close)
        found = [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (a, 80)) for a in ("93.184.216.34", "127.0.0.1")]
        with mock.patch("ulmus.protocols.net.socket.getaddrinfo", return_value=found), self.assertRaises(RefusedAddress):
            web.fetch("http://mixed.example/")

    def test_a_redirect_inward_is_refused(self) -> None:
        server, allowed = raw(self, answering(b"", "Location: http://10.0.0.7/secret\r\n", "302 Found"))
        with self.assertRaisesRegex(RefusedAddress, "10.0.0.7"):
            allowed.fetch(server.url)

    def test_an_allowed_host_is_allowed_on_its_port_only(self) -> None:
        server, web = raw(self, answering(b"hello"))
        self.assertEqual(web.fetch(server.url).body, b"hello")
        with self.assertRaises(RefusedAddress):
            web.fetch("http://127.0.0.1:1/")

    def test_only_web_addresses(self) -> None:
        for url in ("", "ftp://a.example/x", "file:///etc/passwd", "javascript:x", "http://", "//a.example", "http://[", "  "):
            with self.subTest(url=url), self.assertRaises(OutsideError):
                check_url(url)
        check_url("https://a.example/x?y#z")


class Certificates(unittest.TestCase):
    def setUp(self) -> None:
        """A server whose certificate only those trust who are told to."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
        now = dt.datetime.now(dt.UTC)
        made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        made = made.serial_number(1).not_valid_before(now - dt.timedelta(days=1)).not_valid_after(now + dt.timedelta(days=1))
        made = made.add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        self.authority = folder / "own.pem"
        self.authority.write_bytes(made.sign(key, hashes.SHA256()).public_bytes(Encoding.PEM))
        secret = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        (folder / "key.pem").write_bytes(secret)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self.authority, folder / "key.pem")

        class Hello(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                self.send_response(200)
                self.end_headers()
                self.wfile.write(b"hello")

            def log_message(self, *_: Any) -> None:
                """Say nothing."""

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Hello)
        server.socket = context.wrap_socket(server.socket, server_side=True)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.port = server.server_port
        self.web = Web({f"localhost:{self.port}", f"127.0.0.1:{self.port}"})
        self.addCleanup(self.web.close)

    def test_one_that_nobody_vouches_for_is_refused(self) -> None:
        with self.assertRaisesRegex(OutsideError, "its certificate is not valid"):
            self.web.fetch(f"https://localhost:{self.port}/")

    def test_one_the_machine_trusts_is_taken_for_its_own_name_only(self) -> None:
        trusted = SimpleNamespace(cafile=str(self.authority), capath=None)
        with mock.patch("ulmus.protocols.exchange._AUTHORITIES", trusted):
            self.assertEqual(self.web.fetch(f"https://localhost:{self.port}/").body, b"hello")
            with self.assertRaisesRegex(OutsideError, "its certificate is not valid"):
                self.web.fetch(f"https://127.0.0.1:{self.port}/")


class Limits(unittest.TestCase):
    def test_a_body_too_large_is_not_read_to_the_end(self) -> None:
        def endless(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
            for _ in range(10_000):
                line.sendall(b"x" * 10_000)

        server, web = raw(self, endless)
        with self.assertRaisesRegex(OutsideError, "more than 0.1 MB"):
            web.fetch(server.url, max_bytes=100_000)

    def test_what_swells_when_decompressed_is_measured_as_it_swells(self) -> None:
        bomb = gzip.compress(b"0" * 30_000_000)
        server, web = raw(self, answering(bomb, "Content-Encoding: gzip\r\n"))
        with self.assertRaisesRegex(OutsideError, "more than 1 MB"):
            web.fetch(server.url, max_bytes=1_000_000)

    def test_a_trickle_ends_with_the_time_limit(self) -> None:
        def trickle(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
            for _ in range(100):
                line.sendall(b"x")
                time.sleep(0.05)

        server, web = raw(self, trickle)
        with self.assertRaises(OutsideError) as caught:
            web.fetch(server.url, max_seconds=0.4)
        self.assertTrue(caught.exception.retryable)

    def test_silence_ends_with_the_time_limit(self) -> None:
        server, web = raw(self, lambda line: time.sleep(5))
        with self.assertRaisesRegex(OutsideError, "did not answer in time") as caught:
            web.fetch(server.url, max_seconds=0.3)
        self.assertFalse(caught.exception.ambiguous)

    def test_a_post_that_got_no_answer_may_have_taken_effect(self) -> None:
        for answer in (lambda line: time.sleep(5), lambda line: line.close()):
            server, web = raw(self, answer)
            with self.assertRaises(OutsideError) as caught:
                web.fetch(server.url, method="POST", json={}, max_seconds=0.3)
            self.assertTrue(caught.exception.ambiguous)

    def test_what_changes_something_is_never_sent_twice(self) -> None:
        posts: list[bytes] = []

        def answer(line: socket.socket) -> None:
            got = server.requests[-1]
            while got and not got.startswith(b"POST"):
                line.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
                got = line.recv(65536)
            if got:
                posts.append(got)  # taken, and the connection dropped

        server, web = raw(self, answer)
        self.assertEqual(web.fetch(server.url).body, b"ok")
        self.assertEqual(web.fetch(server.url).body, b"ok")
        self.assertEqual(len(server.requests), 1, "the connection is used again")
        with self.assertRaises(OutsideError) as caught:
            web.fetch(server.url, method="POST", json={"a": 1})
        self.assertTrue(caught.exception.ambiguous)
        self.assertEqual(len(posts), 1)

    def test_a_key_goes_to_its_own_host_only(self) -> None:
        other, _ = raw(self, answering(b"there"))
        server, web = raw(self, answering(b"", f"Location: {other.url}\r\n", "302 Found"))
        web.allowed |= {f"127.0.0.1:{other.port}"}
        for name in ("Authorization", "X-Api-Key", "cookie"):
            self.assertEqual(web.fetch(server.url, headers={name: "secret", "Accept": "text/x-kept"}).body, b"there")
            self.assertIn(b"secret", server.requests[-1])
            self.assertNotIn(b"secret", other.requests[-1], name)
            self.assertIn(b"text/x-kept", other.requests[-1])

    def test_the_body_can_be_taken_as_it_comes_and_left_off(self) -> None:
        go, over = threading.Event(), []

        def slow(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 1000000\r\n\r\nfirst")
            over.append(go.wait(20))

        server, web = raw(self, slow)
        taken: list[bytes] = []

        def take(answer: Fetched, piece: bytes) -> None:
            taken.append(piece)
            raise Enough

        self.assertEqual(web.fetch(server.url, take=take).status, 200)
        self.assertEqual((taken, over), ([b"first"], []))
        go.set()

    def test_it_can_be_stopped_while_nothing_comes(self) -> None:
        go, over = threading.Event(), []
        server, web = raw(self, lambda line: over.append(go.wait(20)))
        began = time.monotonic()
        with self.assertRaisesRegex(OutsideError, "Stopped"):
            web.fetch(server.url, stopped=lambda: time.monotonic() > began + 0.2)
        self.assertEqual(over, [])
        go.set()

    def test_headers_cannot_be_slipped_in(self) -> None:
        server, web = raw(self, answering(b"x"))
        for value in ("a\r\nX-Other: 1", "a\nb", "key with €"):
            with self.subTest(value=value), self.assertRaisesRegex(OutsideError, "character that is not allowed"):
                web.fetch(server.url, headers={"Authorization": value})
        self.assertEqual(server.requests, [])

    def test_redirects_in_a_circle(self) -> None:
        holder: list[str] = []
        server, web = raw(self, lambda line: answering(b"", f"Location: {holder[0]}\r\n", "301 Moved")(line))
        holder.append(server.url)
        with self.assertRaisesRegex(OutsideError, "redirects more than 5 times"):
            web.fetch(server.url)

    def test_an_answer_cut_off(self) -> None:
        server, web = raw(self, lambda line: line.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nshort"))
        with self.assertRaisesRegex(OutsideError, "broke off") as caught:
            web.fetch(server.url)
        self.assertTrue(caught.exception.retryable)

    def test_what_is_not_http_at_all(self) -> None:
        server, web = raw(self, lambda line: line.sendall(b"\x00\x01\x02 hello\r\n\r\n"))
        with self.assertRaises(OutsideError):
            web.fetch(server.url)

    def test_nobody_listens(self) -> None:
        web = Web({"127.0.0.1:9"})
        self.addCleanup(web.close)
        with self.assertRaisesRegex(OutsideError, "cannot be reached") as caught:
            web.fetch("http://127.0.0.1:9/")
        self.assertFalse(caught.exception.ambiguous)

    def test_a_name_nobody_has(self) -> None:
        web = Web()
        self.addCleanup(web.close)
        with self.assertRaisesRegex(OutsideError, "No server called"):
            web.fetch("http://no-such-host.invalid/")


class RetryAfter(unittest.TestCase):
    def test_seconds_dates_and_nonsense(self) -> None:
        self.assertEqual(retry_after("7"), 7.0)
        self.assertIsNone(retry_after(None))
        self.assertIsNone(retry_after("soon"))
        self.assertEqual(retry_after("Wed, 21 Oct 2015 07:28:00 GMT"), 0.0)
