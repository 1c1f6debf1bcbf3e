"""The server under people who do nothing, do it slowly, or all listen: everybody else is answered as ever."""

from __future__ import annotations

import http.client
import json
import shutil
import socket
import tempfile
import unittest
from pathlib import Path
from typing import Any

from tests.browser.place import free_port
from ulmus.api.security.passwords import hash_password
from ulmus.server import Config, Server
from ulmus.store import tables

PASSWORD = "a good password"
IDLE, SLOW, PEOPLE, PAGES = 1000, 200, 50, 2


class UnderLoad(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, folder, ignore_errors=True)
        cls.server = Server(Config(folder, port=free_port())).start()
        cls.addClassCleanup(cls.server.stop)
        hashed = hash_password(PASSWORD)
        with cls.server.services.store.write() as session:
            for n in range(PEOPLE):
                session.add(tables.User(email=f"p{n}@a.example", name=f"P{n}", role="reader", password=hashed))

    def line(self) -> socket.socket:
        line = socket.create_connection(("127.0.0.1", self.server.port), 60)
        self.addCleanup(line.close)
        return line

    def answers(self) -> None:
        """Somebody new is answered."""
        line = http.client.HTTPConnection("127.0.0.1", self.server.port, timeout=60)
        line.request("GET", "/api/session")
        self.assertEqual(line.getresponse().status, 200)
        line.close()

    def test_idle_and_slow_connections(self) -> None:
        idle = [self.line() for _ in range(IDLE)]
        for n in range(SLOW):
            self.line().sendall(b"GET /api/session HTTP/1.1\r\nHost: a.example\r\nX-Slow: " + b"x" * (n % 40))
            self.line().sendall(b"POST /api/session HTTP/1.1\r\nHost: a.example\r\nContent-Length: 50000\r\n\r\n{")
        for _ in range(10):
            self.answers()
        waiting = self.line()
        self.answers()
        waiting.settimeout(60)
        waiting.sendall(b"GET /api/session HTTP/1.1\r\nHost: a.example\r\n\r\n")
        self.assertIn(b"200", waiting.recv(100), "one that waited is answered when it asks")
        self.assertEqual(len(idle), IDLE)

    def signed_in(self, n: int) -> str:
        line = http.client.HTTPConnection("127.0.0.1", self.server.port, timeout=60)
        body = json.dumps({"email": f"p{n}@a.example", "password": PASSWORD})
        line.request("POST", "/api/session", body, {"Content-Type": "application/json"})
        answer = line.getresponse()
        self.assertEqual(answer.status, 200, answer.read())
        cookies = [value.partition(";")[0] for name, value in answer.getheaders() if name == "Set-Cookie"]
        line.close()
        return "; ".join(cookies)

    def test_an_answer_that_is_late_writes_into_nothing_that_was_opened_since(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            server = Server(Config(Path(folder) / "house", port=free_port())).start()
            self.assertTrue(server.services.store.identity)
            server.stop()
            opened = [(Path(folder) / f"{n}").open("w+b", buffering=0) for n in range(50)]
            server._web.pull_trigger()
            for file in opened:
                file.seek(0)
                self.assertEqual(file.read(), b"")
                file.close()

    def test_fifty_people_with_two_pages_each_hear_what_changes(self) -> None:
        heard: list[Any] = []
        for n in range(PEOPLE):
            cookie = self.signed_in(n)
            for _ in range(PAGES):
                line = self.line()
                line.sendall(f"GET /api/events HTTP/1.1\r\nHost: a.example\r\nCookie: {cookie}\r\n\r\n".encode())
                heard.append(line)
        for line in heard:
            self.assertIn(b"200", line.recv(65536))
        for _ in range(10):
            self.answers()
        self.server.services.bus.publish("sheet", key="news")
        for line in heard:
            line.settimeout(60)
            got = b""
            while b'"news"' not in got:
                got += line.recv(65536)
