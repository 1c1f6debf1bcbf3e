"""Lines to mail servers (SMTP, RFC 5321): opened, kept open for the next letter, and a letter handed over on one."""

from __future__ import annotations

import contextlib
import re
import smtplib
import socket
import ssl
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from ..core.pieces.takes import in_kilobytes
from .errors import AddressRefused, BadAnswer, Misconfigured, OutsideError, TooLarge, Unreachable

Reach = Callable[[str, int], str]
"""Gives the address to connect to for a host and port. Raises `OutsideError` where it must not be reached."""
PATIENCE = 20.0
"""Seconds to wait for each answer of a mail server."""
IDLE, MOST_IDLE = 15.0, 8
"""How long a connection is kept open for the next letter (seconds), and how many of them."""


class Idle:
    """Connections to one mail server for one user that wait for the next letter. Thread-safe."""

    def __init__(self) -> None:
        self._waiting: deque[tuple[float, smtplib.SMTP]] = deque()
        self._lock = threading.Lock()

    def take(self) -> smtplib.SMTP | None:
        """The one used last, if it was used a moment ago."""
        with self._lock:
            since, smtp = self._waiting.pop() if self._waiting else (0.0, None)
        if smtp is not None and time.monotonic() - since > IDLE:
            smtp.close()
            return self.take()
        return smtp

    def give(self, smtp: smtplib.SMTP) -> None:
        """Keep one for the next; the oldest makes room."""
        with self._lock:
            self._waiting.append((time.monotonic(), smtp))
            oldest = self._waiting.popleft()[1] if len(self._waiting) > MOST_IDLE else None
        if oldest is not None:
            oldest.close()


@dataclass(frozen=True)
class Mailer:
    """A mail server: host, port, whether STARTTLS is required, user and password (may be empty; or a token, where it signs in by one), sender, how its address is
    found and checked, the key (PEM) letters are signed with under a `selector` of the sender's domain, where there is one, and the
    connections that are kept open, where they are."""

    host: str
    port: int
    starttls: bool
    user: str
    password: str = field(repr=False)
    sender: str
    sender_name: str
    reach: Reach = lambda host, port: host
    selector: str = ""
    signing_key: str = field(default="", repr=False)
    idle: Idle | None = field(default=None, compare=False)
    by_token: bool = False

    @property
    def domain(self) -> str:
        """The sender's own."""
        return self.sender.rpartition("@")[2]


@dataclass(frozen=True)
class Ready:
    """A mail as it goes over a line: whom it is for, its bytes, signed and their dots doubled (RFC 5321, section 4.5.2), how many
    bytes it has, and whether an address has letters that are not ASCII."""

    to: tuple[str, ...]
    body: bytes = field(repr=False)
    size: int
    wide: bool


Going = Callable[[], bool]
"""Asked once before a letter is on its way: whether it still may go."""


def hand_over(mailer: Mailer, mail: Ready, going: Going = lambda: True) -> bool:
    """Hand a mail over, to all it is for or to nobody; false where `going` said no. While the server looks at whom it is for,
    `going` is asked. Raises `OutsideError`; ambiguous where the line broke after the mail's end had been sent."""
    ended = False
    smtp: smtplib.SMTP | None = None
    may = _Once(going)
    try:
        smtp = _begun(mailer, mail, may)
        if not may():
            _reset(smtp)
            _back(mailer, smtp)
            smtp = None
            return False
        code, said = smtp.docmd("DATA")
        if code != 354:
            raise smtplib.SMTPDataError(code, said)
        ended = True
        smtp.send(mail.body + b".\r\n")
        _agreed(smtp.getreply())
        ended = False
        _back(mailer, smtp)
        smtp = None
    except _NotFor as error:
        if smtp is None:
            _back(mailer, error.smtp)
        raise error.refusal from None
    except smtplib.SMTPServerDisconnected as error:
        raise Unreachable(f"The mail server broke off ({_why(error)}).", retryable=True, ambiguous=ended) from None
    except smtplib.SMTPResponseException as error:
        raise OutsideError(
            f"The mail server refused the mail ({_said(error.smtp_code, error.smtp_error)}).",
            retryable=400 <= error.smtp_code < 500,
        ) from None
    except (OSError, smtplib.SMTPException) as error:
        raise Unreachable(f"The mail server broke off ({_why(error)}).", retryable=True, ambiguous=ended) from None
    finally:
        if smtp is not None:
            smtp.close()
    return True


class _Once:
    """Asks once, and remembers the answer."""

    def __init__(self, ask: Going) -> None:
        self._ask = ask
        self._said: bool | None = None

    def __call__(self) -> bool:
        if self._said is None:
            self._said = self._ask()
        return self._said


class _NotFor(Exception):
    """The server takes nothing for an address; the line is as good as before."""

    def __init__(self, smtp: smtplib.SMTP, refusal: OutsideError) -> None:
        self.smtp, self.refusal = smtp, refusal


def _back(mailer: Mailer, smtp: smtplib.SMTP) -> None:
    """Keep a line for the next letter, or end it."""
    if mailer.idle is not None:
        mailer.idle.give(smtp)
    else:
        with contextlib.suppress(OSError, smtplib.SMTPException):
            smtp.quit()
        smtp.close()


