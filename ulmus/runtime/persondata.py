"""What the house holds of a person: found wherever it stands, given out as one file, and removed everywhere.

Every table is gone through, and every kept file and packed journal. What is set up by hand (pages, brands, connections, accounts) is
told and left to people. Removing replaces the person by a mark, so that journals replay to the same decisions and what went out stays
on record; rows of sheets go whole, if that is wanted, and so do files. Where a digest must stay (who left mailings, which items were
there) it is one nobody can read (see `hiding`).
"""

from __future__ import annotations

import contextlib
import io
import json
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import JSON, Connection, String, Table, select
from sqlalchemy.orm import Session

from ..core.mentions import MARK, Mentions
from ..protocols import documents
from ..protocols.errors import OutsideError
from ..store import DataTrouble, packed, tables, write_json
from . import hiding, records
from .services import Services, audit

_SKIPPED = {
    "house",
    "users",
    "web_sessions",
    "api_keys",
    "passkeys",
    "push_lines",
    "tallies",
    "outside_sheets",
    "assistant_keys",
    "sheet_keys",
}
"""What is not gone through: secrets, counts, and what a file elsewhere had, which follows its sheet by itself."""
_BY_HAND = {"workflows", "brands", "connections", "sheets", "mailing_lists", "notice_rules"}
_OF_RUNS = {"journal", "timers", "arrivals", "approvals", "pieces"}
_HIDDEN = {
    ("leavers", "address"),
    ("mailing_letters", "folded"),
    ("seen", "identity"),
    ("backlog", "identity"),
    ("samples", "identity"),
}
_GROUPS = {
    "Rows of sheets": ("sheet_rows", "row_changes"),
    "Runs": ("runs", "journal", "timers", "arrivals"),
    "Questions to people": ("approvals",),
    "What went out, and what came back": ("pieces", "mailing_letters", "results", "numbers_looks"),
    "Samples and proofs": ("samples", "proofs", "proof_cells", "judgements", "step_memory", "backlog", "seen", "starts"),
    "Who left mailings, and what people want": ("leavers", "people", "mailbox_looks"),
    "Notices and the trail": ("notices", "audit"),
}
_GROUP_OF = {table: group for group, names in _GROUPS.items() for table in names}
FILES, EARLIER = "Files", "Earlier revisions of pages"
SHOWN = 8
_TITLES = {
    "proofs": "A proof", "leavers": "Left mailings", "people": "What they want when they are asked", "results": "What came back of a piece",
    "audit": "The audit trail", "notices": "A notice", "seen": "An item that was here", "backlog": "An item that waits", "starts": "What a start found last",
}  # fmt: skip
_ON_THEIR_WAY = ("queued", "intent", "accepted", "going", "held")


class StillOpen(ValueError):
    """Something that speaks of the person is still under way."""


@dataclass(frozen=True)
class Entry:
    """A row of a table that speaks of the person: its primary key, and the values that do by column."""

    table: str
    key: tuple[Any, ...]
    values: dict[str, Any]
    run: int | None = None


@dataclass(frozen=True)
class Example:
    """A place, with some words around; `link` leads to it in the house, where something shows it."""

    title: str
    words: str
    link: str = ""


@dataclass
class Found:
    """What there is: how many places by group, the first of each, what a person has to change by hand, and what is still open."""

    counts: dict[str, int] = field(default_factory=dict)
    examples: dict[str, list[Example]] = field(default_factory=dict)
    by_hand: list[Example] = field(default_factory=list)
    open: list[Example] = field(default_factory=list)

    def add(self, group: str, example: Example) -> None:
        """Count a place."""
        self.counts[group] = self.counts.get(group, 0) + 1
        if len(shown := self.examples.setdefault(group, [])) < SHOWN:
            shown.append(example)


