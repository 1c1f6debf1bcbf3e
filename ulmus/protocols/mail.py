"""Sending mail by SMTP (RFC 5321), messages after RFC 5322."""

from __future__ import annotations

import re
import smtplib
import socket
import ssl
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime, formataddr

from .errors import BadAnswer, Misconfigured, OutsideError, Unreachable

Reach = Callable[[str, int], str]
"""Gives the address to connect to for a host and port. Raises `OutsideError` where it must not be reached."""

PATIENCE = 20.0
"""Seconds to wait for each answer of a mail server."""


@dataclass(frozen=True)
class Mailer:
    """A mail server: host, port, whether STARTTLS is required, user and password (may be empty), sender, and how its address is
    found and checked."""

    host: str
    port: int
    starttls: bool
    user: str
    password: str
    sender: str
    sender_name: str
    reach: Reach = lambda host, port: host


def message(mailer: Mailer, to: str, subject: str, text: str, html: str, key: str, now: float) -> EmailMessage:
    """A message with a plain and an HTML part, dated `now` (seconds since the epoch). `key` makes its Message-ID one of a kind
    (RFC 5322, section 3.6.4); its right-hand side is the sender's own domain."""
    mail = EmailMessage()
    mail["From"] = formataddr((mailer.sender_name, mailer.sender))
    mail["To"] = to
    mail["Subject"] = " ".join(subject.split())
    mail["Date"] = format_datetime(datetime.fromtimestamp(now, UTC))
    mail["Message-ID"] = f"<{key}@{mailer.sender.rpartition('@')[2]}>"
    mail.set_content(text)
    mail.add_alternative(html, subtype="html")
    return mail


def send(mailer: Mailer, mail: EmailMessage) -> None:
    """Hand `mail` over. Raises `OutsideError`; ambiguous where the line broke after the text had been sent."""
    sending = False
    try:
        with _open(mailer) as smtp:
            sending = True
            smtp.send_message(mail)
            sending = False
    except smtplib.SMTPRecipientsRefused as error:
        code, said = next(iter(error.recipients.values()))
        raise _recipient_refused(str(mail["To"]), int(code), said) from None
    except smtplib.SMTPResponseException as error:
        raise OutsideError(
            f"The mail server refused the mail ({_said(error.smtp_code, error.smtp_error)}).",
            retryable=400 <= error.smtp_code < 500,
        ) from None
    except (OSError, smtplib.SMTPException) as error:
        raise Unreachable(f"The mail server broke off ({_why(error)}).", retryable=True, ambiguous=sending) from None


def _recipient_refused(to: str, code: int, said: bytes | str) -> OutsideError:
    """Why a recipient was refused (RFC 5321, section 4.2.3; enhanced codes after RFC 3463): for now, because this server does
    not send on for this sender, or because there is no such mailbox."""
    told = _said(code, said)
    if 400 <= code < 500:
        return OutsideError(f"The mail server does not take mail to {to} at the moment ({told}).", retryable=True)
    if re.search(r"\brelay|\b5\.7\.|not permitted|authenticat", told, re.IGNORECASE):
        return OutsideError(
            f"The mail server does not send on to {to} for this sender ({told}). Check its user and password, and the sender’s address."
        )
    return Misconfigured(f"The mail server does not know {to} ({told}).")


def _said(code: int, said: bytes | str) -> str:
    words = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
    return f"{code} {' '.join(words.split())[:200]}".strip()


def probe(mailer: Mailer) -> str:
    """Connect, sign in and say nothing more; gives the server's name for itself. Raises `OutsideError`."""
    try:
        with _open(mailer) as smtp:
            code, _ = smtp.noop()
            if code != 250:
                raise BadAnswer(f"The mail server answered oddly ({code}).")
            return mailer.host
    except smtplib.SMTPAuthenticationError:
        raise Misconfigured("The mail server does not accept the user or password.") from None
    except (OSError, smtplib.SMTPException) as error:
        raise Unreachable(f"The mail server cannot be reached ({_why(error)}).", retryable=True) from None


class _At(smtplib.SMTP):
    """Connects to an address that was checked; the certificate is that of the host."""

    def __init__(self, mailer: Mailer) -> None:
        self._address = mailer.reach(mailer.host, mailer.port)
        super().__init__(mailer.host, mailer.port, timeout=PATIENCE)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return socket.create_connection((self._address, port), timeout)


def _open(mailer: Mailer) -> smtplib.SMTP:
    smtp = _At(mailer)
    try:
        if mailer.starttls:
            smtp.starttls(context=ssl.create_default_context())
        if mailer.user:
            smtp.login(mailer.user, mailer.password)
    except BaseException:
        smtp.close()
        raise
    return smtp


def _why(error: Exception) -> str:
    if isinstance(error, ssl.SSLCertVerificationError):
        return "its certificate is not valid: it may be self-signed, or for another name"
    if isinstance(error, ssl.SSLError):
        return "it does not speak TLS on this port"
    if isinstance(error, smtplib.SMTPNotSupportedError):
        return "it does not offer STARTTLS on this port"
    if isinstance(error, TimeoutError | socket.timeout):
        return "no answer in time"
    if isinstance(error, ConnectionRefusedError):
        return "connection refused"
    return type(error).__name__
