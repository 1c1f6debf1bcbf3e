"""Pieces as screens show them: in proofs as they would go out, in runs as they are in the outbox."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.pieces import Brief, FormName, in_brief, read, refusals
from ..core.workflow import Line, World
from ..core.workflow.kinds import SendSpec
from ..core.workflow.world import Known
from ..runtime import mailings
from ..steps import kinds
from ..store import tables
from .models import CellView, PieceView

GONE = Known("", "")


def piece_view(form: FormName, content: Mapping[str, Any], connection: str, world: World) -> PieceView | None:
    """A piece in full on its channel; ``None`` where what is kept is no such piece."""
    try:
        piece = read(form, content)
    except ValidationError:
        return None
    channel = world.connections.get(connection, GONE)
    return PieceView(
        piece=piece,
        brief=in_brief(piece, channel.takes),
        channel=channel.name,
        connection=connection,
        takes=channel.takes,
        counted=channel.takes.counting.words,
        refused=refusals(piece, channel.takes, channel.name),
    )


def proof_piece(line: Line, proof: tables.Proof, world: World) -> PieceView | None:
    """What a line would send, where its proof says so. Proofs of earlier versions hold the piece in what they gave."""
    kind = kinds().get(line.kind)
    if not isinstance(kind, SendSpec) or not proof.ok or proof.detail.get("would") != "send":
        return None
    return piece_view(kind.form, proof.detail.get("piece") or proof.output, str(proof.detail.get("connection", "")), world)


def run_piece(session: Session, run: int, address: str, world: World) -> PieceView | None:
    """The piece a line of a run put into the outbox, at its address."""
    mine = tables.Piece.run_id == run, tables.Piece.address == address
    piece = session.scalar(select(tables.Piece).where(*mine).order_by(tables.Piece.id.desc()).limit(1))
    view = _kept(piece, world)
    if view is not None and piece is not None and view.piece.form == "mailing":
        view.letters = mailings.counts(session, piece.id)
    return view


def _kept(piece: tables.Piece | None, world: World) -> PieceView | None:
    kind = kinds().get(piece.kind) if piece is not None else None
    if piece is None or not isinstance(kind, SendSpec):
        return None
    view = piece_view(kind.form, piece.content, piece.connection, world)
    if view is not None:
        view.at = piece.goes_at
        view.id, view.state, view.link = piece.id, piece.state, str((piece.receipt or {}).get("link") or "")
    return view


def kept_brief(piece: tables.Piece, world: World) -> Brief | None:
    """A piece of the outbox in brief."""
    view = _kept(piece, world)
    return view.brief if view is not None else None


def with_pieces(session: Session, run: int, cells: Iterable[CellView], world: World) -> None:
    """Put the pieces of a run into its cells, in brief; of a line inside a block the latest."""
    latest: dict[str, tables.Piece] = {}
    for kept in session.scalars(
        select(tables.Piece).where(tables.Piece.run_id == run, tables.Piece.address.is_not(None)).order_by(tables.Piece.id)
    ):
        latest[flow.Address.parse(kept.address).step] = kept
    for cell in cells:
        piece = latest.get(cell.step)
        if piece is not None and cell.state == "running" and piece.state in ("queued", "held"):
            if piece.state == "held":
                cell.state, cell.waits, cell.message = "waiting", "held", piece.message
            elif piece.goes_at is not None and piece.goes_at > piece.queued_at:
                cell.state, cell.waits, cell.until = "waiting", "outbox", piece.goes_at
        view = _kept(piece, world)
        if view is not None and cell.count < 2:
            cell.piece = view.brief
            if view.brief.text:
                cell.brief = view.brief.text
