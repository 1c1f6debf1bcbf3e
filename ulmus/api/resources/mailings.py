"""Mailings and their lists: a letter before it goes, what became of each, who left, and where one may join."""

from __future__ import annotations

import secrets
import time
from typing import Any

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import func, select

from ...core import mailings as core
from ...core import slots
from ...core.pieces import Letter, Mailing, attached
from ...protocols import mail
from ...protocols.errors import OutsideError
from ...runtime import leaving, mailings, results
from ...runtime.services import audit
from ...runtime.workspace import workspace
from ...steps.connections import mail as connected
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs, room

bp = Part("mailings", __name__, url_prefix="/api", abp_tags=[Tag(name="mailings", description="Mailings and their lists")])
LARGEST = 4_000_000
MOST = 200


class PiecePath(BaseModel):
    id: int


class SheetPath(BaseModel):
    key: str


class AddressPath(BaseModel):
    address: str


class Wanted(Body):
    """A mailing as it stands, and which reader's letter is wanted: a part of the address or of another cell; empty for the first."""

    mailing: Mailing
    reader: str = Field("", max_length=300)


class Trial(Wanted):
    """The same, to be sent to whoever asks, through a mail server."""

    connection: str = Field(max_length=60)


class LettersQuery(Body):
    """Letters in one state only, or those whose address holds some letters."""

    state: str = Field("", max_length=20)
    find: str = Field("", max_length=300)


class LetterView(BaseModel):
    address: str
    state: str
    message: str = ""
    sent_at: float | None = None


class LettersView(BaseModel):
    """How many letters of a mailing there are by state, and the first of them."""

    counts: dict[str, int]
    letters: list[LetterView]


class ListView(BaseModel):
    """A sheet that is a list: its columns for address and state, where one may join (empty: nowhere), the connection that asks back
    by mail, the mailbox bounces come to, and the words on the page."""

    sheet: str
    name: str
    address: str
    state: str
    join: str = ""
    server: str = ""
    mailbox: str = ""
    words: str = ""
    wrong: str = ""


class ListBody(Body):
    """How a list is to be kept."""

    address: str = Field(min_length=1, max_length=120)
    state: str = Field("", max_length=120)
    open: bool = False
    server: str = Field("", max_length=60)
    mailbox: str = Field("", max_length=60)
    words: str = Field("", max_length=5000)


class LeaverView(BaseModel):
    """An address nothing of a mailing goes to: why (``left`` or ``bounced``), by which mailing, and since when."""

    address: str
    why: str
    mailing: str
    at: float


class LeaversQuery(Body):
    find: str = Field("", max_length=300)


class LeaversView(BaseModel):
    """How many there are, and the latest of them."""

    count: int
    leavers: list[LeaverView]


@bp.post("/mailings/letter", responses={200: Letter, 404: Problem, 422: Problem})
@needs("reader")
@room(LARGEST)
def letter(body: Wanted) -> Reply:
    """A mailing's letter as one of its readers gets it."""
    return send(_letter(body.mailing, body.reader))


@bp.post("/mailings/trial", responses={200: Fine, 404: Problem, 422: Problem, 502: Problem})
@needs("reviewer")
@room(LARGEST)
def trial(body: Trial) -> Reply:
    """Send a mailing's letter, as one of its readers would get it, to whoever asks for it, and to nobody else."""
    services = house().services
    made = _letter(body.mailing, body.reader)
    made = made.model_copy(update={"to": (g.user.email,), "subject": f"To try: {made.subject}", "leave": ""})
    try:
        sender = connected.mailer(services.web, services.connect(body.connection, connected.KIND.name))
        space = workspace(services)
        opened = {link: kept for link in attached(made) if (kept := space.file(link)) is not None}
        mail.send(sender, mail.compose(sender, made, secrets.token_hex(16), time.time(), opened))
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "sent themselves a letter of a mailing", body.mailing.name)
    return send(Fine())


def _letter(mailing: Mailing, wanted: str) -> Letter:
    services, wanted = house().services, wanted.strip().casefold()
    if not wanted:
        return mailing.first
    try:
        rows = workspace(services).rows(mailing.sheet)
        composer = core.Composer(mailing)
    except (OutsideError, slots.Unbalanced) as error:
        raise Refusal(str(error), 404) from None

    def found(cells: dict[str, Any]) -> bool:
        return any(wanted in str(value).casefold() for value in cells.values())

    with_address = (row for row in rows if str(row.cells.get(mailing.address) or "").strip())
    row = next((row for row in with_address if found(row.cells)), None)
    if row is None:
        raise Refusal(f"No reader on the list has “{wanted}” in the row.", 404)
    return composer.letter(str(row.cells[mailing.address]).strip(), row.cells, leaving.place(services, mailing.name, ""))


@bp.get("/mailings/<int:id>/letters", responses={200: LettersView})
@needs("reader")
def letters(path: PiecePath, query: LettersQuery) -> Reply:
    """What became of a mailing's letters."""
    one = tables.MailingLetter
    found = select(one.address, one.state, one.message, one.sent_at).where(one.piece_id == path.id)
    if query.state:
        found = found.where(one.state == query.state)
    if query.find.strip():
        found = found.where(func.instr(one.folded, query.find.strip().casefold()) > 0)
    with house().services.store.read() as session:
        rows = session.execute(found.order_by(one.id).limit(MOST)).all()
        counts = mailings.counts(session, path.id)
    return send(LettersView(counts=counts, letters=[LetterView(**row._mapping) for row in rows]))


