"""Workflow files between houses: what a page needs around it goes along (never a secret), and is found again on arrival."""

from __future__ import annotations

import json
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.columns import TYPES
from ..core.workflow import Line, Workflow, edits, points_at, read_file, settings_of
from ..core.workflow.controls import Mail, People
from ..core.workflow.world import BRAND_FACTS
from ..steps import kinds
from ..store import tables
from . import sheets

TEMPLATES = Path(__file__).parents[1] / "templates"
POINTS = {"connection": "connections", "sheet": "sheets"}


@lru_cache(maxsize=1)
def templates() -> dict[str, tuple[str, dict[str, Any]]]:
    """Pages to begin from, by key: what each is for, and its workflow file."""
    found = {}
    for path in sorted(TEMPLATES.glob("*.json")):
        document = json.loads(path.read_text("utf-8"))
        found[path.stem] = (str(document.pop("about", "")), document)
    return found


@lru_cache(maxsize=1)
def examples() -> dict[str, tuple[str, dict[str, Any]]]:
    """For each kind that stands in a template, the template's name and a line of it, with what stands in blocks left out."""
    found: dict[str, tuple[str, dict[str, Any]]] = {}
    for _, document in templates().values():
        for line in read_file(document).lines:
            told = {"id": line.id, "kind": line.kind, "settings": line.settings}
            found.setdefault(line.kind, (str(document["name"]), told))
    return found


def needs_of(session: Session, workflow: Workflow) -> dict[str, Any]:
    """What stands around the page: its connections' kinds and names, its sheets' columns, its brand's facts."""
    out: dict[str, Any] = {"connections": {}, "sheets": {}}
    for _, _, what, key in _points(workflow):
        if what == "connection" and (connection := session.get(tables.Connection, key)):
            out["connections"][key] = {"kind": connection.kind, "name": connection.name}
        elif what == "sheet" and (sheet := session.get(tables.Sheet, key)):
            out["sheets"][key] = {"name": sheet.name, "columns": [_column(c) for c in sheet.columns]}
    if workflow.brand and (brand := session.get(tables.Brand, workflow.brand)):
        out["brand"] = {"name": brand.name, "facts": {n: str(brand.facts.get(n, "")) for n in BRAND_FACTS if brand.facts.get(n)}}
    return {name: value for name, value in out.items() if value}


def settle(session: Session, workflow: Workflow, needs: dict[str, Any]) -> tuple[Workflow, list[str]]:
    """A page from elsewhere with what it points at found here as far as it can be, and a note on each thing looked for.

    A connection is found by its key, its name, or by being the only one of its kind; where there is none of its kind, a setting that
    may be left empty is. A sheet by its key, its name or its columns, never another brand's; one that is not here is made, empty, with the columns the file
    tells, for the page's brand. A brand that is not here is made from the facts in the file.
    """
    page, told_brand = _branded(session, workflow, needs)
    notes: list[str] = []
    here: dict[tuple[str, str], str] = {}
    for line, _, what, key in _points(page):
        if (what, key) in here:
            continue
        found, told = _connection(session, line, key, needs) if what == "connection" else _sheet(session, key, needs, page.brand)
        here[what, key] = found
        if told:
            notes.append(told)
    return _pointed(session, page, here), [*notes, *told_brand]


def _branded(session: Session, page: Workflow, needs: dict[str, Any]) -> tuple[Workflow, list[str]]:
    """The page with its brand, made from the facts in the file where it is not here, or without it; and a note where one is due."""
    if not page.brand or session.get(tables.Brand, page.brand) is not None:
        return page, []
    told_brand = needs.get("brand")
    if not told_brand:
        return page.model_copy(update={"brand": None}), [
            f"There is no brand “{page.brand}” here; choose one where its facts are used."
        ]
    said, name = told_brand.get("facts"), str(told_brand.get("name") or page.brand)[:120]
    facts = {n: str(said[n])[:10_000] for n in BRAND_FACTS if n in said} if isinstance(said, dict) else {}
    session.add(tables.Brand(key=page.brand, name=name, facts=facts))
    session.flush()
    return page, [f"The brand “{name}” was made from the facts in the file."]


def _told(needs: dict[str, Any], what: str, key: str) -> dict[str, Any]:
    """What a file says of one thing; nothing where it says something that cannot be used."""
    told = needs.get(what, {}).get(key)
    return told if isinstance(told, dict) and isinstance(told.get("columns", []), list) else {}


