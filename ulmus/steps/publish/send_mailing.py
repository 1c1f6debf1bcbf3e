"""Publish: a mailing, which is a letter to each reader of a list."""

from __future__ import annotations

import hashlib
import html
import re
from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import BaseModel, Field

from ...core import mailings, pieces, slots
from ...core.pieces import LeftOut, Mailing, SetAsidePart
from ...protocols import letters, mail
from ...protocols.errors import Misconfigured, NothingToDo, OutsideError
from ..api import Context, Mails, Outgoing, Reader, Row, Workspace, setting
from ..connections.mail import mailer
from ..shared.letters import Mailed, attachments
from ..shared.pieces import shown

_HREF, _LINK = re.compile(r'href="(https?://[^"]*)"'), re.compile(r"https?://[^\s<>()]*[^\s<>().,;:!?'\"]")
SOME = 5
"""So many of those left out are named."""
_PLAIN = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]{1,64}@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+")


class MailingSettings(Mailed):
    server: str = setting("Through", control="connection", needs="mail")
    sheet: str = setting("List", "A sheet with a row for each reader.", control="sheet", min_length=1, max_length=60)
    address: str = setting(
        "Address",
        "Its column with the mail address.",
        control="column",
        needs="sheet",
        takes="email|e-mail|mail|address",
        min_length=1,
    )
    state: str = setting(
        "State",
        "Its column where leaving and bounces are written. May be empty.",
        control="column",
        needs="sheet",
        takes="state|status",
        default="",
    )
    subject: str = setting(
        "Subject",
        control="readerline",
        needs="sheet",
        takes="subject@draft|subject|title@draft|title",
        min_length=1,
        max_length=500,
    )
    text: str = setting(
        "Text",
        "The same for all but where it says <<reader.Name>>: a column of the list.",
        control="readertext",
        needs="sheet",
        takes="text@draft|text",
        min_length=1,
        max_length=200_000,
    )
    keep: str = setting(
        "Only readers",
        "A condition on each row of the list, such as Town is Lyd. Empty keeps all.",
        control="filter",
        default="",
        max_length=2000,
        more=True,
    )
    off: str = setting(
        "Left out where the state is",
        "Words, parted by commas.",
        control="text",
        default="left, bounced, asked",
        max_length=300,
        when="state",
        more=True,
    )
    name: str = setting(
        "The mailing’s name",
        "What its readers know it by. Empty takes the list’s.",
        control="text",
        default="",
        max_length=120,
        more=True,
    )
    pace: int | None = setting(
        "At most a minute",
        "Letters. Empty sends as fast as the server takes them.",
        control="number",
        default=None,
        ge=1,
        le=100_000,
        more=True,
    )
    presses: bool = setting(
        "Count presses of its links",
        "By addresses of this house that lead on to each link; the letter says so.",
        control="switch",
        default=False,
        more=True,
    )


class MailingOutput(BaseModel):
    key: str = Field("", description="What it is known by, to see later what came back.")
    mailing: str = Field("", description="Its name.")
    subject: str = Field("", description="Its subject, for the first reader.")
    text: str = Field("", description="Its text, for the first reader.")
    readers: int = Field(0, description="How many it was meant for.")
    sent: int = Field(0, description="How many letters went out.")
    left_out: int = Field(0, description="How many on the list got none, and were not meant to.")
    refused: int = Field(0, description="How many addresses the server would not take.")


def piece(settings: MailingSettings, context: Context) -> Outgoing:
    """The mailing as it will go out, with its readers. Raises `OutsideError` where it could not."""
    sender = mailer(context.web, context.connect(settings.server, "mail"))
    rows = context.workspace.rows(settings.sheet)
    name = " ".join(settings.name.split()) or context.workspace.sheet_name(settings.sheet)
    columns = mailings.columns_read([settings.subject, settings.text])
    readers, left_out = _readers(rows, columns, settings, context.workspace)
    if not readers:
        why = "; ".join(f"{left.count:,} who {left.why}" for left in left_out) or "it is empty"
        raise NothingToDo(f"Nobody on the list gets this: {why}.")
    aside = mailings.set_aside(_word(settings, context.values))
    subject = aside.first(settings.subject, context.values)
    text = aside.first(settings.text, context.values).strip()
    if not text or not subject.strip():
        raise NothingToDo(f"The mailing has no {'text' if subject.strip() else 'subject'}.")
    text += letters.way_out(name, mailings.way_out(aside), settings.written, settings.presses)
    page = "" if settings.written == "plain" else letters.page(text, subject, settings.written)
    links: list[str] = []
    if settings.presses:
        text, page = _counted(text, page, links, aside)
    named = attachments(settings.files, context)
    reply_to = mail.addresses(settings.reply_to)
    mailing = Mailing(
        name=name,
        sender=mail.named(sender),
        reply_to=reply_to[0] if reply_to else "",
        subject=subject,
        text=letters.in_plain(page) if page else text,
        html=page,
        files=(*named, *shown(letters.pictures(page), context)),
        word=aside.word,
        marks=tuple(SetAsidePart(mark=mark, given=given) for mark, given in zip(aside.marks, aside.given, strict=True)),
        sheet=settings.sheet,
        address=settings.address,
        state=settings.state,
        readers=len(readers),
        left_out=left_out,
        pace=settings.pace,
        presses=settings.presses,
        links=tuple(links),
    )
    try:
        composer = mailings.Composer(mailing)
    except slots.Unbalanced as error:
        raise Misconfigured(f"{error} Put it and its <<end>> on lines of their own.") from None
    first = readers[0]
    letter = composer.letter(first.address, first.fields, context.workspace.leave(name, ""))
    return Outgoing(settings.server, mailing.model_copy(update={"first": letter}).model_dump(mode="json"), readers)


