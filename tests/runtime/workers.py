"""A house that has what it gathers and drafts carried out by workers."""

from __future__ import annotations

import queue
import threading
from typing import Any
from unittest import mock

from tests.api.visitor import application
from tests.browser.place import free_port
from tests.runtime.house import WithHouse, reachable
from ulmus.api.http.base import House
from ulmus.api.security.workerkeys import make_key
from ulmus.runtime.elsewhere import Elsewhere
from ulmus.runtime.engine import Engine
from ulmus.runtime.proofing import Proofs
from ulmus.runtime.services import Services
from ulmus.server import Config, Server
from ulmus.workers.worker import Worker


class HandedOn:
    """A broker within the process: it keeps what is published, and hands it to whoever takes it."""

    def __init__(self) -> None:
        self.published: list[str] = []
        self.offers: queue.SimpleQueue[str] = queue.SimpleQueue()

    def publish(self, task: str) -> None:
        self.published.append(task)
        self.offers.put(task)


class WithWorkers(WithHouse):
    """Its API is reached over a real socket, as workers do."""

    broker: Any = None
    address = ""

    def open(self) -> None:
        config = Config(self.folder, port=free_port(), allowed=reachable(self.town) | self.also, broker=self.address)
        self.broker = None if self.address else HandedOn()
        with mock.patch("ulmus.server.create_app", self._around):
            self.server = Server(config, broker=self.broker).start()
        self.services: Services = self.server.services
        self.engine: Engine = self.server.engine
        self.engine.outbox.settle = 0.3
        self.proofs: Proofs = self.server.house.proofs
        assert self.server.house.elsewhere is not None
        self.elsewhere: Elsewhere = self.server.house.elsewhere
        self.key = make_key(self.services.store, "one")
        self.addCleanup(self.server.stop)

    @staticmethod
    def _around(house: House) -> Any:
        """The application, which is made once for all houses."""
        app = application()
        app.extensions["ulmus"] = house
        return app

    @staticmethod
    def _close(engine: Engine, services: Services) -> None:
        """The server closes both."""

    def reopen(self) -> None:
        self.server.stop()
        self.open()

    def worker(self, key: str = "") -> Worker:
        """A worker of this house, in this process."""
        made = Worker(self.server.url, key or self.key, reachable(self.town) | self.also)
        made.start()
        self.addCleanup(made.stop)
        return made

    def at_work(self, count: int = 2) -> None:
        """Let some threads take what is published, as a worker does."""
        worker = self.worker()

        def take() -> None:
            while True:
                worker.carry_out(self.broker.offers.get())

        for _ in range(count):
            threading.Thread(target=take, daemon=True).start()
