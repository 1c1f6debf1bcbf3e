"""Connection: outgoing mail."""

from __future__ import annotations

import hashlib

from pydantic import Field

from ...core.pieces import Takes
from ...protocols import mail
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted


class MailSettings(Granted):
    host: str = Field(title="Mail server", min_length=1, max_length=200)
    port: int = Field(587, title="Port", ge=1, le=65535)
    starttls: bool = Field(True, title="Encrypt with STARTTLS")
    user: str = Field("", title="User", max_length=200)
    sender: str = Field(title="Sender’s address", pattern=r"^[^@\s]+@[^@\s]+$", max_length=200)
    sender_name: str = Field("", title="Sender’s name", max_length=120)
    selector: str = Field(
        "",
        title="DKIM selector",
        description="Only where letters are to be signed here: the name under which the sender’s domain shows the public key.",
        max_length=120,
    )
    largest: float | None = Field(None, title="Largest mail (MB)", description="Empty where it is not known.", gt=0, le=1000)


def mailer(web: Web, connection: Connection) -> mail.Mailer:
    """The mail client's view of a mail connection."""
    s = connection.settings
    key = connection.secrets.get("signing_key", "") if s.selector else ""
    password = connection.secrets.get("password", "")
    # Whoever changes where it leads, or the password, gets lines of their own.
    whose = hashlib.sha256(repr((s.host, s.port, s.starttls, s.user, password)).encode()).hexdigest()
    idle = web.memory("mail: lines kept open", 256).get_or(whose, mail.Idle)
    return mail.Mailer(
        s.host,
        s.port,
        s.starttls,
        s.user,
        password,
        s.sender,
        s.sender_name,
        web.reach,
        selector=s.selector,
        signing_key=key,
        idle=idle,
        by_token=s.oauth != "no",
    )


def takes(settings: MailSettings) -> Takes:
    # Files travel as text, which makes them a third larger (RFC 2045, section 6.8).
    return Takes(size=int(settings.largest * 1_000_000 * 0.73) if settings.largest else None)


def probe(web: Web, connection: Connection) -> str:
    sender = mailer(web, connection)
    if sender.signing_key:
        mail.signed(sender, b"From: a\r\n\r\n")
    return f"{mail.probe(sender)} is ready{', and letters are signed' if sender.signing_key else ''}. No mail was sent."


KIND = ConnectionKind(
    name="mail",
    title="Outgoing mail",
    about="A mail server that takes mail by SMTP.",
    settings=MailSettings,
    secrets={"password": "Password", "signing_key": "DKIM private key (PEM)"},
    leads=(
        "host",
        "port",
        "starttls",
    ),
    probe=probe,
    bearer="password",
    common=1.0,
    summary=lambda s: f"{s.sender} by {s.host}:{s.port}",
    takes=takes,
)
