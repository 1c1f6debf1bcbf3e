"""The record of a period: what went out of a brand between two moments, where to, what came of it, what it cost and how long it took."""

from __future__ import annotations

import datetime as dt
import statistics
from collections import defaultdict
from typing import Any

from pydantic import ValidationError
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.pieces import read, text_of
from ..core.recurrence import zone_of
from ..core.workflow.kinds import SendSpec, is_for_readers
from ..steps import kinds
from ..store import tables
from . import results
from .services import connection_name

MOST_PIECES = 5000
LONGEST_SAID = 400
ENDED = ("done", "failed", "declined", "cancelled", "skipped")
COUNTED = {"answer": "answers", "press": "pressed", "left": "left", "bounce": "bounced"}


def month_of(text: str, zone: str) -> tuple[float, float]:
    """The beginning and the end of a month written as ``2026-11``, in a zone (seconds since the epoch). Raises `ValueError`."""
    try:
        year, month = (int(part) for part in text.split("-"))
        first = dt.datetime(year, month, 1, tzinfo=zone_of(zone))
    except (ValueError, OverflowError):
        raise ValueError(f"“{text[:40]}” is no month; write it as 2026-11.") from None
    after = dt.datetime(year + month // 12, month % 12 + 1, 1, tzinfo=first.tzinfo)
    return first.timestamp(), after.timestamp()


def record(session: Session, brand: str | None, since: float, until: float) -> dict[str, Any]:
    """What went out between two moments (`until` not counted), of a brand, or of all for ``None``: plain values."""
    pieces = _pieces(session, brand, since, until)
    channels: dict[str, dict[str, Any]] = {}
    for piece in pieces:
        channel = channels.setdefault(
            piece["channel"], {"channel": piece["channel"], "pieces": 0, **dict.fromkeys(COUNTED.values(), 0)}
        )
        channel["pieces"] += 1
        for name in COUNTED.values():
            channel[name] += piece[name]
    runs, cost, tokens = _runs(session, brand, since, until)
    hours = [piece["hours"] for piece in pieces if piece["hours"] is not None]
    name = session.get_one(tables.Brand, brand).name if brand else ""
    told = {
        "brand": name,
        "since": _day(since),
        "until": _day(until - 1),
        "count": len(pieces),
        "items": pieces,
        "channels": sorted(channels.values(), key=lambda one: (-one["pieces"], one["channel"])),
        "runs": runs,
        "approvals": _approvals(session, brand, since, until),
        "cost": round(cost, 4),
        "tokens": tokens,
        "hours": round(statistics.median(hours), 2) if hours else 0.0,
    }
    return {**told, "text": as_text(told)}


def _mine(brand: str | None) -> Any:
    return tables.WorkflowRecord.brand == brand if brand else True


def _pieces(session: Session, brand: str | None, since: float, until: float) -> list[dict[str, Any]]:
    piece, run, workflow = tables.Piece, tables.Run, tables.WorkflowRecord
    sending = [name for name, kind in kinds().items() if isinstance(kind, SendSpec)]
    wanted = (
        select(piece, run.started_at, run.id, workflow.name)
        .join(run, run.id == piece.run_id)
        .join(workflow, workflow.id == run.workflow_id)
        .where(piece.state == "sent", piece.sent_at >= since, piece.sent_at < until, piece.kind.in_(sending), _mine(brand))
        .order_by(piece.sent_at)
        .limit(MOST_PIECES)
    )
    names: dict[str, str] = {}
    out = []
    for sent, began, number, name in session.execute(wanted):
        kind = kinds()[sent.kind]
        assert isinstance(kind, SendSpec)
        channel = names.setdefault(sent.connection, connection_name(session, sent.connection))
        back = results.counts(session, sent.id)
        measured = results.numbers(session, sent.id)
        out.append(
            {
                "at": _moment(sent.sent_at or 0.0),
                "channel": channel,
                "form": kind.form if is_for_readers(kind) else "act",
                "title": _title(sent.content),
                "text": said(sent.kind, sent.content)[:LONGEST_SAID],
                "link": str((sent.receipt or {}).get("link") or ""),
                "workflow": name,
                "run": number,
                "hours": round(max(0.0, (sent.sent_at or 0.0) - began) / 3600, 2),
                **{word: back.get(what, 0) for what, word in COUNTED.items()},
                "numbers": measured[-1][1] if measured else {},
            }
        )
    return out


def said(name: str, content: dict[str, Any]) -> str:
    """What a piece that went out said; nothing where it cannot be read any more."""
    kind = kinds()[name]
    try:
        return text_of(read(kind.form, content)) if isinstance(kind, SendSpec) else ""
    except ValidationError:
        return str(content.get("text") or "")


def _title(content: dict[str, Any]) -> str:
    return next((str(content[name])[:200] for name in ("title", "subject", "name") if content.get(name)), "")


def _runs(session: Session, brand: str | None, since: float, until: float) -> tuple[dict[str, int], float, int]:
    run, workflow = tables.Run, tables.WorkflowRecord
    wanted = (
        select(run.state, func.count(), func.sum(run.cost), func.sum(run.tokens))
        .join(workflow, workflow.id == run.workflow_id)
        .where(run.started_at >= since, run.started_at < until, _mine(brand))
        .group_by(run.state)
    )
    counts: dict[str, int] = defaultdict(int)
    cost, tokens = 0.0, 0
    for state, count, spent, used in session.execute(wanted):
        counts["begun"] += count
        counts[state if state in ENDED else "under way"] += count
        cost, tokens = cost + float(spent or 0.0), tokens + int(used or 0)
    return dict(counts), cost, tokens


def _approvals(session: Session, brand: str | None, since: float, until: float) -> dict[str, int]:
    approval, run, workflow = tables.Approval, tables.Run, tables.WorkflowRecord
    wanted = (
        select(approval.state, func.count())
        .join(run, run.id == approval.run_id)
        .join(workflow, workflow.id == run.workflow_id)
        .where(approval.decided_at >= since, approval.decided_at < until, _mine(brand))
        .group_by(approval.state)
    )
    words = {"approve": "approved", "back": "sent back", "decline": "declined"}
    return {words.get(state, state): count for state, count in session.execute(wanted)}


def as_text(told: dict[str, Any]) -> str:
    """The record in words, for a prompt or a letter."""
    head = f"{told['brand'] or 'All brands'}, {told['since']} to {told['until']}: {_many(told['count'], 'piece')} went out."
    lines = [head]
    for channel in told["channels"]:
        came = ", ".join(f"{channel[name]} {name}" for name in COUNTED.values() if channel[name])
        lines.append(f"- {channel['channel']}: {_many(channel['pieces'], 'piece')}" + (f"; {came}" if came else ""))
    runs, approvals = told["runs"], told["approvals"]
    lines.append(
        f"{_many(runs.get('begun', 0), 'run')}, {runs.get('failed', 0)} of them failed; "
        + (", ".join(f"{count} {what}" for what, count in approvals.items()) or "nobody was asked")
        + f"; from start to out in {told['hours']:g} hours (median); cost {told['cost']:.2f}, {told['tokens']:,} tokens."
    )
    lines.append("")
    for piece in told["items"]:
        back = [f"{piece[name]} {name}" for name in COUNTED.values() if piece[name]]
        back += [f"{number:g} {name}" for name, number in piece["numbers"].items()]
        title = piece["title"] or piece["text"].replace("\n", " ")[:120]
        lines.append(
            f"{piece['at'][:10]}, {piece['channel']}: {title}"
            + (f" ({', '.join(back)})" if back else "")
            + (f" {piece['link']}" if piece["link"] else "")
        )
    return "\n".join(lines).strip()


def _many(count: int, one: str) -> str:
    return f"{count:,} {one}{'' if count == 1 else 's'}"


def _moment(at: float) -> str:
    return dt.datetime.fromtimestamp(at, dt.UTC).isoformat(timespec="minutes")


def _day(at: float) -> str:
    return dt.datetime.fromtimestamp(at, dt.UTC).date().isoformat()