def find(services: Services, mentions: Mentions) -> Found:
    """Everything that speaks of the person."""
    found = Found()
    with services.store.read() as session:
        runs: set[int] = set()
        for entry in _entries(session.connection(), mentions):
            group, example, settled = _told(session, entry, mentions)
            if _by_hand(session.connection(), entry):
                found.by_hand.append(example)
                continue
            if not settled and example not in found.open:
                found.open.append(example)
            if group == "Runs" and entry.run is not None:
                if entry.run in runs:
                    continue
                runs.add(entry.run)
            found.add(group, example)
        for run, _, events in _packed(services, session, mentions):
            if run not in runs:
                title = session.get_one(tables.Run, run).title
                found.add("Runs", Example(title or f"Run {run}", next(mentions.within(events), ""), f"/runs/{run}"))
        found.by_hand += [
            Example(f"The account of {user.name or user.email}", user.email, "/account")
            for user in session.scalars(select(tables.User).where(tables.User.ended_at.is_(None)))
            if any(mentions.within([user.email, user.name]))
        ]
        for record, words in _files(services, session, mentions):
            found.add(FILES, Example(record.name, words, f"/api/files/{record.sha}"))
    order = [*_GROUPS]
    order.insert(4, FILES)
    found.counts = {
        group: found.counts[group] for group in sorted(found.counts, key=lambda g: order.index(g) if g in order else 99)
    }
    return found


def archive(services: Services, mentions: Mentions) -> bytes:
    """All of it as one ZIP file: what is said, as JSON, and the kept files."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file, services.store.read() as session:
        places: list[dict[str, Any]] = []
        for entry in _entries(session.connection(), mentions):
            group, example, _ = _told(session, entry, mentions)
            places.append({"where": group, "what": example.title, "values": entry.values})
        for run, path, events in _packed(services, session, mentions):
            places.append({"where": "Runs", "what": f"Run {run}, packed ({path})", "values": {"events": events}})
        for record, _ in _files(services, session, mentions):
            name = f"files/{record.sha[:8]} {record.name}"
            file.writestr(name, (services.store.folder / "files" / record.sha[:2] / record.sha).read_bytes())
            places.append({"where": FILES, "what": record.name, "values": {"file": name}})
        head = {
            "format": "ulmus-person",
            "version": 1,
            "asked": list(mentions.terms),
            "made_at": services.clock(),
            "places": places,
        }
        file.writestr("person.json", json.dumps(head, ensure_ascii=False, indent=1))
        file.writestr("README.txt", _README)
    return out.getvalue()


_README = """What this house holds of the person asked about.

