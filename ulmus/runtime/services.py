"""What everything in the runtime shares: store, web client, secrets, clock, and the world around a page."""

from __future__ import annotations

import datetime as dt
import json
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.drafting.repeats import Published
from ..core.pieces import Takes
from ..core.recurrence import zone_of
from ..core.workflow import World
from ..core.workflow.world import BRAND_FACTS, Known
from ..protocols.errors import Misconfigured
from ..protocols.net import Web
from ..steps import connection_kinds
from ..steps.api import Connection, Granted, Numbered
from ..store import Sealer, Store, place, sight, tables
from . import linked
from .bus import Bus
from .grants import Bearer, Grants
from .health import Health
from .sheetreads import SheetReads
from .transaction import Transaction


@dataclass(frozen=True)
class _Opened:
    """A connection as opened: after how many changes to the connections it was looked at, and what stood there."""

    at: int
    row: tuple[Any, ...]
    connection: Connection


@dataclass
class Services:
    """Opened once per process. `public_url` is how people outside reach this server (for links in mail)."""

    store: Store
    sealer: Sealer
    web: Web
    bus: Bus = field(default_factory=Bus)
    clock: Callable[[], float] = time.time
    public_url: str = "http://127.0.0.1:8420"
    origins: list[place.Origin] = field(default_factory=list)
    published: dict[str | None, tuple[int, Published]] = field(default_factory=dict)
    """What each brand has published, with the number of its latest piece; taken and changed under `published_lock`."""
    published_lock: threading.Lock = field(default_factory=threading.Lock)
    _opened: dict[str, _Opened] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.grants = Grants(self.store, self.sealer, self.web, lambda: self.clock(), lambda: self.public_url)
        self.sheet_reads = SheetReads(self.store)
        self.health = Health(self.store, self.sealer, lambda: self.clock())

    @classmethod
    def open(cls, folder: Path, allowed: frozenset[str] = frozenset(), **more: Any) -> Services:
        """Open the data in `folder`; `allowed` are hosts (``host:port``) exempt from the address guard. Raises `DataTrouble`."""
        store = Store(folder)
        return cls(store, Sealer.of(store), Web(allowed), origins=place.origins(store), **more)

    def origin(self, run_id: int) -> place.Origin | None:
        """The house a run began in, where this one is a copy of it that was made since."""
        return next((one for one in self.origins if run_id <= one.runs), None)

    def effect_house(self, run_id: int) -> str:
        """The identity that the keys of a run's effects carry: that of the house it began in."""
        origin = self.origin(run_id)
        return origin.identity if origin is not None else self.store.identity

    @contextmanager
    def transaction(self) -> Iterator[Transaction]:
        """One transaction: committed when its block ends, and then what was to follow happens; on an error nothing has."""
        with self.store.writing() as connection:
            tx = Transaction(connection, self.clock())
            try:
                yield tx
                tx.flush()
            finally:
                tx.close()
        self.health.well()
        tx.follow(self.bus)

    def close(self) -> None:
        """Close the web client and the store, once no index is being made."""
        self.sheet_reads.close()
        self.web.close()
        self.store.close()

    def first(self, kind: str) -> str:
        """The key of the first connection of a kind. Raises `OutsideError` where there is none."""
        wanted = select(tables.Connection.key).where(tables.Connection.kind == kind).order_by(tables.Connection.key).limit(1)
        with self.store.read() as session:
            found = session.scalar(wanted)
        if found is None:
            words = {"model": "language model"}.get(kind, kind)
            raise Misconfigured(f"There is no {words} here yet. Add one under Connections.")
        return found

    def connect(self, key: str, kind: str) -> Connection:
        """The connection called `key`, opened. Raises `OutsideError` where there is none of that kind (or of one of several, parted
        by spaces)."""
        if not self._is_seen(key):
            raise Misconfigured(f"The connection “{key}” is missing. Choose another, or add it under Connections.")
        now = self.store.written("connections")
        kept = self._opened.get(key)
        if kept is None or kept.at != now:
            with self.store.engine.connect() as connection:
                row = connection.exec_driver_sql(
                    "SELECT kind, name, settings, sealed FROM connections WHERE key = ?", (key,)
                ).first()
            if row is None or row[0] not in kind.split():
                raise Misconfigured(f"The connection “{key}” is missing. Choose another, or add it under Connections.")
            if kept is None or kept.row != tuple(row):
                # Settings are read and secrets opened once for what stands in the database.
                _, name, settings, sealed = row
                record = tables.Connection(key=key, kind=row[0], name=name, settings=json.loads(settings), sealed=sealed)
                kept = _Opened(now, tuple(row), self.open_connection(record))
            kept = self._opened[key] = replace(kept, at=now)
        if kept.connection.kind not in kind.split():
            raise Misconfigured(f"The connection “{key}” is missing. Choose another, or add it under Connections.")
        return kept.connection

    def _is_seen(self, key: str) -> bool:
        """Whether whoever asks sees a connection, where they do not see all of the house."""
        if sight.brands() is None:
            return True
        with self.store.read() as session:
            return session.get(tables.Connection, key) is not None

    def open_connection(self, record: tables.Connection) -> Connection:
        """A stored connection with settings read and secrets opened."""
        spec = connection_kinds().get(record.kind)
        try:
            settings = spec.settings.model_validate(record.settings) if spec else None
        except ValidationError:
            settings = None
        if settings is None:
            raise Misconfigured(f"The connection “{record.name}” is not set up completely.")
        secrets: Mapping[str, str] = self.sealer.open(record.sealed)
        if spec is not None and isinstance(settings, Granted) and settings.oauth != "no":
            secrets = Bearer(secrets, spec.bearer, partial(self.grants.token, record.key))
        return Connection(record.key, record.kind, record.name, settings, secrets)