def with_person(workflow: Workflow, mail: str) -> Workflow:
    """The page with `mail` wherever a person is to be asked and none is named."""
    page = workflow
    for line in workflow.every_step:
        kind = kinds().get(line.kind)
        for name, setting in settings_of(kind.settings).items() if kind else ():
            asks = isinstance(setting.control, Mail) or (isinstance(setting.control, People) and setting.required)
            if asks and not line.settings.get(name):
                page = edits.with_settings(page, line.id, {**line.settings, name: mail})
    return page


def _connection(session: Session, line: Line, key: str, needs: dict[str, Any]) -> tuple[str, str]:
    told = _told(needs, "connections", key)
    fits = [str(told["kind"])] if told.get("kind") else _kinds_needed(line, key)
    fitting = list(session.scalars(select(tables.Connection).where(tables.Connection.kind.in_(fits))))
    if any(c.key == key for c in fitting):
        return key, ""
    name = str(told.get("name", key))
    match = next((c for c in fitting if c.name.casefold() == name.casefold()), fitting[0] if len(fitting) == 1 else None)
    if match is not None:
        return match.key, f"For “{name}” it uses {match.name}."
    return key, f"“{name}” is not here: choose it on its line, or add it under Connections."


def _column(column: dict[str, Any]) -> str | dict[str, Any]:
    """A column as a file names it: by its name alone where it is one of text."""
    told = {name: column[name] for name in ("name", "type", "choices") if column.get(name)}
    return told if told.get("type", "text") != "text" else str(column["name"])


def _columns(told: dict[str, Any]) -> list[dict[str, Any]]:
    """The columns of a sheet that a file names; what cannot be read there is left out."""
    out = []
    for one in told.get("columns") or []:
        column = {"name": one} if isinstance(one, str) else one if isinstance(one, dict) else {}
        name, choices = column.get("name"), column.get("choices")
        if isinstance(name, str) and name.strip():
            kind = column.get("type") if column.get("type") in TYPES else "text"
            listed = {"choices": [str(c) for c in choices]} if isinstance(choices, list) and choices else {}
            out.append({"name": name.strip()[:120], "type": kind, **listed})
    return out


def _sheet(session: Session, key: str, needs: dict[str, Any], brand: str | None) -> tuple[str, str]:
    told = _told(needs, "sheets", key)
    # A client's page never takes another client's sheet; one of the house's takes a client's only where it is called the same.
    here = [s for s in session.scalars(select(tables.Sheet)) if not brand or s.brand in (None, brand)]
    if any(s.key == key for s in here):
        return key, ""
    name, columns = str(told.get("name", key))[:120], _columns(told)
    names = [str(c["name"]) for c in columns]
    match = next((s for s in here if s.name.casefold() == name.casefold()), None) or next(
        (s for s in here if names and s.brand in (None, brand) and {c["name"] for c in s.columns} >= set(names)), None
    )
    if match is not None:
        return match.key, f"For the sheet “{name}” it uses “{match.name}”."
    if not columns:
        return key, f"The sheet “{name}” is not here: choose one on its line, or make it under Sheets."
    try:
        made = sheets.create(session, name, columns, brand)
    except ValueError as error:
        return key, f"The sheet “{name}” is not here and could not be made: {error}"
    return made.key, f"The sheet “{name}” was made, still empty: {', '.join(names)}."


def _kinds_needed(line: Line, key: str) -> list[str]:
    kind = kinds()[line.kind]
    needs = (settings_of(kind.settings)[n].needs for n, k in points_at(kind, line.settings, "connection") if k == key)
    return next(needs, "").split()


def _points(workflow: Workflow) -> Iterator[tuple[Line, str, str, str]]:
    """Every setting that points at something outside the page: line, setting, what, key."""
    for line in workflow.lines:
        kind = kinds().get(line.kind)
        for what in POINTS if kind else ():
            for name, key in points_at(kind, line.settings, what) if kind else ():
                if key:
                    yield line, name, what, key


def _pointed(session: Session, workflow: Workflow, here: dict[tuple[str, str], str]) -> Workflow:
    """The page with its keys replaced by those that fit here."""
    of_kind = set(session.scalars(select(tables.Connection.kind)))
    for line, name, what, key in list(_points(workflow)):
        # As the line is by now: another of its settings may have been replaced before.
        own, setting = workflow.line(line.id), settings_of(kinds()[line.kind].settings)[name]
        found = here[what, key]
        # It may be none where there is a word for that.
        if what == "connection" and "" in setting.labels and not of_kind & set(setting.needs.split()):
            found = ""
        if found != key and own is not None:
            workflow = edits.with_settings(workflow, line.id, {**own.settings, name: found})
    return workflow
