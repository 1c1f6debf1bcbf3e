"""Before it goes live: what the page alone cannot tell, read from its proofs, its sheets and the workflows around it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Any, Literal
from urllib.parse import urlsplit

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.workflow import Line, LineProblem, Workflow, points_at, settings_of, templates_of
from ..core.workflow.kinds import CallSpec, SendSpec, WriteSpec
from ..core.workflow.plans import DraftPlan, RowsPlan
from ..steps import kinds
from ..store import tables
from .comparing import outcomes
from .proofing import Column, broken_musts
from .runs import live_pages

EXAMPLES = (".example", "example.com", "example.org", "example.net")
"""Names kept for examples (RFC 2606); nothing real stands there."""


def from_proofs(workflow: Workflow, samples: Iterable[tables.Sample], columns: Mapping[int, Column]) -> list[LineProblem]:
    """Samples that fail, must-rules that are broken, tests that do not hold or were not run, rows that would be written empty."""
    samples = list(samples)
    problems = _tests(workflow, samples, columns)
    fails: dict[str, list[tuple[str, str]]] = defaultdict(list)
    broken: dict[tuple[str, str], list[str]] = defaultdict(list)
    empty: dict[str, list[str]] = defaultdict(list)
    for sample in samples:
        column = columns.get(sample.id)
        for line in workflow.every_step if column is not None else ():
            assert column is not None
            cell = column.cells.get(line.id)
            if cell is None or cell.result is None:
                continue
            if cell.state == "failed":
                fails[line.id].append((sample.label, str(cell.result.output.get("message", ""))))
            if cell.state != "fresh":
                continue
            for words in broken_musts(cell.result.detail):
                broken[line.id, words].append(sample.label)
            cells = cell.result.detail.get("cells")
            if isinstance(cells, dict) and not any(str(value).strip() for value in cells.values()):
                empty[line.id].append(sample.label)
    problems += [LineProblem(step, f"It fails for {_those(labels)}: {labels[0][1]}", "warning") for step, labels in fails.items()]
    problems += [
        LineProblem(step, f"It breaks a rule for {_those(labels)}: {words}.", "warning") for (step, words), labels in broken.items()
    ]
    problems += [
        LineProblem(step, f"It would write an empty row for {_those(labels)}.", "warning") for step, labels in empty.items()
    ]
    return problems


def _tests(workflow: Workflow, samples: list[tables.Sample], columns: Mapping[int, Column]) -> list[LineProblem]:
    """Tests of prompts: those that do not hold, and, where the maker wants them run first, those that are not fresh."""
    failing: dict[str, list[tuple[str, str]]] = defaultdict(list)
    stale: dict[str, list[str]] = defaultdict(list)
    drafts = {line.id: plan for line in workflow.every_step if isinstance(plan := _plan_of(line), DraftPlan) and plan.tests}
    for sample in samples if drafts else ():
        column = columns.get(sample.id)
        made = outcomes(workflow, column, sample.label) if column is not None else {}
        for (step, _), one in made.items():
            failing[step] += [(sample.label, test) for test in one.tests if step in drafts]
        for step in drafts:
            if not any(found == step and not one.failed for (found, _), one in made.items()):
                stale[step].append(sample.label)
    found = []
    for step, plan in drafts.items():
        strict: Literal["error", "warning"] = "error" if plan.tested else "warning"
        if failing[step]:
            labels = list(dict.fromkeys(label for label, _ in failing[step]))
            found.append(LineProblem(step, f"A test does not hold for {_those(labels)}: {failing[step][0][1]}.", strict))
        if plan.tested and not samples:
            found.append(LineProblem(step, "Its tests have no sample to be run on. Keep one.", "error"))
        elif plan.tested and stale[step]:
            words = f"Its tests were not run for {_those(stale[step])} since something changed. Run all cells first."
            found.append(LineProblem(step, words, "error"))
    return found


def _plan_of(line: Line) -> Any:
    spec = kinds().get(line.kind)
    return spec.plan_of(line.settings) if spec is not None else None


def _those(labels: list[Any]) -> str:
    names = [label[0] if isinstance(label, tuple) else label for label in labels]
    shown = f"“{names[0]}”"
    return shown if len(names) == 1 else f"{shown} and {len(names) - 1} more"


def from_texts(workflow: Workflow, allowed: Iterable[str] = ()) -> list[LineProblem]:
    """Example addresses that still stand on the page. `allowed` are hosts that stand for something here (the practice town)."""
    found = []
    for line in workflow.lines:
        spec = kinds().get(line.kind)
        if spec is None:
            continue
        texts = dict(templates_of(spec, line.settings))
        addresses = (name for name, setting in settings_of(spec.settings).items() if setting.control.is_address)
        texts |= {(n,): v for n in addresses if isinstance(v := line.settings.get(n), str)}
        for place, text in texts.items():
            word = next((w for w in text.split() if _is_example(w)), "")
            if word and not any(host in word for host in allowed):
                words = f"“{word.strip('.,;()<>')[:80]}” is an example and leads nowhere. Write your own."
                found.append(LineProblem(line.id, words, "warning", place))
    return found


def _is_example(word: str) -> bool:
    host = urlsplit(word).hostname if "://" in word else word.rpartition("@")[2] if "@" in word else ""
    host = (host or "").strip(".,;()<>").lower()
    return bool(host) and any(
        host == name.lstrip(".") or host.endswith(name if name.startswith(".") else f".{name}") for name in EXAMPLES
    )


def from_sheets(session: Session, workflow: Workflow) -> list[LineProblem]:
    """Columns of the sheets that lines write to which nothing fills."""
    found = []
    for line in workflow.every_step:
        spec = kinds().get(line.kind)
        if not isinstance(spec, WriteSpec) or line.muted:
            continue
        key = _set_to(line, "sheet")
        sheet = session.get(tables.Sheet, key) if key else None
        filled = {place[1] for place, text in templates_of(spec, line.settings) if len(place) > 1 and text.strip()}
        if sheet is None:
            continue
        left = [str(c["name"]) for c in sheet.columns if c["name"] not in filled]
        if left and filled and spec.adds(spec.read(line.settings)):
            found.append(LineProblem(line.id, f"It leaves columns of “{sheet.name}” empty: {', '.join(left[:8])}.", "warning"))
    return found


def from_circles(session: Session, workflow_id: int, workflow: Workflow) -> list[LineProblem]:
    """Ways in which the page would start itself: a row it adds to the sheet it watches, a post into the feed it reads, a
    workflow that runs it; alone, or by way of others that are live."""
    pages = {number: page for number, _, page in live_pages(session)}
    pages[workflow_id] = workflow
    hosts = {c.key: _hosts_of(c.settings) for c in session.scalars(select(tables.Connection))}
    leads: dict[int, list[tuple[int, Line, str]]] = defaultdict(list)
    for source, page in pages.items():
        for line, _, muted in page.walk():
            if not muted:
                for target, watched in pages.items():
                    words = _feeds(line, page, source, target, watched, hosts)
                    if words:
                        leads[source].append((target, line, words))
    found = []
    for target, line, words in leads[workflow_id]:
        way = _back(leads, target, workflow_id)
        if way is not None:
            through = "".join(f" by way of “{pages[one].name}”" for one in way if one != workflow_id)
            found.append(
                LineProblem(
                    line.id, f"This starts the workflow itself again{through}: {words}. It would go round and round.", "warning"
                )
            )
    return found


def _feeds(line: Line, page: Workflow, source: int, target: int, watched: Workflow, hosts: Mapping[str, set[str]]) -> str:
    """How a line of one page sets off the start of another, in words; empty where it does not."""
    spec, start = kinds().get(line.kind), kinds().get(watched.start.kind)
    if spec is None or start is None:
        return ""
    if isinstance(spec, WriteSpec) and (sheet := _set_to(line, "sheet")) and sheet == _set_to(watched.start, "sheet"):
        plan = start.plan_of(watched.start.settings)
        changes = isinstance(plan, RowsPlan) and plan.changes
        return "it writes into the sheet that is watched" if changes or spec.adds(spec.read(line.settings)) else ""
    if isinstance(spec, CallSpec) and _set_to(line, "workflow") == str(target):
        return "it runs the workflow"
    if line is page.start and _set_to(watched.start, "workflow") == str(source):
        return ""
    if line.id == page.steps[-1].id and _set_to(watched.start, "workflow") == str(source):
        return "its end is what is waited for"
    if isinstance(spec, SendSpec):
        address = next(
            (v for v in watched.start.settings.values() if isinstance(v, str) and v.startswith(("http://", "https://"))), ""
        )
        if address and _place(address) in hosts.get(_set_to(line, "connection"), set()):
            return "it publishes where the feed is read"
    return ""


def _set_to(line: Line, what: str) -> str:
    """What the first setting that points at such a thing is set to."""
    spec = kinds().get(line.kind)
    return next((key for _, key in points_at(spec, line.settings, what)), "") if spec else ""


def _hosts_of(settings: Mapping[str, Any]) -> set[str]:
    found = {_place(v) for v in settings.values() if isinstance(v, str) and v.startswith(("http://", "https://"))}
    return found - {""}


def _place(address: str) -> str:
    """Host and first part of the path: where a network's feed and its endpoint stand together."""
    parts = urlsplit(address)
    return f"{parts.netloc.lower()}/{parts.path.strip('/').split('/')[0]}"


def _back(leads: Mapping[int, list[tuple[int, Line, str]]], source: int, goal: int) -> list[int] | None:
    """The workflows on the way from one to another, without the goal; ``None`` where there is none."""
    ways: list[list[int]] = [[source]]
    seen = {source}
    while ways:
        way = ways.pop(0)
        if way[-1] == goal:
            return way[:-1]
        for target, _, _ in leads.get(way[-1], ()):
            if target not in seen:
                seen.add(target)
                ways.append([*way, target])
    return None
