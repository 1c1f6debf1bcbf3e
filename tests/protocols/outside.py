"""Servers for tests: the practice town, and a raw server that answers with whatever bytes a test wants."""

from __future__ import annotations

import socket
import threading
import unittest
from collections.abc import Callable
from typing import Any

import httpx

from practice_town.app import Town
from ulmus.protocols.net import Web


class WithTown(unittest.TestCase):
    """A test class with a practice town of its own, and a client that may reach it."""

    town: Town
    web: Web

    @classmethod
    def setUpClass(cls) -> None:
        cls.town = Town().start()
        cls.web = Web({f"127.0.0.1:{cls.town.port}"})

    @classmethod
    def tearDownClass(cls) -> None:
        cls.web.close()
        cls.town.stop()

    def setUp(self) -> None:
        self.town.state.faults.clear()
        self.town.state.posts.clear()
        self.town.state.mails.clear()
        for habit in self.town.state.habits:
            self.town.state.habits[habit] = 0

    def fault(self, outside: str, mode: str, left: int | None = None) -> None:
        """Have an outside misbehave."""
        self.town.state.set_fault(outside, mode, left)


class Raw:
    """A server on 127.0.0.1 that hands each connection to `answer`."""

    def __init__(self, answer: Callable[[socket.socket], Any]) -> None:
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}/"
        self.requests: list[bytes] = []
        self._answer = answer
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                line, _ = self._listener.accept()
            except OSError:
                return
            threading.Thread(target=self._one, args=(line,), daemon=True).start()

    def _one(self, line: socket.socket) -> None:
        with line:
            try:
                self.requests.append(_request(line))
                self._answer(line)
            except OSError:
                return

    def stop(self) -> None:
        """Stop listening."""
        self._listener.close()


def _request(line: socket.socket) -> bytes:
    """A whole request, with its body."""
    got = line.recv(65536)
    head, _, body = got.partition(b"\r\n\r\n")
    length = next((int(h.split(b":")[1]) for h in head.split(b"\r\n") if h.lower().startswith(b"content-length:")), 0)
    while len(body) < length and (more := line.recv(65536)):
        got, body = got + more, body + more
    return got


def answering(body: bytes, headers: str = "", status: str = "200 OK") -> Callable[[socket.socket], None]:
    """An answer with `body`, given whole."""

    def answer(line: socket.socket) -> None:
        head = f"HTTP/1.1 {status}\r\nContent-Length: {len(body)}\r\nConnection: close\r\n{headers}\r\n"
        line.sendall(head.encode() + body)

    return answer


def raw(test: unittest.TestCase, answer: Callable[[socket.socket], Any]) -> tuple[Raw, Web]:
    """A raw server and a client for it, both gone when the test is."""
    server = Raw(answer)
    web = Web({f"127.0.0.1:{server.port}"})
    test.addCleanup(server.stop)
    test.addCleanup(web.close)
    return server, web


def get(url: str) -> httpx.Response:
    """A plain request, as a reader's browser would make it."""
    return httpx.get(url, trust_env=False, follow_redirects=True)
