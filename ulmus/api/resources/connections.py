"""Connections: list, make, change, test, delete. Secrets go in and never come out."""

from __future__ import annotations

import re
from typing import Any

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ...core.workflow import read_settings, settings_of
from ...core.workflow.kinds import SendSpec
from ...protocols.errors import OutsideError
from ...readmodels.models import TroubleView
from ...runtime import pointing
from ...runtime.execution import guarded
from ...runtime.grants import ACCESS, INNER, SECRET
from ...runtime.services import audit
from ...steps import connection_kinds, kinds
from ...steps.api import ConnectionKind
from ...store import sight, tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security import members
from ..security.auth import needs

bp = Part("connections", __name__, url_prefix="/api", abp_tags=[Tag(name="connections")])


class ConnectionPath(BaseModel):
    key: str


class OutsideBody(Body):
    key: str


class ConnectionView(BaseModel):
    """A connection without its secrets; `secrets_set` names those that are filled in."""

    key: str
    kind: str
    name: str
    settings: dict[str, Any]
    summary: str
    secrets_set: list[str]
    tested_at: float | None
    test_ok: bool | None
    test_says: str
    brand: str = ""
    used_by: list[dict[str, Any]]
    trouble: TroubleView | None = None
    granted: bool = False
    """Whether somebody has agreed, where it signs in by OAuth 2 as a person."""


class ConnectionKindView(BaseModel):
    name: str
    title: str
    about: str
    form: dict[str, Any]
    secrets: dict[str, str]
    bearer: str = ""
    """The secret that OAuth 2 takes the place of."""
    sends: bool = False
    """Whether pieces go out through it."""
    tool: bool = False
    """Whether it is everybody's by its kind: a model, a search, pictures."""


class ConnectionsView(BaseModel):
    connections: list[ConnectionView]
    kinds: list[ConnectionKindView]
    redirect: str = ""
    """Where other sides send people back to who agreed (OAuth 2)."""
    hosts: list[TroubleView] = []


class ConnectionBody(Body):
    """A connection's name, settings and secrets; a secret left out or empty stays as it is."""

    kind: str
    name: str = Field(min_length=1, max_length=120)
    settings: dict[str, Any]
    secrets: dict[str, str] = {}
    brand: str | None = None
    """Whose it is: a brand's key; empty where it is everybody's. Left out, it stays as it is."""


class GrantBody(Body):
    """What the other side sent a person back with."""

    state: str = Field(max_length=200)
    code: str = Field(max_length=5000)


class Agreement(BaseModel):
    """Where a person goes to agree."""

    address: str


class Tested(BaseModel):
    ok: bool
    says: str


class Made(BaseModel):
    key: str


@bp.get("/connections", responses={200: ConnectionsView})
@needs("maker")
def listing() -> Reply:
    """All connections and the kinds there can be."""
    with house().services.store.read() as session:
        records = list(session.scalars(select(tables.Connection).order_by(tables.Connection.kind, tables.Connection.name)))
        uses = pointing.pointing(session, "connection")
    troubles = {t.key: t for t in troubles_now()}
    views = [
        ConnectionView(
            key=r.key,
            kind=r.kind,
            name=r.name,
            settings=r.settings,
            summary=_summary(r),
            secrets_set=[k for k, v in house().services.sealer.open(r.sealed).items() if v and k not in INNER],
            granted=bool(house().services.sealer.open(r.sealed).get(ACCESS)),
            tested_at=r.tested_at,
            test_ok=r.test_ok,
            test_says=r.test_says,
            brand=r.brand or "",
            used_by=[vars(one) for one in uses.get(r.key, [])],
            trouble=troubles.get(f"connection:{r.key}"),
        )
        for r in records
    ]
    sending = sends_through()
    known = [
        ConnectionKindView(
            name=k.name,
            title=k.title,
            about=k.about,
            form=k.settings.model_json_schema(),
            secrets=_secrets(k),
            bearer=k.bearer,
            sends=k.name in sending,
            tool=k.tool,
        )
        for k in connection_kinds().values()
    ]
    hosts = [t for t in troubles.values() if t.key.startswith("host:")]
    return send(ConnectionsView(connections=views, kinds=known, hosts=hosts, redirect=house().services.grants.redirect))


def sends_through() -> set[str]:
    """The kinds of connection that pieces go out through."""
    return {
        wanted
        for kind in kinds().values()
        if isinstance(kind, SendSpec)
        for setting in settings_of(kind.settings).values()
        if setting.control.points_at == "connection"
        for wanted in setting.needs.split()
    }


@bp.post("/outsides/try", responses={200: Fine})
@needs("maker")
def try_now(body: OutsideBody) -> Reply:
    """Try an outside that does not answer again now, with the first of what waits for it."""
    house().engine.outsides.try_now(body.key)
    return send(Fine())


def troubles_now() -> list[TroubleView]:
    """The outsides that do not answer, as they are told; to who is kept to some brands, their connections only."""
    found = house().engine.outsides.troubles()
    if sight.brands() is not None:
        with house().services.store.read() as session:
            seen = {f"connection:{key}" for key in session.scalars(select(tables.Connection.key))}
        found = [one for one in found if one.key in seen]
    return [TroubleView(key=t.key, name=t.name, since=t.since, says=t.says, waiting=t.waiting, next_at=t.next_at) for t in found]


@bp.post("/connections", responses={201: Made, 422: Problem})
@needs("owner")
def create(body: ConnectionBody) -> Reply:
    """Add a connection."""
    settings = _settings(body)
    services = house().services
    with services.store.write() as session:
        base = re.sub(r"[^a-z0-9]+", "_", body.name.lower()).strip("_")[:50] or body.kind
        key, n = base, 2
        while session.get(tables.Connection, key) is not None:
            key, n = f"{base}_{n}", n + 1
        sealed = services.sealer.seal({k: v for k, v in body.secrets.items() if v})
        brand = members.whose(session, body.brand or "")
        session.add(tables.Connection(key=key, kind=body.kind, name=body.name, settings=settings, sealed=sealed, brand=brand))
        audit(session, services.clock(), g.user.email, "added a connection", body.name)
    return send(Made(key=key), 201)


