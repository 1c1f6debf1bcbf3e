"""Mail: an SMTP server (aiosmtpd) that keeps what arrives, pages to read it, and letters to the office's mailbox."""

from __future__ import annotations

import datetime as dt
import time
from email import message_from_bytes, policy
from email.message import EmailMessage
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

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        mode = self.town.fault("mail")
        if mode == "busy":
            return "451 The mailbox is busy; try again later"
        if mode == "refuse":
            return "550 No such mailbox here"
        mail = message_from_bytes(envelope.content, policy=policy.default)
        assert isinstance(mail, EmailMessage)
        body = mail.get_body(("plain", "html"))
        with self.town.lock:
            self.town.mails.append(
                {
                    "id": len(self.town.mails) + 1,
                    "at": time.time(),
                    "to": ", ".join(envelope.rcpt_tos),
                    "sender": str(mail["From"]),
                    "subject": str(mail["Subject"]),
                    "message_id": str(mail["Message-ID"]),
                    "text": body.get_content() if body is not None else "",
                }
            )
            self.town.save()
        return "250 Kept"


def serve(town: State, port: int) -> Controller:
    """Start the SMTP server on 127.0.0.1; call ``stop()`` on what is given back."""
    controller = Controller(_Handler(town), hostname="127.0.0.1", port=port)
    controller.start()
    return controller


@bp.get("/")
def mails() -> str:
    letters = [_shown(m) for m in reversed(state().letters)] if _office() else None
    return render_template("mail.html", mails=[_shown(m) for m in reversed(state().mails)], letters=letters)


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


@bp.get("/<int:number>")
def letter(number: int) -> str:
    found = next((_shown(m) for m in state().mails if m["id"] == number), None)
    return render_template("letter.html", m=found or abort(404))


def _shown(mail: dict[str, Any]) -> dict[str, Any]:
    return mail | {"when": f"{dt.datetime.fromtimestamp(mail['at']):%-d %B, %H:%M}"}
