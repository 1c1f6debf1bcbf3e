"""One page for several clients.

A page of one brand is *followed* by pages of others: each is a workflow of its own, with its own start, limits, approvals and history,
and its page is derived from the one it follows, as that is live. What differs is said once for each brand (`Brand.own`): what stands in
the place of a connection, a sheet, an address, a person. What nothing was said of is left empty and never shared, but for tools such as a
model, so that nothing of one client goes out through another's or is read for another. A change of the followed page reaches the others
when it goes live; a brand's own never reaches another.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, get_args

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ..core.people import ADDRESS, addresses
from ..core.workflow import LineProblem, Workflow, check, edits, points_at, settings_of
from ..core.workflow.controls import Address, Mail, People
from ..core.workflow.kinds import SendSpec
from ..core.workflow.model import Line
from ..core.workflow.reading import reads
from ..core.workflow.world import BRAND_FACTS
from ..protocols.errors import Misconfigured
from ..steps import connection_kinds, kinds
from ..store import Store, sight, tables
from . import workflows
from .engine import Engine
from .services import audit, world

What = Literal["connection", "sheet", "address", "people"]
Own = Mapping[str, Mapping[str, str]]
"""What a brand has in the place of another's, by what it is and by the other's key: ``{"connection": {"pondside": "theirs"}}``."""


@dataclass
class Differs:
    """Something on a page that another client may have of its own: its `key`, its `name` for people, of which `kind` a connection
    is, and the `lines` it stands on. With `same` it is everybody's where nothing is said."""

    what: What
    key: str
    name: str
    kind: str = ""
    same: bool = False
    lines: list[str] = field(default_factory=list)


def differing(session: Session, page: Workflow) -> list[Differs]:
    """What of a page may differ from client to client, channels first."""
    found: dict[tuple[str, str], Differs] = {}
    around = world(session)
    for step, what, key in ((line.id, what, key) for line in page.lines for what, _, key in _points_of(line)):
        one = found.get((what, key))
        if one is None:
            known = around.connections.get(key) if what == "connection" else None
            sheet = around.sheets.get(key) if what == "sheet" else None
            name = known.name if known is not None else sheet[0] if sheet is not None else key
            kind = known.kind if known is not None else ""
            one = found[what, key] = Differs(what, key, name, kind, kind in connection_kinds() and connection_kinds()[kind].tool)
        if step not in one.lines:
            one.lines.append(step)
    return sorted(found.values(), key=lambda one: (get_args(What).index(one.what), one.same))


def facts_of(page: Workflow) -> list[str]:
    """The facts of its brand that a page uses."""
    used = {
        str(path.parts[1]) for line in page.lines for path in reads(line, kinds()) if path.root == "brand" and len(path.parts) > 1
    }
    return [name for name in BRAND_FACTS if name in used and name != "name"]


def derived(session: Session, page: Workflow, brand: tables.Brand) -> Workflow:
    """The page for another brand: what differs replaced by the brand's own, or left empty."""
    own: Own = brand.own or {}
    named = {
        (one.what, one.key): own.get(one.what, {}).get(one.key, one.key if one.same else "") for one in differing(session, page)
    }
    out = page.model_copy(update={"brand": brand.key})
    for line in page.lines:
        kind, settings = kinds().get(line.kind), dict(line.settings)
        for what, name, key in _points_of(line):
            settings[name] = _put(settings[name], key, named[what, key]) if what == "people" else named[what, key]
        for name, key in points_at(kind, line.settings, "workflow") if kind is not None else ():
            settings[name] = _of_brand(session, key, brand.key)
        if settings != line.settings:
            out = edits.with_settings(out, line.id, settings)
    return out


def as_followed(session: Session, leading: tables.WorkflowRecord) -> Workflow:
    """What others follow of a page: its live revision, or the page itself where it never was live."""
    revision = session.get(tables.Revision, leading.revision_id) if leading.revision_id else None
    return Workflow.model_validate(leading.document if revision is None else revision.document)


