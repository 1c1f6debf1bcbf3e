"""What other sides have granted by OAuth 2: tokens, sealed beside a connection's secrets, made anew when they run out."""

from __future__ import annotations

import secrets
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

from sqlalchemy.orm import Session

from ..protocols import oauth
from ..protocols.errors import Misconfigured
from ..protocols.memory import Memory
from ..protocols.net import Web
from ..steps import connection_kinds
from ..steps.api import Granted
from ..store import Sealer, Store, tables

ACCESS, REFRESH, UNTIL, SECRET = "oauth: access", "oauth: refresh", "oauth: until", "client_secret"
INNER = (ACCESS, REFRESH, UNTIL)
EARLY = 30.0
"""Seconds before its end at which a token is made anew."""
AGREES_WITHIN = 900.0
"""Seconds a person has to agree."""


@dataclass(frozen=True)
class _Begun:
    key: str
    verifier: str = field(repr=False)
    by: str


class Bearer(Mapping[str, str]):
    """A connection's secrets, of which one, its bearer token, is what was granted: asked for when it is needed."""

    def __init__(self, known: Mapping[str, str], name: str, token: Callable[[], str]) -> None:
        self._known, self._name, self._token = {**known, name: ""}, name, token

    def __getitem__(self, name: str) -> str:
        return self._token() if name == self._name else self._known[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._known)

    def __len__(self) -> int:
        return len(self._known)


class Grants:
    """The tokens of all connections. Thread-safe: one is made anew once, however many wait for it."""

    def __init__(self, store: Store, sealer: Sealer, web: Web, clock: Callable[[], float], public_url: Callable[[], str]) -> None:
        self.store, self.sealer, self.web, self.clock = store, sealer, web, clock
        self._public_url = public_url
        self._begun: Memory[str, _Begun] = Memory(1000, AGREES_WITHIN)
        self._locks: dict[str, threading.Lock] = {}
        self._given: Memory[str, str] = Memory(1000, 86_400.0)
        web.rejected = self.rejected
        self._guard = threading.Lock()

    @property
    def redirect(self) -> str:
        """Where the other side sends people back to."""
        return f"{self._public_url()}/connections/granted"

    def token(self, key: str) -> str:
        """A connection's access token, made anew where it has run out. Raises `OutsideError`."""
        with self._lock(key):
            settings, kept = self._read(key)
            if kept.get(ACCESS) and float(kept.get(UNTIL) or 0) > self.clock() + EARLY:
                self._given.put(kept[ACCESS], key)
                return kept[ACCESS]
            app = _app(settings, kept)
            if settings.oauth == "client_credentials":
                tokens = oauth.for_program(self.web, app)
            elif kept.get(REFRESH):
                try:
                    tokens = oauth.anew(self.web, app, kept[REFRESH])
                except oauth.Withdrawn as error:
                    self._write(key, None, error.message)
                    raise
            else:
                raise Misconfigured("Nobody has agreed to this yet. Press Connect under Connections.")
            self._write(key, tokens)
            self._given.put(tokens.access, key)
            return tokens.access

    def rejected(self, header: str) -> None:
        """A token was not accepted, before its time: the next is made anew."""
        token = header.removeprefix("Bearer ")
        if (key := self._given.get(token)) is not None:
            self.forget(key, token)

    def forget(self, key: str, token: str = "") -> None:
        """Have the next token made anew; with a `token` only where that is the one there is."""
        with self._lock(key), self.store.write() as session:
            record = session.get(tables.Connection, key)
            kept = self.sealer.open(record.sealed) if record is not None else {}
            if record is not None and kept.get(ACCESS) and token in ("", kept[ACCESS]):
                del kept[ACCESS]
                record.sealed = self.sealer.seal(kept)

    def begin(self, key: str, by: str) -> str:
        """Begin an agreement for somebody; gives the address they are sent to. Raises `OutsideError`."""
        settings, kept = self._read(key)
        state, verifier = secrets.token_urlsafe(32), oauth.verifier()
        address = oauth.agreement(_app(settings, kept), self.redirect, state, verifier)
        self._begun.put(state, _Begun(key, verifier, by))
        return address

    def end(self, state: str, code: str, by: str) -> str:
        """The person came back with a code; gives the connection's key. Raises `OutsideError`."""
        begun = self._begun.get(state)
        if begun is None or begun.by != by:
            raise Misconfigured("This agreement was not begun here, or too long ago. Press Connect again.")
        self._begun.discard(state)
        with self._lock(begun.key):
            settings, kept = self._read(begun.key)
            self._write(begun.key, oauth.by_code(self.web, _app(settings, kept), code, self.redirect, begun.verifier))
        return begun.key

    def _lock(self, key: str) -> threading.Lock:
        with self._guard:
            return self._locks.setdefault(key, threading.Lock())

    def _read(self, key: str) -> tuple[Granted, dict[str, str]]:
        with self.store.read() as session:
            record = _record(session, key)
        settings = connection_kinds()[record.kind].settings.model_validate(record.settings)
        if not isinstance(settings, Granted) or settings.oauth == "no":
            raise Misconfigured(f"“{record.name}” does not sign in by OAuth.")
        return settings, self.sealer.open(record.sealed)

    def _write(self, key: str, tokens: oauth.Tokens | None, says: str = "") -> None:
        with self.store.write() as session:
            record = _record(session, key)
            kept = {name: value for name, value in self.sealer.open(record.sealed).items() if name not in INNER}
            if tokens is not None:
                kept |= {ACCESS: tokens.access, REFRESH: tokens.refresh, UNTIL: str(self.clock() + tokens.seconds)}
            else:
                record.tested_at, record.test_ok, record.test_says = self.clock(), False, says
            record.sealed = self.sealer.seal(kept)


def _record(session: Session, key: str) -> tables.Connection:
    record = session.get(tables.Connection, key)
    if record is None:
        raise Misconfigured(f"The connection “{key}” is missing.")
    return record


def _app(settings: Granted, kept: Mapping[str, str]) -> oauth.App:
    return oauth.App(settings.client_id, kept.get(SECRET, ""), settings.token_at, settings.authorize_at, settings.scope)