def _counted(text: str, page: str, links: list[str], aside: slots.SetAside) -> tuple[str, str]:
    """A text or a page with a word in the place of each link that is the same for all; `links` takes up those links."""

    def word(link: str) -> str:
        link = html.unescape(link) if page else link
        if aside.word in link:
            return ""
        if link not in links:
            links.append(link)
        return mailings.way_to(aside, links.index(link))

    if page:
        return text, _HREF.sub(lambda found: f'href="{word(found.group(1)) or found.group(1)}"', page)
    return _LINK.sub(lambda found: word(found.group()) or found.group(), text), page


def _readers(
    rows: Iterable[Row], columns: frozenset[str], settings: MailingSettings, workspace: Workspace
) -> tuple[tuple[Reader, ...], tuple[LeftOut, ...]]:
    """Who gets a letter, and who of the list does not."""
    off = frozenset(word.strip().casefold() for word in settings.off.split(",") if word.strip()) if settings.state else frozenset()
    out: dict[str, list[str]] = {}
    found: dict[str, Reader] = {}

    def leave_out(why: str, address: str) -> None:
        out.setdefault(why, []).append(address)

    for row in rows:
        written = str(row.cells.get(settings.address) or "").strip()
        state = str(row.cells.get(settings.state) or "").strip() if settings.state else ""
        if not written and not any(str(value or "").strip() for value in row.cells.values()):
            continue
        address = _address(written)
        if not address:
            leave_out("have no mail address that could be one" if written else "have no mail address", written)
        elif settings.keep.strip() and not slots.fits(settings.keep, {**row.cells, "it": row.cells}):
            leave_out("do not fit the condition", address)
        elif state.casefold() in off:
            leave_out(f"are “{state.casefold()}” on the list", address)
        elif mail.bare(address).casefold() in found:
            leave_out("stand on it twice", address)
        else:
            fields = {column: row.cells[column] for column in columns if column in row.cells}
            found[mail.bare(address).casefold()] = Reader(address, fields, row.id)
    words = {"left": "left a mailing of this house", "bounced": "could not be reached at their address"}
    for address, why in workspace.gone(found).items():
        reader = found.pop(address, None)
        if reader is not None:
            leave_out(words.get(why, why), reader.address)
    counted = sorted(out.items(), key=lambda one: -len(one[1]))
    return tuple(found.values()), tuple(
        LeftOut(why=why, count=len(some), some=tuple(one for one in some[:SOME] if one)) for why, some in counted
    )


def _address(written: str) -> str:
    """A cell's mail address, with its name where it has one; empty where it is none, or several."""
    if _PLAIN.fullmatch(written):
        return written
    try:
        found = mail.addresses(written)
    except OutsideError:
        return ""
    return found[0] if len(found) == 1 else ""


def _word(settings: MailingSettings, values: Mapping[str, Any]) -> str:
    """A word that begins those for what is filled in later, and stands in no text of this mailing."""
    made = hashlib.sha256(f"{settings.subject}\0{settings.text}\0{sorted(values)}".encode()).hexdigest()
    texts = f"{settings.subject}{settings.text}{values!r}"
    at = next((at for at in range(0, 48) if f"u{made[at : at + 12]}v" not in texts), 0)
    return f"u{made[at : at + 12]}v"


def told(content: dict[str, Any], counts: Mapping[str, int]) -> dict[str, Any]:
    """The output: what the mailing was, and what became of its letters."""
    mailing = pieces.read("mailing", content)
    assert isinstance(mailing, Mailing)
    return {
        "key": "",
        "mailing": mailing.name,
        "subject": mailing.first.subject,
        "text": mailing.first.text,
        "readers": mailing.readers,
        "sent": counts.get("sent", 0) + counts.get("bounced", 0),
        "left_out": sum(left.count for left in mailing.left_out) + counts.get("left", 0),
        "refused": counts.get("refused", 0),
    }


KIND = Mails(
    name="send_mailing",
    stage="publish",
    title="Send a mailing",
    about="Sends a letter to each reader of a list, as text and HTML, with a way to leave. Whoever left gets none; nobody gets two.",
    sentence="Send “{subject}” to the readers of {sheet} through {server}",
    offer="Send a mailing to {sheet}",
    words="mail email newsletter mailing list readers subscribers send campaign broadcast audience",
    called="mailing",
    common=0.3,
    settings=MailingSettings,
    output=MailingOutput,
    form="mailing",
    piece=piece,
    told=told,
    brief="{sent} of {readers} · {subject}",
)
