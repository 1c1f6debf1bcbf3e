"""What came back of pieces, each thing once: answers, presses of links, bounces, who left, and the numbers that channels give."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

from itsdangerous import BadSignature, URLSafeSerializer
from sqlalchemy import func, select, text
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from ..core.pieces import Mailing, read
from ..core.workflow.kinds import SendSpec
from ..steps import connection_kinds, kinds
from ..steps.api import CameBack
from ..store import tables
from .links import LinkError
from .services import Services, numbered

SHORT = 16
NUMBER = "number"
MOST_ANSWERS = 500


def note(session: Session, piece_id: int, what: str, who: str, at: float, detail: str = "", words: str = "") -> bool:
    """Write down that something came back; false where it was known."""
    values = {"piece_id": piece_id, "what": what, "who": who[:320], "detail": detail[:2000], "text": words, "at": at}
    written = session.connection().execute(insert(tables.Result).values(values).on_conflict_do_nothing())
    return written.rowcount == 1


def counts(session: Session, piece_id: int) -> dict[str, int]:
    """Of how many people each kind of result came."""
    result = tables.Result
    mine = result.piece_id == piece_id, result.what != NUMBER
    found = select(result.what, func.count(func.distinct(result.who))).where(*mine).group_by(result.what)
    return {what: n for what, n in session.execute(found)}  # noqa: C416


def numbers(session: Session, piece_id: int) -> list[tuple[float, dict[str, float]]]:
    """What its channel said of a piece: so many seconds after it went out, which numbers; in the order of time."""
    result = tables.Result
    found = session.scalars(select(result).where(result.piece_id == piece_id, result.what == NUMBER))
    out: dict[float, dict[str, float]] = {}
    for one in found:
        out.setdefault(float(one.detail), {})[one.who] = float(one.text)
    return sorted(out.items())


def note_numbers(session: Session, piece_id: int, after: float, found: Mapping[str, float], at: float) -> None:
    """Write down what its channel said of a piece so many seconds after it went out."""
    for name, number in found.items():
        note(session, piece_id, NUMBER, name, at, f"{after:.0f}", f"{number:.15g}")


def piece_of(session: Session, name: str) -> tables.Piece | None:
    """The piece known by its key, by the Message-ID it went out under, or by its link (the last one there)."""
    piece, name = tables.Piece, name.strip()
    key = name.strip("<> ").partition("@")[0]
    found = session.scalar(select(piece).where(piece.key == key))
    if found is None and name:
        # As the index has it, so that it is used.
        linked = text("json_extract(receipt, '$.link') = :link").bindparams(link=name)
        found = session.scalar(select(piece).where(linked, piece.state == "sent").order_by(piece.id.desc()).limit(1))
    return found


def went_at(session: Session, name: str) -> float | None:
    """When a piece went out (see `piece_of`); ``None`` where it is not known, or did not."""
    piece = piece_of(session, name)
    return piece.sent_at if piece is not None else None


def of_piece(services: Services, name: str) -> CameBack:
    """What came back of a piece (see `piece_of`), the answers oldest first; its channel is asked for its numbers now. Nothing where
    there is no such piece. Raises `OutsideError` where the channel does not tell."""
    result = tables.Result
    with services.store.read() as session:
        piece = piece_of(session, name)
        if piece is None:
            return CameBack()
        mine = result.piece_id == piece.id, result.what == "answer"
        answers = session.scalars(select(result).where(*mine).order_by(result.at).limit(MOST_ANSWERS))
        found = CameBack(counts(session, piece.id), [{"who": one.who, "text": one.text} for one in answers])
    told = ask_channel(services, piece)
    if told:
        with services.store.write() as session:
            now = services.clock()
            note_numbers(session, piece.id, now - (piece.sent_at or now), told, now)
    return replace(found, numbers=told)


def ask_channel(services: Services, piece: tables.Piece) -> dict[str, float]:
    """What its channel says of a piece now; nothing where it is not asked, or the piece has no link. Raises `OutsideError`."""
    link = str((piece.receipt or {}).get("link") or "")
    with services.store.read() as session:
        record = session.get(tables.Connection, piece.connection)
    kind = connection_kinds().get(record.kind) if record is not None else None
    if record is None or kind is None or kind.numbers is None or not link or not numbered(record.settings).paths:
        return {}
    return dict(kind.numbers(services.web, services.connect(piece.connection, record.kind), link))


@dataclass(frozen=True)
class Came:
    """What a piece of a run came to: to how many people it went, and how many of those answered, and pressed a link."""

    run: int
    address: str
    readers: int
    answered: int
    pressed: int


def came_of(session: Session, runs: Collection[int]) -> list[Came]:
    """What the letters and mailings of some runs came to, as far as they went out."""
    piece, letter, result = tables.Piece, tables.MailingLetter, tables.Result
    mailed = (
        select(func.count())
        .where(letter.piece_id == piece.id, letter.state.in_(("sent", "bounced")))
        .correlate(piece)
        .scalar_subquery()
    )

    def people(what: str) -> Any:
        mine = result.piece_id == piece.id, result.what == what
        return select(func.count(func.distinct(result.who))).where(*mine).correlate(piece).scalar_subquery()

    letters = [kind.name for kind in kinds().values() if isinstance(kind, SendSpec) and kind.form in ("letter", "mailing")]
    found = select(piece.run_id, piece.address, mailed, people("answer"), people("press")).where(
        piece.run_id.in_(runs), piece.kind.in_(letters), piece.sent_at.is_not(None)
    )
    return [Came(run, address, max(1, n), answered, pressed) for run, address, n, answered, pressed in session.execute(found)]


def presses(session: Session, piece_id: int) -> list[tuple[str, int]]:
    """How many readers pressed each link, the most pressed first."""
    result = tables.Result
    mine = result.piece_id == piece_id, result.what == "press"
    found = select(result.detail, func.count()).where(*mine).group_by(result.detail).order_by(func.count().desc())
    return [(link, n) for link, n in session.execute(found)]


def place(services: Services, piece_id: int, link: int, letter: str) -> str:
    """The address that leads a reader to a link of a mailing, and counts that."""
    return f"{services.public_url}/to/{_serializer(services.sealer.key).dumps([piece_id, link, letter[:SHORT]])}"


def press(services: Services, token: str, counted: bool = True) -> str:
    """Where an address leads; where it is `counted`, it is written down that it was pressed. Raises `LinkError`."""
    try:
        piece_id, number, letter = _serializer(services.sealer.key).loads(token)
    except (BadSignature, ValueError, TypeError):
        raise LinkError("This address is not complete. Open it from the letter again.") from None
    with services.store.write() as session:
        piece = session.get(tables.Piece, piece_id)
        mailing = read("mailing", piece.content) if piece is not None else None
        if not isinstance(mailing, Mailing) or not 0 <= number < len(mailing.links):
            raise LinkError("This letter is not known here any more.")
        one = tables.MailingLetter
        # A run that was taken up again has the letter under another number by now.
        found = session.execute(select(one.piece_id, one.folded).where(one.key.between(letter, f"{letter}g"))).first()
        if found is not None and counted:
            note(session, found.piece_id, "press", found.folded, services.clock(), mailing.links[number])
        link: str = mailing.links[number]
    return link


def _serializer(key: bytes) -> URLSafeSerializer:
    return URLSafeSerializer(key, salt="press")