person.json   every place: where it stands, what it is, and the values that speak of the person
files/        kept files in which the person stands
"""


def remove(services: Services, mentions: Mentions, who: str, rows: bool = True, mark: str = MARK) -> dict[str, int]:
    """Remove the person everywhere: the mark stands where they stood, `rows` of sheets and kept files go whole. Gives how many places
    of each group that were. Raises `StillOpen` where something is under way that speaks of them: nothing is changed then."""
    found = find(services, mentions)
    if found.open:
        names = ", ".join(f"“{one.title}”" for one in found.open[:3])
        raise StillOpen(f"Still under way: {names}. Cancel it, or wait until it has ended.")
    _remove_rows(services, mentions, who, "" if rows else mark)
    with services.store.read() as session:
        kept = [record.sha for record, _ in _files(services, session, mentions)]
        old = [run for run, _, _ in _packed(services, session, mentions)]
    for run in old:
        packed.rewrite(services.store, run, lambda event: _rewritten(event, mentions, mark))
    with services.store.writing() as connection:
        with Session(connection) as session:
            # What began meanwhile is left for the next time.
            settled = [entry for entry in _entries(connection, mentions) if _told(session, entry, mentions)[2]]
        for entry in settled:
            if not _by_hand(connection, entry):
                _mark(connection, entry, mentions, mark)
        for sha in kept:
            connection.exec_driver_sql("DELETE FROM files WHERE sha = ?", (sha,))
    for sha in kept:
        (services.store.folder / "files" / sha[:2] / sha).unlink(missing_ok=True)
    with services.store.write() as session:
        # That it was done, and nothing of whom.
        told = ", ".join(f"{group.lower()}: {count}" for group, count in found.counts.items())
        audit(session, services.clock(), who, "removed a person’s data", told or "nothing was found")
    services.store.compact()
    return found.counts


def _remove_rows(services: Services, mentions: Mentions, who: str, mark: str) -> None:
    """Rows of sheets that speak of the person go, or get a `mark`, by the way rows are changed: files elsewhere follow."""
    row, change = tables.SheetRow, tables.RowChange
    with services.store.write() as session:
        by = records.By(services.clock(), who)
        hits: dict[str, list[int]] = {}
        for entry in _entries(session.connection(), mentions, only="sheet_rows"):
            hits.setdefault(session.get_one(row, entry.key[0]).sheet, []).append(int(entry.key[0]))
        for key, numbers in hits.items():
            sheet = session.get_one(tables.Sheet, key)
            if not mark:
                records.remove(session, sheet, numbers, by, free=True)
                for one in session.scalars(select(change).where(change.sheet == key, change.row_id.in_(numbers))):
                    one.before, one.after, one.undone_by = {}, {}, one.undone_by or who
            else:
                cells = {number: session.get_one(row, number).cells for number in numbers}
                marked = [(number, mentions.marked(texts, mark)) for number, texts in cells.items()]
                records.put_cells(session, sheet, marked, by, free=True)
    for key in hits:
        services.bus.publish("sheet", key=key)


def _entries(connection: Connection, mentions: Mentions, only: str = "") -> Iterator[Entry]:
    """Every row of the database that speaks of the person."""
    driver: Any = connection.connection.driver_connection
    driver.create_function("speaks", -1, lambda *texts: any(t is not None and mentions.may_be_in(str(t)) for t in texts))
    for table in tables.Base.metadata.sorted_tables:
        if table.name in _SKIPPED or (only and table.name != only):
            continue
        texts = [c for c in table.columns if isinstance(c.type, JSON | String)]
        if not texts:
            continue
        keys = [c.name for c in table.primary_key.columns]
        run = _run_column(table)
        names = ", ".join(f'"{name}"' for name in [*keys, run or keys[0], *(c.name for c in texts)])
        asked = f'SELECT {names} FROM "{table.name}" WHERE speaks({", ".join(f"{chr(34)}{c.name}{chr(34)}" for c in texts)})'
        for line in connection.exec_driver_sql(asked):
            raw = dict(zip(texts, line[len(keys) + 1 :], strict=True))
            values = {c.name: _read(c.type, value) for c, value in raw.items() if value is not None}
            said = {name: value for name, value in values.items() if any(mentions.within(value))}
            if said:
                yield Entry(table.name, tuple(line[: len(keys)]), said, line[len(keys)] if run else None)


def _run_column(table: Table) -> str | None:
    if table.name == "runs":
        return "id"
    return "run_id" if table.name in _OF_RUNS else None


def _read(kind: Any, value: Any) -> Any:
    if isinstance(kind, JSON) and isinstance(value, str):
        with contextlib.suppress(ValueError):
            return json.loads(value)
    return value


def _told(session: Session, entry: Entry, mentions: Mentions) -> tuple[str, Example, bool]:
    """In which group a place stands, what it is called, and whether it is settled: nothing of it is under way."""
    words = next(mentions.within(list(entry.values.values())), "")
    group = _GROUP_OF.get(entry.table, "Elsewhere")
    title, link, settled = _TITLES.get(entry.table, entry.table.replace("_", " ").capitalize()), "", True
    match entry.table:
        case "sheet_rows" | "row_changes":
            key = session.scalar(select(_table(entry.table).sheet).where(_table(entry.table).id == entry.key[0]))
            sheet = session.get_one(tables.Sheet, key)
            title, link = f"{'A row' if entry.table == 'sheet_rows' else 'What a row was'} in {sheet.name}", f"/sheets/{sheet.key}"
        case "workflows":
            title, link = f"The page “{session.get_one(tables.WorkflowRecord, entry.key[0]).name}”", f"/workflows/{entry.key[0]}"
        case "revisions":
            revision = session.get_one(tables.Revision, entry.key[0])
            page = session.get_one(tables.WorkflowRecord, revision.workflow_id)
            group, title, link = EARLIER, f"Revision {revision.number} of “{page.name}”", f"/workflows/{page.id}"
        case "brands" | "connections" | "sheets":
            title = f"The {entry.table.removesuffix('s')} “{session.get_one(_table(entry.table), entry.key[0]).name}”"
            link = f"/{entry.table}/{entry.key[0]}" if entry.table != "connections" else "/connections"
        case "samples":
            page = session.get_one(tables.WorkflowRecord, session.get_one(tables.Sample, entry.key[0]).workflow_id)
            title, link = f"A sample of “{page.name}”", f"/workflows/{page.id}"
        case "mailing_letters":
            letter = session.get_one(tables.MailingLetter, entry.key[0])
            title, settled = "A letter of a mailing", letter.state not in ("waiting", "intent")
    if entry.run is not None:
        run = session.get(tables.Run, entry.run)
        title = f"{run.title or f'Run {run.id}'}" if run is not None else title
        link = f"/runs/{entry.run}"
        settled = run is None or run.ended_at is not None
        if entry.table == "pieces":
            settled = settled and session.get_one(tables.Piece, entry.key[0]).state not in _ON_THEIR_WAY
    return group, Example(title, words, link), settled


def _table(name: str) -> Any:
    return next(one.class_ for one in tables.Base.registry.mappers if one.local_table.name == name)  # type: ignore[attr-defined]


def _by_hand(connection: Connection, entry: Entry) -> bool:
    """Whether a place is changed by people: what is set up, and revisions that are live or that an open run is carried out from."""
    if entry.table == "workflows":
        return connection.exec_driver_sql("SELECT state FROM workflows WHERE id = ?", entry.key).scalar() != "removed"
    if entry.table == "revisions":
        live = "SELECT EXISTS (SELECT 1 FROM workflows WHERE revision_id = ?1) OR EXISTS (SELECT 1 FROM runs WHERE revision_id = ?1 AND ended_at IS NULL)"
        return bool(connection.exec_driver_sql(live, entry.key).scalar())
    return entry.table in _BY_HAND


def _mark(connection: Connection, entry: Entry, mentions: Mentions, mark: str) -> None:
    """Put the mark into a row of the database. What a person wants when asked goes whole."""
    table = tables.Base.metadata.tables[entry.table]
    keys = [c.name for c in table.primary_key.columns]
    where = " AND ".join(f'"{name}" = ?' for name in keys)
    if entry.table == "people" and "who" in entry.values:
        connection.exec_driver_sql(f"DELETE FROM people WHERE {where}", entry.key)
        return
    fresh: dict[str, Any] = {}
    for name, value in entry.values.items():
        if (entry.table, name) in _HIDDEN:
            fresh[name] = hiding.hidden(connection, value)
        else:
            marked = mentions.marked(value, mark)
            kind = table.columns[name].type
            fresh[name] = (
                write_json(marked)
                if isinstance(kind, JSON)
                else marked[: kind.length]
                if isinstance(kind, String) and kind.length
                else marked
            )
    sets = ", ".join(f'"{name}" = ?' for name in fresh)
    changed = connection.exec_driver_sql(
        f'UPDATE OR IGNORE "{entry.table}" SET {sets} WHERE {where}', (*fresh.values(), *entry.key)
    )
    if changed.rowcount == 0:
        # Another stands there with the same mark already.
        connection.exec_driver_sql(f'DELETE FROM "{entry.table}" WHERE {where}', entry.key)


def _rewritten(event: str, mentions: Mentions, mark: str) -> str:
    return write_json(mentions.marked(json.loads(event), mark))


def _packed(services: Services, session: Session, mentions: Mentions) -> Iterator[tuple[int, str, list[Any]]]:
    """Packed journals that speak of the person: the run, the file, and the events that do."""
    for run in session.scalars(select(tables.Run.id).where(tables.Run.packed.is_not(None), tables.Run.emptied.is_(None))):
        path = packed.path_of(services.store.folder, run)
        try:
            entries = packed.read(path)
        except DataTrouble:
            continue
        events = [json.loads(event) for _, event in entries if mentions.may_be_in(event)]
        if said := [event for event in events if any(mentions.within(event))]:
            yield run, path.name, said


def _files(services: Services, session: Session, mentions: Mentions) -> Iterator[tuple[tables.StoredFile, str]]:
    """Kept files in which the person stands, with some words around."""
    for record in session.scalars(select(tables.StoredFile).order_by(tables.StoredFile.created_at)):
        if said := next(mentions.within([record.name, _text(services, record)]), ""):
            yield record, said


def _text(services: Services, record: tables.StoredFile) -> str:
    """What can be read in a kept file; empty for pictures and the like."""
    path = services.store.folder / "files" / record.sha[:2] / record.sha
    try:
        body = path.read_bytes()
        if record.type.startswith(("text/", "message/")) or record.type in ("application/json", "image/svg+xml"):
            return body.decode("utf-8", "replace")
        if record.type.startswith(("image/", "audio/", "video/")):
            return ""
        document = documents.read(body, record.name, record.type)
        return "\n".join([document.title, document.text, *(" ".join(map(str, row.values())) for row in document.rows)])
    except (OSError, OutsideError):
        return ""
