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


def reader(web: Web, connection: Connection) -> mailbox.Mailbox:
    """The mailbox reader's view of a mailbox connection."""
    s = connection.settings
    return mailbox.Mailbox(s.host, s.port, s.tls, s.user, connection.secrets.get("password", ""), web.reach, s.oauth != "no")


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
