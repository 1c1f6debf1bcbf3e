"""Carrying out a workflow file once, from the command line."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sqlalchemy import select

from ..core.values import plain_object
from ..core.workflow import read_file
from ..store import tables
from . import asking, workflows
from .engine import Engine
from .polling import poll_once
from .runs import title_of
from .services import Services

WHO = "command line"


def run(
    folder: Path,
    allowed: frozenset[str],
    source: bytes,
    item: dict[str, Any] | None,
    ask: Callable[[str], tuple[str, str]],
    wait: float,
) -> dict[str, Any]:
    """Run the file's workflow on `item` (or its start's latest item); `ask` answers approvals with (verdict, note).

    Gives the outcome as plain JSON values. Raises `ValueError`, `OutsideError` or `EngineBusy` in plain words.
    """
    workflow = read_file(source)
    services = Services.open(folder, allowed)
    engine = Engine(services)
    try:
        engine.start(polling=False)
        if engine.hold is not None:
            raise ValueError("This data is a copy, or it was moved, and is held. Serve it and let it go first.")
        if item is None:
            found = poll_once(services, engine.pages, workflow.start, {}).items
            if not found:
                raise ValueError("The start has no item to begin with. Give one with --item.")
            item = found[-1][1]
        with services.store.write() as session:
            record = session.scalar(select(tables.WorkflowRecord).where(tables.WorkflowRecord.name == workflow.name, tables.THERE))
            if record is None:
                workflow_id = workflows.create(session, workflow, services.clock(), WHO)
            else:
                workflow_id = record.id
                workflows.save(session, record.id, workflow, record.version, services.clock())
        workflows.go_live(engine, workflow_id, WHO)
        workflows.pause(engine, workflow_id, WHO)
        item = plain_object(item)
        with engine.transaction() as tx:
            run_id = engine.begin(tx, workflow_id, item, title_of(item))
        _attend(engine, run_id, ask, time.monotonic() + wait)
        return _told(engine, run_id)
    finally:
        engine.stop()
        services.close()


def _attend(engine: Engine, run_id: int, ask: Callable[[str], tuple[str, str]], deadline: float) -> None:
    while time.monotonic() < deadline:
        with engine.services.store.read() as session:
            state = session.get_one(tables.Run, run_id).state
            ended = session.get_one(tables.Run, run_id).ended_at is not None
            open_question = select(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.state == "open")
            approval = session.scalar(open_question)
        if ended or state == "unsure":
            return
        if approval is not None:
            verdict, note = ask(approval.text)
            asking.answer(engine.services, engine.writer, approval.id, verdict, WHO, None, note)  # type: ignore[arg-type]
        time.sleep(0.05)


def _told(engine: Engine, run_id: int) -> dict[str, Any]:
    live = engine.live(run_id)
    with engine.services.store.read() as session:
        record = session.get_one(tables.Run, run_id)
    steps = []
    for line in live.workflow.every_step:
        output = live.state.values.get(line.id)
        current = live.state.current
        here = current is not None and current.id == line.id
        state = "done" if output is not None and not here else record.state if here else "muted" if line.muted else "ahead"
        says = (
            live.state.message
            if here
            else str((output or {}).get("text") or (output or {}).get("link") or (output or {}).get("sheet") or "")
        )
        steps.append({"step": line.id, "state": state, "says": " ".join(says.split()), "output": output})
    return {
        "run": run_id,
        "state": record.state,
        "message": record.message,
        "cost": record.cost,
        "tokens": record.tokens,
        "item": live.state.values[live.workflow.start.id],
        "steps": steps,
    }
