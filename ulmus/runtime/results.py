"""What came back of pieces, each thing once: answers, presses of links, bounces, and who left."""

from __future__ import annotations

from itsdangerous import BadSignature, URLSafeSerializer
from sqlalchemy import func, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from ..core.pieces import Mailing, read
from ..store import tables
from .links import LinkError
from .services import Services

SHORT = 16
MOST_ANSWERS = 500


def note(session: Session, piece_id: int, what: str, who: str, at: float, detail: str = "", text: str = "") -> bool:
    """Write down that something came back; false where it was known."""
    values = {"piece_id": piece_id, "what": what, "who": who[:320], "detail": detail[:2000], "text": text, "at": at}
    written = session.connection().execute(insert(tables.Result).values(values).on_conflict_do_nothing())
    return written.rowcount == 1


def counts(session: Session, piece_id: int) -> dict[str, int]:
    """Of how many people each kind of result came."""
    result = tables.Result
    found = select(result.what, func.count(func.distinct(result.who))).where(result.piece_id == piece_id).group_by(result.what)
    return {what: n for what, n in session.execute(found)}  # noqa: C416


def of_piece(services: Services, name: str) -> tuple[dict[str, int], list[dict[str, str]]]:
    """What came back of a piece known by its key, or by the Message-ID it went out under: of how many people each kind of result, and
    the answers, oldest first; nothing where there is no such piece."""
    key, result = name.strip("<> ").partition("@")[0], tables.Result
    with services.store.read() as session:
        piece_id = session.scalar(select(tables.Piece.id).where(tables.Piece.key == key))
        if piece_id is None:
            return {}, []
        mine = result.piece_id == piece_id, result.what == "answer"
        answers = session.scalars(select(result).where(*mine).order_by(result.at).limit(MOST_ANSWERS))
        return counts(session, piece_id), [{"who": one.who, "text": one.text} for one in answers]


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