def _of_brand(session: Session, workflow: str, brand: str) -> str:
    """The number of the page of a brand that follows another, as a text; empty where it has none."""
    record = session.get(tables.WorkflowRecord, int(workflow)) if workflow.isdecimal() else None
    if record is None or record.brand in (None, brand):
        return workflow
    of = select(tables.WorkflowRecord.id).where(
        tables.WorkflowRecord.follows == (record.follows or record.id), tables.WorkflowRecord.brand == brand
    )
    found = session.scalar(of.limit(1))
    return str(found) if found is not None else ""


def followers(session: Session, workflow_id: int) -> list[tables.WorkflowRecord]:
    """The pages that follow one, in the order they came."""
    record = tables.WorkflowRecord
    return list(session.scalars(select(record).where(record.follows == workflow_id).order_by(record.id)))


def missing(session: Session, record: tables.WorkflowRecord) -> list[LineProblem]:
    """What keeps a page from going live."""
    found = check(Workflow.model_validate(record.document), kinds(), world(session))
    return [problem for problem in found if problem.severity == "error"]


def follow(engine: Engine, workflow_id: int, brand: str, own: Own, facts: Mapping[str, str], who: str) -> int:
    """Let a brand have the page as well, with what is its own; gives the number of its page. Said again, it is changed there.

    Raises `Misconfigured` with words where that cannot be.
    """
    services = engine.services
    now = services.clock()
    with services.store.write() as session:
        leading = session.get_one(tables.WorkflowRecord, workflow_id)
        if leading.follows is not None:
            raise Misconfigured("This page follows another itself. Add clients there.")
        if leading.brand is None:
            raise Misconfigured("This page is for no brand yet. Choose at its head whose it is, then add others.")
        record = session.get(tables.Brand, brand)
        if record is None or brand == leading.brand:
            raise Misconfigured("Choose another brand.")
        page = Workflow.model_validate(leading.document)
        kept = {what: dict((record.own or {}).get(what, {})) for what in get_args(What)}
        for one in differing(session, page):
            if one.key not in own.get(one.what, {}):
                continue
            if value := _fit(session, one, own[one.what][one.key].strip()):
                kept[one.what][one.key] = value
            else:
                kept[one.what].pop(one.key, None)
        record.own = {what: named for what, named in kept.items() if named}
        record.facts = {**record.facts, **{name: said.strip()[:10_000] for name, said in facts.items() if name in facts_of(page)}}
        there = next((one for one in followers(session, workflow_id) if one.brand == brand), None)
        if there is None:
            id_ = workflows.create(session, derived(session, as_followed(session, leading), record), now, who)
            session.get_one(tables.WorkflowRecord, id_).follows = workflow_id
        else:
            id_ = there.id
        audit(session, now, who, "a page for another client", f"{leading.name}: {record.name}")
    _renew(engine, id_, who)
    services.bus.publish("workflow", id=id_)
    return id_


def _fit(session: Session, one: Differs, value: str) -> str:
    """What was named in the place of something. Raises `Misconfigured` where it is not of its kind."""
    if not value:
        return ""
    match one.what:
        case "connection":
            found = session.get(tables.Connection, value)
            if found is None or found.kind != one.kind:
                raise Misconfigured(f"In the place of “{one.name}” another connection of its kind can stand, not “{value}”.")
        case "sheet":
            if session.get(tables.Sheet, value) is None:
                raise Misconfigured(f"There is no sheet “{value}” to stand in the place of “{one.name}”.")
        case "people":
            known, unknown = addresses(value)
            if unknown or not known:
                raise Misconfigured(f"In the place of {one.name}: “{value[:80]}” is no mail address.")
        case _:
            if not value.startswith(("http://", "https://")):
                raise Misconfigured(f"In the place of {one.name}: an address begins with https://.")
    return value[:2000]


