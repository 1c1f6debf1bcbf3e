"""A run's record, and that of a period, as one document each: as data, and as a page that can be kept, printed and handed on."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence
from html import escape
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select

from ..core import flow
from ..core.workflow import Workflow
from ..runtime import periods, records, results
from ..runtime.engine import Engine
from ..runtime.services import Services, connection_name, world
from ..store import tables
from .journals import Journals, cells, draft_versions, step_of
from .views import line_views

LONGEST_VALUE = 4000


class LineRecord(BaseModel):
    """What became of a line: its sentence, and in words how it went."""

    line: str
    stage: str
    state: str
    brief: str


class DraftRecord(BaseModel):
    """A version of a draft, and why it was written."""

    line: str
    text: str
    why: str


class AnswerRecord(BaseModel):
    """What a person said about a piece."""

    at: str
    by: str
    verdict: str
    note: str
    edited: bool


class PieceRecord(BaseModel):
    """What went out, or waits: where to, when, as it read, and what came back."""

    channel: str
    state: str
    at: str
    text: str
    link: str
    results: dict[str, float]


class RowRecord(BaseModel):
    """What was written into a row."""

    sheet: str
    row: int
    what: str
    after: dict[str, Any]


class RunRecord(BaseModel):
    """Everything of a run in one document. Times are ISO 8601 (UTC), `cost` is money, `tokens` what the models read and wrote."""

    run: int
    title: str
    workflow: str
    revision: int
    brand: str
    state: str
    message: str
    began: str
    ended: str
    came_in: dict[str, Any]
    lines: list[LineRecord]
    drafts: list[DraftRecord]
    answers: list[AnswerRecord]
    pieces: list[PieceRecord]
    rows: list[RowRecord]
    calls: int
    tokens: int
    cost: float


def run_record(services: Services, engine: Engine, journals: Journals, run_id: int) -> RunRecord:
    """The record of a run as it stands now."""
    with services.store.read() as session:
        run = session.get_one(tables.Run, run_id)
        events = journals.of(run_id) if run.emptied is None else []
        workflow_record = session.get_one(tables.WorkflowRecord, run.workflow_id)
        revision = session.get_one(tables.Revision, run.revision_id)
        live = engine.live(run_id) if run.emptied is None else None
        workflow = Workflow.model_validate(revision.document)
        views = {view.id: view for view in line_views(workflow, world(session))}
        brand = session.get(tables.Brand, workflow_record.brand) if workflow_record.brand else None
        sentences = {id_: "".join(part.text for part in view.sentence) for id_, view in views.items()}
        sent = session.scalars(select(tables.Piece).where(tables.Piece.run_id == run_id).order_by(tables.Piece.id)).all()
        pieces = [
            PieceRecord(
                channel=connection_name(session, piece.connection),
                state=piece.state,
                at=_moment(piece.sent_at),
                text=periods.said(piece.kind, piece.content)[:20_000] or str(piece.content.get("path") or ""),
                link=str((piece.receipt or {}).get("link") or ""),
                results={
                    **{what: float(n) for what, n in results.counts(session, piece.id).items()},
                    **(numbers[-1][1] if (numbers := results.numbers(session, piece.id)) else {}),
                },
            )
            for piece in sent
        ]
        sheets = {key: name for key, name in session.execute(select(tables.Sheet.key, tables.Sheet.name))}  # noqa: C416
        rows = [
            RowRecord(sheet=sheets.get(change.sheet, change.sheet), row=change.place, what=change.what, after=change.after)
            for change in records.changes_of_run(session, run_id)
        ]
        said = select(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.decided_at.is_not(None))
        kept = [] if live else list(session.scalars(said.order_by(tables.Approval.id)))
    drafting = [line.id for line in workflow.lines if views.get(line.id) and views[line.id].stage == "draft"]
    return RunRecord(
        run=run_id,
        title=run.title,
        workflow=workflow_record.name,
        revision=revision.number,
        brand=brand.name if brand else "",
        state=run.state,
        message=run.message,
        began=_moment(run.started_at),
        ended=_moment(run.ended_at),
        came_in=live.state.values.get(workflow.start.id, {}) if live else {},
        lines=[
            LineRecord(line=sentences.get(cell.step, cell.step), stage=views[cell.step].stage, state=cell.state, brief=cell.brief)
            for cell in (cells(workflow, events, live.state) if live else ())
            if cell.step in views
        ],
        drafts=[
            DraftRecord(line=sentences.get(line, line), text=version.text, why=version.why)
            for line in drafting
            for version in draft_versions(events, line)
        ],
        answers=[
            AnswerRecord(at=_moment(e.at), by=e.by, verdict=e.verdict, note=e.note, edited=e.edited)
            for e in events
            if isinstance(e, flow.Answered) and step_of(e.address)
        ]
        + [
            AnswerRecord(at=_moment(a.decided_at), by=a.decided_by, verdict=a.state, note=a.note, edited=a.edit is not None)
            for a in kept
        ],
        pieces=pieces,
        rows=rows,
        calls=live.state.usage.calls if live else 0,
        tokens=run.tokens,
        cost=run.cost,
    )


def _moment(at: float | None) -> str:
    return dt.datetime.fromtimestamp(at, dt.UTC).isoformat(timespec="seconds") if at else ""


# -- as pages ---------------------------------------------------------------------------------------------

VERDICTS = {"approve": "approved", "back": "sent back", "decline": "declined"}


def run_page(record: RunRecord) -> str:
    """A run's record as clean HTML: a heading, then what came in, the drafts, what was said, what went out, and the rest."""
    parts = [
        _p(f"{record.workflow}, revision {record.revision}" + (f", for {record.brand}" if record.brand else "")),
        _p(
            f"Began {_read(record.began)}"
            + (f", ended {_read(record.ended)}" if record.ended else "")
            + f": {record.state}. {record.message}"
        ),
        _h("What came in"),
        _table(("", ""), ((name, _value(value)) for name, value in record.came_in.items())),
    ]
    if record.pieces:
        parts.append(_h("What went out"))
        for piece in record.pieces:
            came = ", ".join(f"{value:g} {name}" for name, value in piece.results.items())
            parts += [
                f"<h3>{escape(piece.channel)}, {escape(_read(piece.at) or piece.state)}</h3>",
                _text(piece.text),
                _p(piece.link) if piece.link else "",
                _p(f"Came back: {came}") if came else "",
            ]
    if record.answers:
        parts.append(_h("Who passed it"))
        parts.append(
            _table(
                ("When", "Who", "Said", "Note"),
                (
                    (_read(a.at), a.by, VERDICTS.get(a.verdict, a.verdict) + (", changed" if a.edited else ""), a.note)
                    for a in record.answers
                ),
            )
        )
    if record.drafts:
        parts.append(_h("Drafts"))
        for n, draft in enumerate(record.drafts, start=1):
            parts += [f"<h3>{n}. {escape(draft.line)}</h3>", _p(draft.why) if draft.why else "", _text(draft.text)]
    if record.rows:
        parts.append(_h("What was written down"))
        parts.append(
            _table(
                ("Sheet", "Row", "", "Cells"),
                (
                    (r.sheet, r.row, r.what, "; ".join(f"{name}: {_value(value)}" for name, value in r.after.items()))
                    for r in record.rows
                ),
            )
        )
    parts.append(_h("Line by line"))
    parts.append(_table(("Line", "", ""), ((line.line, line.state, line.brief) for line in record.lines)))
    parts.append(_p(f"{record.calls} calls of models, {record.tokens:,} tokens, cost {record.cost:.4f}."))
    return "\n".join(part for part in parts if part)


