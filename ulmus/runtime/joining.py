"""Joining a list by its page: whoever gives an address is asked back by mail, and stands on the list once they have said yes there.

What a stranger types changes nothing: the row is written, or made good again, by the address's own owner.
"""

from __future__ import annotations

import logging
import re
import secrets
from functools import partial

from itsdangerous import BadSignature, SignatureExpired, URLSafeTimedSerializer
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.pieces import Letter
from ..protocols import letters, mail
from ..protocols.errors import OutsideError
from ..steps.connections import mail as connected
from ..store import tables
from . import leaving, lists
from .execution import guarded
from .links import LinkError
from .ports import Gate
from .services import Services

log = logging.getLogger("ulmus")
DAYS = 7
NAMES = ("name", "full name", "first name")
LONGEST_NAME = 120


def name_column(columns: list[str]) -> str:
    """The column a reader's name goes into; empty where the list has none."""
    known = {column.casefold(): column for column in columns}
    return next((known[name] for name in NAMES if name in known), "")


def opened(session: Session, token: str) -> tuple[tables.MailingList, tables.Sheet]:
    """The list one may join at an address. Raises `LinkError`."""
    known = session.scalar(select(tables.MailingList).where(tables.MailingList.join == token)) if token else None
    sheet = session.get(tables.Sheet, known.sheet) if known is not None else None
    if known is None or sheet is None:
        raise LinkError("There is no list to join at this address.")
    return known, sheet


def ask_back(services: Services, gate: Gate, token: str, address: str, name: str) -> None:
    """Send the mail that asks whether somebody at an address wants to join. Raises `LinkError`, and `OutsideError` where it is no
    address. That it cannot be sent is not told to strangers; it shows at the connection."""
    found = mail.addresses(address)
    if len(found) != 1:
        raise OutsideError("Give one mail address.")
    with services.store.read() as session:
        known, sheet = opened(session, token)
    bare, name = mail.bare(found[0]), " ".join(re.sub(r"[<>\"\\\x00-\x1f]", " ", name).split())[:LONGEST_NAME]
    link = f"{services.public_url}/join/{token}/{_serializer(services.sealer.key).dumps([known.sheet, bare, name])}"
    text = (
        f"Somebody, hopefully you, asked that this address be put on the list “{sheet.name}”.\n\n[Yes, put me on the list]({link})\n\n"
        f"If it was not you, do nothing: then nothing is sent to you. The link works for {DAYS} days."
    )
    subject = f"Please confirm: “{sheet.name}”"
    page = letters.page(text, subject, "markdown")
    letter = Letter(to=(bare,), subject=subject, text=letters.in_plain(page), html=page)
    gate.submit(f"connection:{known.server}", partial(_send, services, known.server, letter))


def _send(services: Services, server: str, letter: Letter, refused: OutsideError | None) -> OutsideError | None:
    try:
        if refused is not None:
            raise refused
        sender = connected.mailer(services.web, services.connect(server, connected.KIND.name))
        made = mail.compose(sender, letter, secrets.token_hex(16), services.clock(), {})
        guarded(lambda: mail.send(sender, made))
    except OutsideError as error:
        log.warning("a mail that asks back could not be sent: %s", error.message)
        return error
    return None


def read(key: bytes, answer: str) -> tuple[str, str, str]:
    """The sheet, the address and the name that a yes is about. Raises `LinkError`."""
    try:
        sheet, address, name = _serializer(key).loads(answer, max_age=DAYS * 86400)
    except SignatureExpired:
        raise LinkError("This link is too old. Ask to join once more.") from None
    except (BadSignature, ValueError, TypeError):
        raise LinkError("This link is not complete. Open it from the mail again.") from None
    return str(sheet), str(address), str(name)


def join(session: Session, known: tables.MailingList, sheet: tables.Sheet, address: str, name: str) -> None:
    """Put the owner of an address on a list, or back on it; again changes nothing."""
    rows = list(lists.rows_of(session, known, address))
    for row in rows:
        row.cells = {**row.cells, known.state: lists.JOINED}
    if not rows:
        column = name_column([str(one["name"]) for one in sheet.columns])
        cells = {known.address: address, known.state: lists.JOINED, **({column: name} if column and name else {})}
        last = session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet.key)) or 0
        session.add(tables.SheetRow(sheet=sheet.key, position=last + 1, cells=cells))
    leaver = leaving.found(session, address)
    if leaver is not None:
        # Their own wish; and a mail just came through to them.
        session.delete(leaver)


def _serializer(key: bytes) -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(key, salt="join")