@bp.put("/connections/<key>", responses={200: Fine, 422: Problem})
@needs("owner")
def change(path: ConnectionPath, body: ConnectionBody) -> Reply:
    """Change a connection."""
    settings = _settings(body)
    services = house().services
    with services.store.write() as session:
        record = session.get_one(tables.Connection, path.key)
        given = {k: v for k, v in body.secrets.items() if v}
        kept = services.sealer.open(record.sealed)
        kind = connection_kinds()[body.kind]

        def changed(*names: str) -> bool:
            return body.kind != record.kind or any(record.settings.get(name) != settings.get(name) for name in names)

        # A secret goes to nobody it was not typed in for, and what was granted was granted for just this.
        goes = set(kept) if changed(*kind.leads) else set()
        if changed("oauth", "client_id", "scope", "authorize_at", "token_at"):
            goes |= set(INNER)
        if changed("token_at"):
            goes.add(SECRET)
        if settings.get("oauth", "no") != "no":
            kept.pop(kind.bearer, None)
        asked = {k: words for k, words in _secrets(kind).items() if k in goes and kept.get(k) and k not in given}
        if asked:
            problems = [{"where": k, "message": "Type it again."} for k in asked]
            words = ", ".join(asked.values())
            raise Refusal(f"It leads elsewhere now. Type again: {words}.", 422, problems=problems)
        kept = {name: value for name, value in kept.items() if name not in goes}
        secrets = kept | given
        record.name, record.settings, record.sealed = body.name, settings, services.sealer.seal(secrets)
        if body.brand is not None:
            record.brand = members.whose(session, body.brand)
        record.tested_at, record.test_ok, record.test_says = None, None, ""
        audit(session, services.clock(), g.user.email, "changed a connection", body.name)
    return send(Fine())


@bp.post("/connections/<key>/test", responses={200: Tested})
@needs("maker")
def test(path: ConnectionPath) -> Reply:
    """Test a connection without leaving anything on the other side."""
    return send(tested(path.key))


def tested(key: str) -> Tested:
    """Test a connection, and keep what came of it."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.Connection, key)
    try:
        services.grants.forget(key)
        opened = services.open_connection(record)
        says, ok = guarded(lambda: connection_kinds()[record.kind].probe(services.web, opened)), True
    except OutsideError as error:
        says, ok = error.message, False
    if ok:
        house().engine.outsides.forgive(f"connection:{key}")
    with services.store.write() as session:
        record = session.get_one(tables.Connection, key)
        record.tested_at, record.test_ok, record.test_says = services.clock(), ok, says
    return Tested(ok=ok, says=says)


@bp.post("/connections/<key>/grant", responses={200: Agreement, 409: Problem})
@needs("owner")
def grant(path: ConnectionPath) -> Reply:
    """Begin an agreement by OAuth 2: where the owner goes to agree."""
    try:
        return send(Agreement(address=house().services.grants.begin(path.key, g.user.email)))
    except OutsideError as error:
        raise Refusal(error.message, 409) from None


@bp.post("/connections/granted", responses={200: Made, 409: Problem})
@needs("owner")
def granted(body: GrantBody) -> Reply:
    """The owner agreed and came back."""
    services = house().services
    try:
        key = services.grants.end(body.state, body.code, g.user.email)
    except OutsideError as error:
        raise Refusal(error.message, 409) from None
    with services.store.write() as session:
        record = session.get_one(tables.Connection, key)
        record.tested_at, record.test_ok, record.test_says = services.clock(), True, "Connected."
        audit(session, services.clock(), g.user.email, "agreed to a connection", record.name)
    return send(Made(key=key))


@bp.delete("/connections/<key>", responses={200: Fine, 409: Problem})
@needs("owner")
def remove(path: ConnectionPath) -> Reply:
    """Delete a connection that nothing uses."""
    services = house().services
    with services.store.write() as session:
        record = session.get_one(tables.Connection, path.key)
        if why := pointing.why_not(pointing.pointing(session, "connection").get(path.key, []), "this connection"):
            raise Refusal(why, 409)
        session.delete(record)
        audit(session, services.clock(), g.user.email, "deleted a connection", record.name)
    return send(Fine())


def _secrets(kind: ConnectionKind[Any]) -> dict[str, str]:
    """The secrets of a kind; one that may sign in by OAuth 2 also has that of the house as the other side knows it."""
    return kind.secrets | ({SECRET: "Client secret"} if kind.bearer else {})


def _summary(record: tables.Connection) -> str:
    """In a few words, where a connection leads."""
    kind = connection_kinds().get(record.kind)
    settings = read_settings(kind.settings, record.settings)[0] if kind is not None else None
    return kind.summary(settings) if kind is not None and settings is not None else ""


def _settings(body: ConnectionBody) -> dict[str, Any]:
    kind = connection_kinds().get(body.kind)
    if kind is None:
        raise Refusal("There is no such kind of connection.", 422)
    settings, wrong = read_settings(kind.settings, body.settings)
    if settings is None:
        titles = {n: f.title or n for n, f in kind.settings.model_fields.items()}
        words = " ".join(f"{titles.get(n, n)}: {m}" for n, m in wrong)
        raise Refusal(words, 422, problems=[{"where": n, "message": m} for n, m in wrong])
    stored: dict[str, Any] = settings.model_dump(mode="json")
    return stored
