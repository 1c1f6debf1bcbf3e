"""Readers of mailings who left: nobody writes to them as one of a mailing any more, whatever the mailing.

Each letter of a mailing bears an address of its own under which its reader leaves, signed, and good for as long as the house's key is.
"""

from __future__ import annotations

from collections.abc import Collection

from itsdangerous import BadSignature, URLSafeSerializer
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store import tables
from . import hiding, lists, results
from .links import LinkError
from .services import Services

LONGEST = 320
TRIAL = "trial"


def place(services: Services, mailing: str, address: str) -> str:
    """Where the reader at an address leaves a mailing; without an address, of a letter that is only looked at, where nobody does."""
    if not address:
        return f"{services.public_url}/leave/{TRIAL}"
    return f"{services.public_url}/leave/{_serializer(services.sealer.key).dumps([mailing[:200], folded(address)])}"


def read(key: bytes, token: str) -> tuple[str, str]:
    """The mailing and the address a token is for. Raises `LinkError`."""
    if token == TRIAL:
        raise LinkError("This letter was made to be looked at. Nobody leaves by its link.")
    try:
        mailing, address = _serializer(key).loads(token)
        return str(mailing), str(address)
    except (BadSignature, ValueError, TypeError):
        raise LinkError("This address is not complete. Open it from the letter again.") from None


def folded(address: str) -> str:
    """An address as it is known here: however it is written, it is one reader."""
    return address.strip().casefold()[:LONGEST]


def found(session: Session, address: str) -> tables.Leaver | None:
    """Whoever left by an address, also where the address itself was removed."""
    return session.scalar(select(tables.Leaver).where(tables.Leaver.address.in_(hiding.known_as(session, folded(address)))))


def why_not(services: Services, address: str) -> str:
    """Why nothing of a mailing goes to an address, in words; empty where it may."""
    with services.store.read() as session:
        leaver = found(session, address)
    if leaver is None:
        return ""
    if leaver.why == lists.BOUNCED:
        return f"{address} could not be reached before and gets nothing that is sent to a list."
    by = f" by “{leaver.mailing}”" if leaver.mailing else ""
    return f"{address} left{by} and gets nothing that is sent to a list."


AT_ONCE = 500


def gone(services: Services, addresses: Collection[str]) -> dict[str, str]:
    """Of some addresses those that nothing of a mailing goes to, each with why: ``left`` or ``bounced``."""
    gone: dict[str, str] = {}
    with services.store.read() as session:
        names = hiding.names(session.connection())
        known = {name: address for address in map(folded, addresses) for name in names(address)}
        wanted = list(known)
        for at in range(0, len(wanted), AT_ONCE):
            some = select(tables.Leaver.address, tables.Leaver.why).where(tables.Leaver.address.in_(wanted[at : at + AT_ONCE]))
            gone.update((known[name], why) for name, why in session.execute(some))
    return gone


def leave(session: Session, address: str, mailing: str, now: float, why: str = lists.LEFT) -> None:
    """Somebody leaves, or cannot be reached; again changes nothing. The lists they stand on say so."""
    if found(session, address) is None:
        session.add(tables.Leaver(address=folded(address), mailing=mailing, why=why, at=now))
        lists.mark(session, folded(address), why)
        one = tables.MailingLetter
        last = select(one.piece_id).where(one.folded == folded(address), one.sent_at.is_not(None)).order_by(one.sent_at.desc())
        piece = session.scalar(last.limit(1)) if why == lists.LEFT else None
        if piece is not None:
            results.note(session, piece, "left", folded(address), now)


def come_back(session: Session, address: str) -> None:
    """Somebody who left by mistake may be written to again."""
    leaver = found(session, address)
    if leaver is not None:
        session.delete(leaver)
        lists.mark(session, folded(address), lists.JOINED)


def _serializer(key: bytes) -> URLSafeSerializer:
    return URLSafeSerializer(key, salt="leave")