def takes_of(kind: str, settings: Mapping[str, Any]) -> Takes:
    """What a connection takes, by its stored settings; no limits where it says nothing of that."""
    spec = connection_kinds().get(kind)
    try:
        return spec.takes(spec.settings.model_validate(settings)) if spec is not None else Takes()
    except ValidationError:
        return Takes()


def numbered(settings: Mapping[str, Any]) -> Numbered:
    """What a connection is asked for in numbers, by its stored settings; nothing where it is not asked."""
    told = {name: settings[name] for name in Numbered.model_fields if name in settings}
    try:
        return Numbered(**told)
    except ValidationError:
        return Numbered()


def world(session: Session) -> World:
    """Connections, sheets and brands as the checker needs them."""
    tables_kept = set(session.scalars(select(tables.Timetable.connection)))
    connections = {
        c.key: Known(c.kind, c.name, takes_of(c.kind, c.settings), tuple(numbered(c.settings).paths), c.key in tables_kept)
        for c in session.scalars(select(tables.Connection))
    }
    records = list(session.scalars(select(tables.Sheet)))
    sheets = {s.key: (s.name, tuple(c["name"] for c in s.columns)) for s in records}
    brands = dict(session.execute(select(tables.Brand.key, tables.Brand.name)).tuples().all())
    names = {
        str(i): n for i, n in session.execute(select(tables.WorkflowRecord.id, tables.WorkflowRecord.name).where(tables.THERE))
    }
    people = {email.casefold(): name for email, name in session.execute(select(tables.User.email, tables.User.name)) if name}
    return World(connections, sheets, brands, names, linked.values_of(records), people)


#: What stands between examples where a prompt names them, and how many of them it gets.
EXAMPLE_MARK = "\n\n---\n\n"
MOST_SHOWN = 6


def brand_values(session: Session, key: str | None) -> dict[str, str]:
    """The brand's facts as the values under ``brand``; empty texts where a fact is not stated."""
    brand = session.get(tables.Brand, key) if key else None
    if brand is None:
        return {}
    facts = {name: str(brand.facts.get(name, "")) for name in BRAND_FACTS}
    examples = {
        name: EXAMPLE_MARK.join(map(str, (brand.examples or {}).get(name, [])[:MOST_SHOWN])) for name in ("liked", "disliked")
    }
    return facts | examples | {"name": brand.name}


ASKED_FROM: ContextVar[str] = ContextVar("asked_from", default="")
"""The address that what is done now was asked from; empty where the house does it itself."""


def audit(session: Session, at: float, who: str, did: str, what: str = "") -> None:
    """Leave a line in the audit trail."""
    session.add(tables.Audit(at=at, who=who, did=did, what=what[:1000], place=ASKED_FROM.get()[:60]))


def run_values(now: float, number: int, zone: str) -> dict[str, Any]:
    """The values under ``run``: date and time in the page's zone (IANA; empty: where the server stands), and the run's number."""
    moment = dt.datetime.fromtimestamp(now, zone_of(zone) if zone else None)
    return {"date": moment.date().isoformat(), "time": f"{moment:%H:%M}", "zone": zone, "number": number}


def connection_name(session: Session, key: str) -> str:
    """What a connection is called; its key, where it is gone."""
    record = session.get(tables.Connection, key)
    return record.name if record is not None else key