def period_page(told: dict[str, Any]) -> str:
    """The record of a period as clean HTML."""
    runs = told["runs"]
    approvals = ", ".join(f"{count} {what}" for what, count in told["approvals"].items()) or "nobody was asked"
    columns = list(periods.COUNTED.values())
    parts = [
        _p(
            f"{told['count']} pieces went out. {runs.get('begun', 0)} runs, {runs.get('failed', 0)} failed. Approvals: {approvals}. "
            f"From start to out: {told['hours']:g} hours (median). Cost {told['cost']:.2f}, {told['tokens']:,} tokens."
        ),
        _h("Channels"),
        _table(
            ("Channel", "Pieces", *columns),
            ([one["channel"], one["pieces"], *(one[name] for name in columns)] for one in told["channels"]),
        ),
        _h("Pieces"),
        _table(
            ("When", "Where", "What", "Came back"),
            (
                (
                    piece["at"][:16].replace("T", " "),
                    piece["channel"],
                    "\n".join(part for part in (piece["title"], piece["text"][:240], piece["link"]) if part),
                    ", ".join(
                        [f"{piece[name]} {name}" for name in columns if piece[name]]
                        + [f"{number:g} {name}" for name, number in piece["numbers"].items()]
                    ),
                )
                for piece in told["items"]
            ),
        ),
    ]
    return "\n".join(parts)


def whole(title: str, page: str) -> str:
    """A page that stands by itself, with nothing to be fetched."""
    style = (
        "body{font:16px/1.5 Georgia,serif;max-width:46rem;margin:2rem auto;padding:0 1rem;color:#22251c}"
        "h1,h2,h3{line-height:1.2}h2{margin-top:2rem;border-bottom:1px solid #cfc9b8}table{border-collapse:collapse;width:100%}"
        "td,th{border-bottom:1px solid #ddd8c9;padding:.3rem .6rem .3rem 0;text-align:left;vertical-align:top;overflow-wrap:anywhere}"
        "blockquote{margin:.5rem 0;padding-left:1rem;border-left:3px solid #cfc9b8}"
    )
    safe = escape(title)
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{safe}</title>'
        f'<meta name="viewport" content="width=device-width"><style>{style}</style></head><body><h1>{safe}</h1>{page}</body></html>'
    )


def _h(text: str) -> str:
    return f"<h2>{escape(text)}</h2>"


def _p(text: str) -> str:
    return f"<p>{escape(text.strip())}</p>"


def _text(text: str) -> str:
    lines = "".join(f"<p>{escape(part.strip())}</p>" for part in text.split("\n") if part.strip())
    return f"<blockquote>{lines}</blockquote>" if lines else ""


def _table(heads: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    head = "".join(f"<th>{escape(name)}</th>" for name in heads)
    body = "".join(
        "<tr>" + "".join(f"<td>{'<br>'.join(escape(line) for line in str(cell).split(chr(10)))}</td>" for cell in row) + "</tr>"
        for row in rows
    )
    if not body:
        return "<p>Nothing.</p>"
    return f"<table>{f'<tr>{head}</tr>' if any(heads) else ''}{body}</table>"


def _value(value: Any) -> str:
    return str(value if value is not None else "")[:LONGEST_VALUE]


def _read(moment: str) -> str:
    return moment[:16].replace("T", " ") + " UTC" if moment else ""
