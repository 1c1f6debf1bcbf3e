"""Sending mail by SMTP (RFC 5321), messages after RFC 5322."""

from __future__ import annotations

import smtplib
import socket
import ssl
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formataddr

from .errors import OutsideError


@dataclass(frozen=True)
class Mailer:
    """A mail server: host, port, whether STARTTLS is required, user and password (may be empty), sender."""

    host: str
    port: int
    starttls: bool
    user: str
    password: str
    sender: str
    sender_name: str


def message(mailer: Mailer, to: str, subject: str, text: str, html: str, message_id: str) -> EmailMessage:
    """A message with a plain and an HTML part."""
    mail = EmailMessage()
    mail["From"] = formataddr((mailer.sender_name, mailer.sender))
    mail["To"] = to
    mail["Subject"] = " ".join(subject.split())
    mail["Message-ID"] = message_id
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
    except smtplib.SMTPRecipientsRefused:
        raise OutsideError(f"The mail server does not know {mail['To']}.") from None
    except smtplib.SMTPResponseException as error:
        raise OutsideError(
            f"The mail server refused the mail ({error.smtp_code}).", retryable=400 <= error.smtp_code < 500
        ) from None
    except (OSError, smtplib.SMTPException) as error:
        raise OutsideError(f"The mail server broke off ({_why(error)}).", retryable=True, ambiguous=sending) from None


def probe(mailer: Mailer) -> str:
    """Connect, sign in and say nothing more; gives the server's name for itself. Raises `OutsideError`."""
    try:
        with _open(mailer) as smtp:
            code, _ = smtp.noop()
            if code != 250:
                raise OutsideError(f"The mail server answered oddly ({code}).")
            return mailer.host
    except smtplib.SMTPAuthenticationError:
        raise OutsideError("The mail server does not accept the user or password.") from None
    except (OSError, smtplib.SMTPException) as error:
        raise OutsideError(f"The mail server cannot be reached ({_why(error)}).", retryable=True) from None


def _open(mailer: Mailer) -> smtplib.SMTP:
    smtp = smtplib.SMTP(mailer.host, mailer.port, timeout=20)
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
    if isinstance(error, TimeoutError | socket.timeout):
        return "no answer in time"
    if isinstance(error, ConnectionRefusedError):
        return "connection refused"
    return type(error).__name__
