"""Putting the parts together and serving them (waitress)."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import logging
import os
import resource
import secrets
import signal
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select
from waitress.server import create_server

from .api import create_app
from .api.http.base import House
from .api.public.forms import LARGEST_FORM
from .runtime import logs
from .runtime.elsewhere import Broker, Elsewhere
from .runtime.engine import Engine
from .runtime.executors import Threads
from .runtime.proofing import Proofs
from .runtime.services import Services
from .store import place, tables

WEB_THREADS = 40
SPARE_THREADS = 24
"""Threads there are beside those that pages hold which listen for events."""
CONNECTIONS = 4000
"""Connections open at once, most of them idle."""


@dataclass
class Config:
    """How to serve. `allowed` are hosts (``host:port``) exempt from the address guard."""

    folder: Path
    host: str = "127.0.0.1"
    port: int = 8420
    public_url: str = ""
    allowed: frozenset[str] = frozenset()
    demo: tuple[dict[str, str], ...] = ()
    town_url: str = ""
    trusted_proxy: str = ""
    moved: bool = False
    log: str = "words"
    """How the log is written: as ``words`` or as ``json``, an object a line."""
    pack_after: float = 90.0
    """Days after its end in which a run's journal is packed into a file; 0 for never."""
    broker: str = ""
    """The address of a broker (Celery) whose workers carry out what gathers and drafts; empty: this process does."""
    take_back: float = 10.0
    """Seconds after an approval in which what it lets out may be taken back."""


class Server:
    """A running Ulmus: engine, proofs and web server."""

    def __init__(self, config: Config, services: Services | None = None, broker: Broker | None = None) -> None:
        self.config = config
        spare_memory()
        url = config.public_url or f"http://{config.host}:{config.port}"
        self.services = services or Services.open(config.folder, config.allowed)
        if config.moved:
            place.stand_here(self.services.store)
        self.services.public_url = url
        self.engine = Engine(self.services)
        self.engine.outbox.take_back = config.take_back
        self.engine.keeping.after = config.pack_after
        self._proof_threads = Threads(64 if broker or config.broker else 8)
        proofs = Proofs(self.services, self._proof_threads, self.engine.handlers, self.engine.uses)
        house = House(self.services, self.engine, proofs, list(config.demo), config.town_url)
        if broker or config.broker:
            house.elsewhere = self._elsewhere(broker or self._broker(config.broker))
        with self.services.store.read() as session:
            if session.scalar(select(tables.User.id).limit(1)) is None:
                house.first_key = secrets.token_urlsafe(12)
        self.house = house
        self.engine.start()
        house.practice.resume()
        # Reading a page at a time, many of them waiting: events hold a thread each.
        self._web: Any = create_server(
            create_app(house),
            host=config.host,
            port=config.port,
            threads=WEB_THREADS,
            ident=None,
            channel_timeout=60,
            connection_limit=_connections(),
            backlog=1024,
            asyncore_use_poll=True,
            max_request_body_size=LARGEST_FORM + 1_000_000,
            max_request_header_size=65_536,
            clear_untrusted_proxy_headers=True,
            **_behind(config.trusted_proxy),
        )
        house.make_room = self._make_room
        self.port = self._web.effective_port
        self.url = config.public_url or f"http://{config.host}:{self.port}"
        self.services.public_url = self.url
        spare_collecting()

    def _broker(self, url: str) -> Broker:
        """Celery is loaded only where it is wanted."""
        from .workers.broker import CeleryBroker

        return CeleryBroker(url, lambda: self.services.store.identity)

    def _elsewhere(self, broker: Broker) -> Elsewhere:
        """Have workers carry out what gathers and drafts."""
        elsewhere = Elsewhere(self.services, broker, self.engine.writer, self.engine.executor)
        self.engine.handlers.carried_out(elsewhere)
        elsewhere.start()
        return elsewhere

    def _make_room(self, listening: int) -> None:
        """Have threads for everything beside the pages that listen."""
        wanted = max(WEB_THREADS, listening + SPARE_THREADS)
        if wanted > len(self._web.task_dispatcher.threads):
            self._web.task_dispatcher.set_thread_count(wanted)

    def serve(self) -> None:
        """Serve until `stop` or a signal."""

        def end(*_: Any) -> None:
            raise KeyboardInterrupt

        if threading.current_thread() is threading.main_thread():
            signal.signal(signal.SIGTERM, end)
        try:
            self._web.run()
        except (KeyboardInterrupt, OSError):
            pass
        finally:
            self.stop()

    def start(self) -> Server:
        """Serve in the background."""
        threading.Thread(target=self.serve, daemon=True, name="ulmus-web").start()
        return self

    def stop(self) -> None:
        """Stop everything; what is under way is taken up at the next start."""
        # Who is late with an answer wakes the server through a pipe. It stays open: what would have its number next is written to
        # then, and that may be the database.
        self._web.trigger._fds = []
        self._web.close()
        self.engine.stop()
        if self.house.elsewhere is not None:
            self.house.elsewhere.close()
        self.house.practice.stop()
        self._proof_threads.stop()
        self.services.close()


def spare_memory() -> None:
    """Have the C library keep its memory in few places: by default it keeps some for every few threads, of which there are many."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(-8, 2)  # M_ARENA_MAX


def _connections() -> int:
    """How many connections can be open: each is a file to the system, of which a process may have only so many."""
    most, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = CONNECTIONS + 1000
    if most != resource.RLIM_INFINITY and most < wanted:
        most = wanted if hard == resource.RLIM_INFINITY else min(hard, wanted)
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
    return CONNECTIONS if most == resource.RLIM_INFINITY else max(100, min(CONNECTIONS, most - 500))


def _behind(proxy: str) -> dict[str, Any]:
    """What is believed of a trusted proxy: whom it speaks for, and whether they came by HTTPS."""
    if not proxy:
        return {}
    return {
        "trusted_proxy": proxy,
        "trusted_proxy_count": 1,
        "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"},
    }


def spare_collecting() -> None:
    """What is loaded by now stays: Python's collector of circular garbage need not go through it again, nor come so often."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def set_up_logging(folder: Path | None = None, form: str = "words") -> None:
    """Log warnings to standard error, everything to ``ulmus.log`` in the data folder; as ``words`` or as ``json``."""
    handlers: list[logging.Handler] = [logging.StreamHandler()]
    handlers[0].setLevel(logging.WARNING)
    if folder is not None:
        folder.mkdir(parents=True, exist_ok=True)
        from logging.handlers import RotatingFileHandler

        handlers.append(RotatingFileHandler(folder / "ulmus.log", maxBytes=5_000_000, backupCount=2))
    level = os.environ.get("ULMUS_LOG", "INFO")
    for handler in handlers:
        handler.addFilter(logs.Placed())
        handler.setFormatter(logs.Json() if form == "json" else logs.Words())
    logging.basicConfig(level=level, handlers=handlers)
    for noisy in ("httpx", "httpcore", "alembic", "waitress.queue", "trafilatura", "htmldate"):
        logging.getLogger(noisy).setLevel(logging.ERROR)