class CameBackView(BaseModel):
    """What came back: from whom, when, and the words."""

    who: str
    text: str
    at: float


class PressedView(BaseModel):
    """A link of a mailing, and how many readers pressed it."""

    link: str
    readers: int


class NumbersView(BaseModel):
    """What a piece’s channel said in numbers, so many seconds after it went out."""

    after: float
    numbers: dict[str, float]


class ResultsView(BaseModel):
    """Of how many people each kind of result came (``answer``, ``press``, ``bounce``, ``left``), the links that were pressed, the
    latest answers, and the numbers its channel gave; `wrong` says why it gave none, `next_at` when it is asked next."""

    counts: dict[str, int]
    pressed: list[PressedView]
    answers: list[CameBackView]
    numbers: list[NumbersView] = []
    wrong: str = ""
    next_at: float | None = None


@bp.get("/pieces/<int:id>/results", responses={200: ResultsView})
@needs("reader")
def came_back(path: PiecePath) -> Reply:
    """What came back of a piece."""
    one = tables.Result
    with house().services.store.read() as session:
        latest = select(one).where(one.piece_id == path.id, one.what == "answer").order_by(one.at.desc()).limit(MOST)
        answers = [CameBackView(who=r.who, text=r.text, at=r.at) for r in session.scalars(latest)]
        pressed = [PressedView(link=link, readers=n) for link, n in results.presses(session, path.id)]
        looks = list(session.scalars(select(tables.NumbersLook).where(tables.NumbersLook.piece_id == path.id)))
        view = ResultsView(
            counts=results.counts(session, path.id),
            pressed=pressed,
            answers=answers,
            numbers=[NumbersView(after=after, numbers=found) for after, found in results.numbers(session, path.id)],
            wrong=next((look.wrong for look in looks if look.wrong), ""),
            next_at=min((look.due_at for look in looks if look.due_at is not None), default=None),
        )
    return send(view)


@bp.get("/lists", responses={200: Listing[ListView]})
@needs("reader")
def lists() -> Reply:
    """The sheets that are lists."""
    with house().services.store.read() as session:
        found = session.execute(
            select(tables.MailingList, tables.Sheet.name).join(tables.Sheet, tables.Sheet.key == tables.MailingList.sheet)
        ).all()
        wrong = {look.connection: look.wrong for look in session.scalars(select(tables.MailboxLook))}
    return send([_view(known, name, wrong.get(known.mailbox, "")) for known, name in found])


def _view(known: tables.MailingList, name: str, wrong: str = "") -> ListView:
    services = house().services
    return ListView(
        sheet=known.sheet,
        name=name,
        address=known.address,
        state=known.state,
        join=f"{services.public_url}/join/{known.join}" if known.join else "",
        server=known.server,
        mailbox=known.mailbox,
        words=known.words,
        wrong=wrong,
    )


@bp.put("/lists/<key>", responses={200: ListView, 404: Problem, 422: Problem})
@needs("maker")
def keep(path: SheetPath, body: ListBody) -> Reply:
    """Say how a list is kept: which columns, whether one may join by a page, and where bounces come to."""
    services = house().services
    with services.store.write() as session:
        sheet = session.get(tables.Sheet, path.key)
        if sheet is None:
            raise Refusal("There is no such sheet.", 404)
        names = {column["name"] for column in sheet.columns}
        if missing := [name for name in (body.address, body.state) if name and name not in names]:
            raise Refusal(f"The sheet has no column “{missing[0]}”.", 422)
        if body.open and not (body.server and body.state):
            raise Refusal("To let people join, choose a mail server that asks back, and a column for the state.", 422)
        known = session.get(tables.MailingList, path.key)
        if known is None:
            known = tables.MailingList(sheet=path.key)
            session.add(known)
        known.address, known.state, known.server = body.address, body.state, body.server
        known.words = body.words.strip()
        known.mailbox = body.mailbox
        known.join = (known.join or secrets.token_urlsafe(12)) if body.open else ""
        audit(session, services.clock(), g.user.email, "changed a list", sheet.name)
        session.flush()
        view = _view(known, sheet.name)
    return send(view)


@bp.get("/leavers", responses={200: LeaversView})
@needs("maker")
def leavers(query: LeaversQuery) -> Reply:
    """The addresses nothing of a mailing goes to any more, the latest first."""
    one = tables.Leaver
    found = select(one)
    if query.find.strip():
        found = found.where(func.instr(one.address, query.find.strip().casefold()) > 0)
    with house().services.store.read() as session:
        rows = session.scalars(found.order_by(one.at.desc()).limit(MOST)).all()
        count = session.scalar(select(func.count()).select_from(one)) or 0
    return send(
        LeaversView(count=count, leavers=[LeaverView(address=r.address, why=r.why, mailing=r.mailing, at=r.at) for r in rows])
    )


@bp.delete("/leavers/<address>", responses={200: Fine, 404: Problem})
@needs("owner")
def back(path: AddressPath) -> Reply:
    """Let mailings go to an address again: its reader asked for it, or it can be reached again."""
    services = house().services
    with services.store.write() as session:
        if leaving.found(session, path.address) is None:
            raise Refusal("Nobody left by this address.", 404)
        leaving.come_back(session, path.address)
        audit(session, services.clock(), g.user.email, "let mailings go to an address again", path.address)
    return send(Fine())
