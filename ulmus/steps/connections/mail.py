"""Connection: outgoing mail."""

from __future__ import annotations

from pydantic import Field

from ...protocols import mail
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Limited


class MailSettings(Limited):
    host: str = Field(title="Mail server", min_length=1, max_length=200)
    port: int = Field(587, title="Port", ge=1, le=65535)
    starttls: bool = Field(True, title="Encrypt with STARTTLS")
    user: str = Field("", title="User", max_length=200)
    sender: str = Field(title="Sender’s address", pattern=r"^[^@\s]+@[^@\s]+$", max_length=200)
    sender_name: str = Field("", title="Sender’s name", max_length=120)


def mailer(web: Web, connection: Connection) -> mail.Mailer:
    """The mail client's view of a mail connection."""
    s = connection.settings
    return mail.Mailer(
        s.host, s.port, s.starttls, s.user, connection.secrets.get("password", ""), s.sender, s.sender_name, web.reach
    )


def probe(web: Web, connection: Connection) -> str:
    return f"{mail.probe(mailer(web, connection))} is ready. No mail was sent."


KIND = ConnectionKind(
    name="mail",
    title="Outgoing mail",
    about="A mail server that takes mail by SMTP.",
    settings=MailSettings,
    secrets={"password": "Password"},
    leads=(
        "host",
        "port",
        "starttls",
    ),
    probe=probe,
    common=1.0,
    summary=lambda s: f"{s.host}:{s.port}",
)