def _begun(mailer: Mailer, mail: Ready, may: Going) -> smtplib.SMTP:
    """A line on which the server has taken sender and recipients. One that was kept open may be dead by now: then nothing was sent
    on it, and a new one is opened."""
    kept = mailer.idle.take() if mailer.idle is not None else None
    for smtp in [*([kept] if kept is not None else []), None]:
        line = smtp if smtp is not None else _open(mailer)
        try:
            _envelope(mailer, line, mail, may)
            return line
        except _NotFor:
            raise
        except (OSError, smtplib.SMTPException) as error:
            line.close()
            gone = isinstance(error, OSError | smtplib.SMTPServerDisconnected) or getattr(error, "smtp_code", 0) == 421
            if smtp is None or not gone:
                raise
        except BaseException:
            line.close()
            raise
    raise AssertionError("the last is always new")


def _envelope(mailer: Mailer, line: smtplib.SMTP, mail: Ready, may: Going) -> None:
    """Say from whom and to whom; in one go where the server takes it so (RFC 2920), and `may` is asked while it looks."""
    options = _options(line, mail)
    if mail.wide:
        line.command_encoding = "utf-8"
    commands = [f"MAIL FROM:{smtplib.quoteaddr(mailer.sender)}{''.join(f' {option}' for option in options)}"]
    commands += [f"RCPT TO:{smtplib.quoteaddr(address)}" for address in mail.to]
    if line.has_extn("pipelining"):
        line.send("".join(f"{command}\r\n" for command in commands))
        may()
        replies = [line.getreply() for _ in commands]
    else:
        replies = []
        for command in commands:
            replies.append(line.docmd(command))
            if replies[-1][0] not in (250, 251):
                break
    _agreed(replies[0])
    for address, (code, said) in zip(mail.to, replies[1:], strict=False):
        if code not in (250, 251):
            _reset(line)
            raise _NotFor(line, recipient_refused(address, code, said))


def _reset(line: smtplib.SMTP) -> None:
    """Forget the letter that was begun. Where the server has hung up by now, the next letter finds that out."""
    with contextlib.suppress(OSError, smtplib.SMTPException):
        line.rset()


def _agreed(answer: tuple[int, bytes]) -> None:
    if answer[0] != 250:
        raise smtplib.SMTPResponseException(answer[0], answer[1])


def _options(smtp: smtplib.SMTP, mail: Ready) -> list[str]:
    """What the server is told of a mail beforehand. Raises `OutsideError` where it takes none like it."""
    smtp.ehlo_or_helo_if_needed()
    if mail.wide and not smtp.has_extn("smtputf8"):
        raise Misconfigured("The mail server takes only addresses of plain letters (no SMTPUTF8).")
    size = str(smtp.esmtp_features.get("size") or "")
    if size.isdigit() and 0 < int(size) < mail.size:
        raise TooLarge(f"The mail server takes mails of at most {in_kilobytes(int(size))}; this one has {in_kilobytes(mail.size)}.")
    return ([f"SIZE={mail.size}"] if smtp.has_extn("size") else []) + (["SMTPUTF8"] if mail.wide else [])


def recipient_refused(to: str, code: int, said: bytes | str) -> OutsideError:
    """Why a recipient was refused (RFC 5321, section 4.2.3; enhanced codes after RFC 3463): for now, because this server does
    not send on for this sender, or because there is no such mailbox."""
    told = _said(code, said)
    if 400 <= code < 500:
        return AddressRefused(f"The mail server does not take mail to {to} at the moment ({told}).", retryable=True)
    if re.search(r"\brelay|\b5\.7\.|not permitted|authenticat", told, re.IGNORECASE):
        return OutsideError(
            f"The mail server does not send on to {to} for this sender ({told}). Check its user and password, and the sender’s address."
        )
    return AddressRefused(f"The mail server does not know {to} ({told}).")


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
        sock = socket.create_connection((self._address, port), timeout)
        # The end of a letter is a small write of its own: it shall not wait for the server to acknowledge the rest.
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        return sock


def _open(mailer: Mailer) -> smtplib.SMTP:
    smtp = _At(mailer)
    try:
        if mailer.starttls:
            smtp.starttls(context=ssl.create_default_context())
        if mailer.by_token:
            _sign_in(smtp, mailer)
        elif mailer.user:
            smtp.login(mailer.user, mailer.password)
    except BaseException:
        smtp.close()
        raise
    return smtp


def _sign_in(smtp: smtplib.SMTP, mailer: Mailer) -> None:
    """Sign in by a bearer token (OAUTHBEARER, RFC 7628)."""
    smtp.ehlo_or_helo_if_needed()
    if "OAUTHBEARER" not in str(smtp.esmtp_features.get("auth") or "").upper().split():
        raise Misconfigured("The mail server does not let one sign in by a token (OAUTHBEARER, RFC 7628).")
    told = f"n,a={mailer.user},\x01host={mailer.host}\x01port={mailer.port}\x01auth=Bearer {mailer.password}\x01\x01"
    # A server that refuses says why in a challenge, which is answered with a single byte (section 3.2.3).
    smtp.auth("OAUTHBEARER", lambda challenge=None: told if challenge is None else "\x01")


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
