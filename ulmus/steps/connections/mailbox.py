"""Connection: mailbox."""

from __future__ import annotations

from pydantic import Field

from ...protocols import mailbox
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted


class MailboxSettings(Granted):
    host: str = Field(title="Mail server", min_length=1, max_length=200)
    port: int = Field(993, title="Port", ge=1, le=65535)
    tls: bool = Field(True, title="Encrypted from the start (TLS)")
    user: str = Field(title="User", min_length=1, max_length=200)
    checks: str = Field(
        "",
        title="Server that checks senders",
        description="Its name in “Authentication-Results” (SPF, DKIM). Then an answer counts only where it vouches for the sender. "
        "Empty: nobody is asked.",
        max_length=200,
    )
    plus: bool = Field(
        False,
        title="Takes addresses with a plus",
        description="Mail to name+anything@… comes into it. Then an answer is known by its address too, where a mail program drops the thread.",
    )


def reader(web: Web, connection: Connection) -> mailbox.Mailbox:
    """The mailbox reader's view of a mailbox connection."""
    s = connection.settings
    return mailbox.Mailbox(s.host, s.port, s.tls, s.user, connection.secrets.get("password", ""), web.reach, s.oauth != "no")


def answers_to(connection: Connection, sign: str) -> str:
    """The address answers go to that come into this mailbox, with a sign in it where it takes such (RFC 5233); nothing where its user
    is no address."""
    name, at, domain = connection.settings.user.partition("@")
    if not at:
        return ""
    return f"{name}+{sign}@{domain}" if connection.settings.plus else connection.settings.user


def probe(web: Web, connection: Connection) -> str:
    return mailbox.probe(reader(web, connection))


KIND = ConnectionKind(
    name="mailbox",
    title="Mailbox",
    about="A mailbox that can be read by IMAP.",
    settings=MailboxSettings,
    secrets={"password": "Password"},
    leads=(
        "host",
        "port",
        "tls",
    ),
    probe=probe,
    bearer="password",
    summary=lambda s: f"{s.host}:{s.port}",
)
