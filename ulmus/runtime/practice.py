"""The practice town beside a house: a model, a network, news, search and mail one can use before any key is at hand.

It is a process of its own that ends with the house. Its addresses stand in the connections that were made for it; where its ports
are taken at a later start, it moves, and they are written anew.
"""

from __future__ import annotations

import json
import logging
import socket
import subprocess
import threading
from typing import Any

from sqlalchemy import select

from ..store import tables
from ..store.db import set_fact
from .services import Services, audit
from .town import is_free, start_town

log = logging.getLogger(__name__)

FACT = "practice"
MODEL, NETWORK = "practice_model", "practice_network"
_DOORS = ("web", "smtp")


class Practice:
    """The practice town of one house."""

    def __init__(self, services: Services) -> None:
        self._services = services
        self._town: subprocess.Popen[str] | None = None
        self._lock = threading.Lock()
        self._stopped = False

    @property
    def url(self) -> str:
        """Where it is open; empty where it is not."""
        return _address(self._ports()) if self._town is not None else ""

    def resume(self) -> None:
        """Open it again beside everything else that starts: it takes a moment, and nothing waits for it."""
        if self._services.store.fact(FACT):
            threading.Thread(target=self.open_again, daemon=True, name="ulmus-practice").start()

    def open_again(self) -> None:
        """Open it where its connections are still there; a town that cannot be opened is told of in the log."""
        with self._lock:
            if self._town is None and not self._stopped and self._made():
                try:
                    self._open(self._ports())
                except OSError as error:
                    log.warning("the practice town does not open: %s", error)

    def begin(self, by: str) -> list[str]:
        """Open it, and make the connections that are not there yet; gives their keys. Raises `OSError` where it cannot be opened."""
        with self._lock:
            if self._town is None:
                self._open(self._ports() or _free())
        ports = self._ports()
        with self._services.store.write() as session:
            for made in _connections(ports):
                if session.get(tables.Connection, made["key"]) is None:
                    sealed = self._services.sealer.seal(made.pop("secrets"))
                    session.add(tables.Connection(**made, sealed=sealed))
            audit(session, self._services.clock(), by, "opened the practice town")
        return [one["key"] for one in _connections(ports)]

    def stop(self) -> None:
        """End it; it opens again with the house."""
        with self._lock:
            self._stopped = True
            town, self._town = self._town, None
        if town is not None:
            town.terminate()
            try:
                town.wait(5)
            except subprocess.TimeoutExpired:
                town.kill()
            for pipe in (town.stdin, town.stdout):
                if pipe is not None:
                    pipe.close()

    def _open(self, ports: dict[str, int]) -> None:
        before = self._ports()
        if not all(is_free(port) for port in ports.values()):
            ports = _free()
        self._town = start_town(self._services.store.path.parent / "practice", ports["web"], ports["smtp"], tries=3)
        # What else may listen at ports of before is none of the house's.
        self._services.web.allowed = (self._services.web.allowed - _hosts(before)) | _hosts(ports)
        with self._services.store.write() as session:
            set_fact(session.connection(), FACT, json.dumps(ports))
            for was, made in zip(_connections(before), _connections(ports), strict=False):
                kept = session.get(tables.Connection, made["key"])
                moved = {name: to for name, to in made["settings"].items() if was["settings"][name] != to}
                # One that somebody made by the same name, or led elsewhere, is theirs.
                if kept is not None and all(kept.settings.get(name) == was["settings"][name] for name in moved):
                    kept.settings = kept.settings | moved

    def _ports(self) -> dict[str, int]:
        return dict(json.loads(self._services.store.fact(FACT) or "{}"))

    def _made(self) -> bool:
        keys = [one["key"] for one in _connections(self._ports())]
        with self._services.store.read() as session:
            return session.scalar(select(tables.Connection.key).where(tables.Connection.key.in_(keys)).limit(1)) is not None


def _free() -> dict[str, int]:
    """Ports that nobody uses now."""
    probes = [socket.socket() for _ in _DOORS]
    try:
        for probe in probes:
            probe.bind(("127.0.0.1", 0))
        return {name: int(probe.getsockname()[1]) for name, probe in zip(_DOORS, probes, strict=True)}
    finally:
        for probe in probes:
            probe.close()


def _address(ports: dict[str, int]) -> str:
    return f"http://127.0.0.1:{ports['web']}" if ports else ""


def _hosts(ports: dict[str, int]) -> frozenset[str]:
    return frozenset(f"127.0.0.1:{port}" for port in ports.values())


def _connections(ports: dict[str, int]) -> list[dict[str, Any]]:
    """The connections to a town at these ports, as rows of the table, with their secrets open."""
    if not ports:
        return []
    town = _address(ports)
    return [
        {
            "key": MODEL,
            "kind": "model",
            "name": "Practice model",
            "settings": {"base_url": f"{town}/model/v1", "model": "practice-1", "prices": {"input": 0.4, "output": 1.6}},
            "secrets": {"key": "practice-key"},
        },
        {
            "key": NETWORK,
            "kind": "posting",
            "name": "Practice network",
            "settings": {"endpoint": f"{town}/pondside/micropub", "limit": 300},
            "secrets": {"token": "pond-token"},
        },
        {
            "key": "practice_search",
            "kind": "search",
            "name": "Practice search",
            "settings": {"description": f"{town}/search/opensearch.xml"},
            "secrets": {},
        },
        {
            "key": "practice_mail",
            "kind": "mail",
            "name": "Practice mail",
            "settings": {
                "host": "127.0.0.1",
                "port": ports["smtp"],
                "starttls": False,
                "sender": "drafts@practice.example",
                "sender_name": "Practice drafts",
            },
            "secrets": {},
        },
    ]
