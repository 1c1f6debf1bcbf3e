"""Mail: an SMTP server (aiosmtpd) that keeps what arrives, pages to read it, and letters to the office's mailbox."""

from __future__ import annotations

import asyncio
import base64
import datetime as dt
import time
from email import message_from_bytes, policy
from email.message import EmailMessage
from email.utils import parsedate_to_datetime
from typing import Any

from aiosmtpd.controller import Controller
from flask import Blueprint, abort, current_app, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from .imap import MailServer, told
from .sites import state
from .state import State

bp = Blueprint("mail", __name__, url_prefix="/mail")


class _Handler:
    def __init__(self, town: State) -> None:
        self.town = town

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: list[str]) -> str:
        # Nobody has lived there for a while; and there is a mailbox that is full for a moment.
        if address.lower().startswith("gone."):
            return "550 5.1.1 No such mailbox here"
        if address.lower().startswith("full.") and self.town.times_tried(address) == 1:
            return "452 4.2.2 The mailbox is full"
        envelope.rcpt_tos.append(address)
        envelope.rcpt_options.extend(options)
        return "250 Known"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        mode = self.town.fault("mail")
        if mode == "busy":
            return "451 The mailbox is busy; try again later"
        if mode == "refuse":
            return "550 No such mailbox here"
        await asyncio.sleep(self.town.takes_time / 2)
        mail = message_from_bytes(envelope.content, policy=policy.default)
        assert isinstance(mail, EmailMessage)
        plain, page = mail.get_body(("plain",)), mail.get_body(("html",))
        shown = plain if plain is not None else page
        with self.town.lock:
            self.town.mails.append(
                {
                    "id": len(self.town.mails) + 1,
                    "at": _dated(mail),
                    "came": time.time(),
                    "to": ", ".join(envelope.rcpt_tos),
                    "sender": str(mail["From"]),
                    "cc": str(mail["Cc"] or ""),
                    "subject": str(mail["Subject"]),
                    "message_id": str(mail["Message-ID"]),
                    "in_reply_to": str(mail["In-Reply-To"] or ""),
                    "references": str(mail["References"] or ""),
                    "reply_to": str(mail["Reply-To"] or ""),
                    "leave": str(mail["List-Unsubscribe"] or ""),
                    "list": str(mail["List-Id"] or ""),
                    "signed": str(mail["DKIM-Signature"] or ""),
                    "text": shown.get_content() if shown is not None else "",
                    "html": _with_pictures(mail, page),
                    "files": [
                        {
                            "name": part.get_filename() or "",
                            "type": part.get_content_type(),
                            "size": len(part.get_payload(decode=True) or b""),
                        }
                        for part in mail.iter_attachments()
                    ],
                }
            )
            self.town.save()
        await asyncio.sleep(self.town.takes_time / 2)
        if mode == "lost":
            server.transport.abort()
            return "250 nobody hears this"
        return "250 Kept"


def _with_pictures(mail: EmailMessage, page: EmailMessage | None) -> str:
    """The HTML part with the pictures in it put where they are shown."""
    if page is None:
        return ""
    html = str(page.get_content())
    for part in mail.walk():
        cid = str(part["Content-ID"] or "").strip("<>")
        if cid and part.get_content_maintype() == "image":
            picture = base64.b64encode(part.get_payload(decode=True)).decode()
            html = html.replace(f"cid:{cid}", f"data:{part.get_content_type()};base64,{picture}")
    return html


def serve(town: State, port: int) -> Controller:
    """Start the SMTP server on 127.0.0.1; call ``stop()`` on what is given back."""
    controller = Controller(_Handler(town), hostname="127.0.0.1", port=port)
    controller.start()
    return controller


@bp.get("/")
def mails() -> str:
    letters = [_shown(m) for m in reversed(state().letters)] if _office() else None
    return render_template("mail.html", mails=[_shown(m) for m in sorted(state().mails, key=_when, reverse=True)], letters=letters)


def _office() -> MailServer | None:
    found: MailServer | None = current_app.extensions["letters"]
    return found


@bp.post("/write")
def write() -> Response:
    """A letter to the office, from anybody."""
    office = _office() or abort(404)
    one = told(*(request.form.get(name, "").strip()[:5000] for name in ("sender", "subject", "text")), time.time())
    with state().lock:
        state().letters.append(one)
        state().save()
    office.deliver(one)
    return redirect(url_for("mail.mails"))


@bp.post("/<int:number>/answer")
def answer(number: int) -> Response:
    """An answer to a mail, as a mail program writes it: above what it answers. It comes into the office's mailbox."""
    office = _office() or abort(404)
    found = next((m for m in state().mails if m["id"] == number), None) or abort(404)
    quoted = "\n".join(f"> {line}" for line in found["text"].splitlines())
    text = f"{request.form.get('text', '').strip()[:5000]}\n\nOn {_shown(found)['when']} {found['sender']} wrote:\n{quoted}\n"
    sender = request.form.get("sender", "").strip()[:200] or found["to"]
    one = told(sender, f"Re: {found['subject'].removeprefix('Re: ')}", text, time.time()) | {"answers": found["message_id"]}
    with state().lock:
        state().letters.append(one)
        state().save()
    office.deliver(one)
    return redirect(url_for("mail.mails"))


@bp.get("/<int:number>")
def letter(number: int) -> str:
    found = next((_shown(m) for m in state().mails if m["id"] == number), None) or abort(404)
    before = found.get("in_reply_to")
    found["answerable"] = _office() is not None
    found["follows"] = next((m for m in state().mails if m["message_id"] == before), None) if before else None
    return render_template("letter.html", m=found)


def _when(mail: dict[str, Any]) -> tuple[float, int]:
    return mail["at"], mail["id"]


def _dated(mail: EmailMessage) -> float:
    """When a mail says that it was written, as mail programs show it; now where it does not say so."""
    try:
        return min(parsedate_to_datetime(str(mail["Date"])).timestamp(), time.time())
    except ValueError:
        return time.time()


def _shown(mail: dict[str, Any]) -> dict[str, Any]:
    return mail | {"when": f"{dt.datetime.fromtimestamp(mail['at']):%-d %B, %H:%M}"}