@dataclass(frozen=True)
class Renewed:
    """What became of a page that follows another: the brand it is for, and why it stays on its former revision, where it does."""

    id: int
    brand: str
    wrong: str = ""


def renew(engine: Engine, workflow_id: int, who: str) -> list[Renewed]:
    """Have all pages that follow one say what it says now; those that are live go on with it where they are complete."""
    with engine.services.store.read() as session:
        behind = [(one.id, one.brand or "") for one in followers(session, workflow_id) if one.state != "away"]
    return [Renewed(id_, brand, _renew(engine, id_, who)) for id_, brand in behind]


def out_of_sight(store: Store, workflow_id: int) -> bool:
    """Whether pages follow one that are not seen by whoever asks."""
    with store.read() as session:
        seen = len(followers(session, workflow_id))
    with sight.everything(), store.read() as session:
        return len(followers(session, workflow_id)) > seen


def _renew(engine: Engine, id_: int, who: str) -> str:
    services = engine.services
    with services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, id_)
        leading, brand = session.get(tables.WorkflowRecord, record.follows or 0), session.get(tables.Brand, record.brand or "")
        if leading is None or brand is None:
            return ""
        page = derived(session, as_followed(session, leading), brand)
        document, live = page.model_dump(mode="json"), record.state == "live"
        if document != record.document:
            record.name, record.document, record.updated_at = page.name, document, services.clock()
            record.version += 1
            services.bus.publish("page", id=id_, version=record.version)
    if live:
        try:
            workflows.go_live(engine, id_, who)
        except workflows.NotReady as error:
            return str(error)
    return ""


def part(session: Session, workflow_id: int, now: float, who: str) -> None:
    """Let a page go its own way from now on."""
    record = session.get_one(tables.WorkflowRecord, workflow_id)
    record.follows = None
    audit(session, now, who, "a page goes its own way", record.name)


def alone(session: Session, workflow_id: int) -> None:
    """A page is about to be deleted: those that follow it go their own way."""
    record = tables.WorkflowRecord
    with sight.everything():
        session.execute(update(record).where(record.follows == workflow_id).values(follows=None))


def _points_of(line: Line) -> Iterator[tuple[What, str, str]]:
    """What on a line a client may have of its own: what it is, in which setting, its key."""
    kind = kinds().get(line.kind)
    if kind is None:
        return
    whats: Sequence[What] = ("connection", "sheet")
    for what in whats:
        yield from ((what, name, key) for name, key in points_at(kind, line.settings, what) if key)
    for name, setting in settings_of(kind.settings).items():
        value = line.settings.get(name)
        if not isinstance(value, str):
            continue
        if isinstance(setting.control, Address) and value.startswith(("http://", "https://")):
            yield "address", name, value
        elif isinstance(setting.control, Mail | People) or (isinstance(kind, SendSpec) and _names_people(value)):
            yield from (("people", name, one) for one in dict.fromkeys(_named(value)))


_NAMED = re.compile(rf"(?:[^<>,;\n]+<{ADDRESS.pattern}>)|{ADDRESS.pattern}")
"""A mail address as it stands in a text, with the name before it where it has one."""
_SLOT = re.compile(r"<<.*?>>", re.DOTALL)


def _named(text: str) -> list[str]:
    """The addresses in a text of people, also among slots and as what stands where a slot has none."""
    return [found.strip() for found in _NAMED.findall(text)]


def _put(text: str, one: str, other: str) -> str:
    """The text with an address replaced, and no other that it is a part of."""
    return _NAMED.sub(lambda found: found[0].replace(one, other) if found[0].strip() == one else found[0], text)


def _names_people(text: str) -> bool:
    """Whether a text is nothing but addresses and slots, as who a letter goes to: not one that speaks of an address."""
    return not _NAMED.sub("", _SLOT.sub("", text)).strip(" ,;\n<>") and bool(_named(text))
