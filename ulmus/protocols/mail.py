"""Sending mail by SMTP (RFC 5321), messages after RFC 5322 and MIME (RFC 2045), signed by DKIM (RFC 6376) where a key is given."""

from __future__ import annotations

import base64
import contextlib
import re
import smtplib
import socket
import ssl
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email import policy
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime, parseaddr

import dkim

from ..core.pieces import Letter
from ..core.pieces.takes import in_kilobytes
from .errors import AddressRefused, BadAnswer, Misconfigured, OutsideError, TooLarge, Unreachable

Reach = Callable[[str, int], str]
"""Gives the address to connect to for a host and port. Raises `OutsideError` where it must not be reached."""

_ADDRESS = re.compile(r"[^@\s<>,;()\[\]\\]{1,64}@[^@\s<>,;()\[\]\\.]+(\.[^@\s<>,;()\[\]\\.]+)+")
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
    """A mail server: host, port, whether STARTTLS is required, user and password (may be empty), sender, how its address is
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

    @property
    def domain(self) -> str:
        """The sender's own."""
        return self.sender.rpartition("@")[2]


def addresses(text: str) -> list[str]:
    """The addresses in a text, parted by commas, semicolons or lines, each as ``name <address>`` or alone; doubles once. Raises
    `Misconfigured` where one is none (RFC 5322, section 3.4)."""
    found: dict[str, str] = {}
    for part in filter(None, (part.strip() for part in re.split(r"[;\n]", text))):
        header = policy.SMTP.header_factory("To", " ".join(part.split()))
        wrong = next((one.addr_spec for one in header.addresses if not _ADDRESS.fullmatch(one.addr_spec)), "")
        # What was not understood, or is a group, must not vanish: two addresses with nothing between them are none.
        whole = re.sub(r'"[^"]*"', "", part).count("@") == len(header.addresses) > 0
        if wrong or not whole or any(group.display_name is not None for group in header.groups):
            raise Misconfigured(f"“{(wrong if wrong.strip('<>') else part)[:80]}” is no mail address.")
        for one in header.addresses:
            found.setdefault(one.addr_spec.casefold(), str(one))
    return list(found.values())


def bare(address: str) -> str:
    """An address without its name."""
    return parseaddr(address)[1] or address


def named(mailer: Mailer) -> str:
    """The sender as readers see it."""
    return str(Address(mailer.sender_name, addr_spec=mailer.sender)) if mailer.sender_name else mailer.sender


def message_id(mailer: Mailer, key: str) -> str:
    """The Message-ID of what is sent under a key (RFC 5322, section 3.6.4); its right-hand side is the sender's own domain."""
    return f"<{key}@{mailer.domain}>"


def compose(mailer: Mailer, letter: Letter, key: str, now: float, opened: Mapping[str, tuple[str, str, bytes]]) -> EmailMessage:
    """A letter as a message with a plain part, an HTML part where it has one, and its files, dated `now` (seconds since the epoch).
    `opened` are kept files by link: (name, type, bytes); a picture the HTML shows is put inside (RFC 2387)."""
    mail = EmailMessage(policy=policy.SMTP)
    for name, value in (_heads(mailer, letter, key, now) | way_out(letter)).items():
        mail[name] = value
    mail.set_content(letter.text)
    page, inside = letter.html, {}
    for n, file in enumerate(letter.files):
        if file.inside and file.link in opened:
            inside[f"picture-{n + 1}.{key}@{mailer.domain}"] = opened[file.link]
            page = page.replace(file.link, f"cid:picture-{n + 1}.{key}@{mailer.domain}")
    if page:
        mail.add_alternative(page, subtype="html")
        shown = mail.get_body(("html",))
        assert isinstance(shown, EmailMessage)
        for cid, (name, kind, content) in inside.items():
            main, _, sub = kind.partition("/")
            shown.add_related(content, main, sub, cid=f"<{cid}>", filename=name, disposition="inline")
    for file in letter.files:
        if not file.inside and file.link in opened:
            name, kind, content = opened[file.link]
            main, _, sub = kind.partition("/")
            mail.add_attachment(content, main or "application", sub or "octet-stream", filename=name)
    return mail


def _heads(mailer: Mailer, letter: Letter, key: str, now: float) -> dict[str, str]:
    heads = {"From": named(mailer), "To": ", ".join(letter.to)}
    heads |= {"Cc": ", ".join(letter.cc)} if letter.cc else {}
    heads |= {"Reply-To": letter.reply_to} if letter.reply_to else {}
    heads |= {
        "Subject": " ".join(letter.subject.split()),
        "Date": format_datetime(datetime.fromtimestamp(now, UTC)),
        "Message-ID": message_id(mailer, key),
    }
    if letter.thread:
        heads |= {"In-Reply-To": letter.thread, "References": " ".join([*letter.thread_before, letter.thread])}
    if letter.mailing:
        slug = re.sub(r"[^a-z0-9]+", "-", letter.mailing.lower()).strip("-")[:60] or "list"
        heads["List-Id"] = f"{_plain_name(letter.mailing)} <{slug}.{mailer.domain}>"
    return heads


def way_out(letter: Letter) -> dict[str, str]:
    """The headers by which a reader leaves (RFC 2369, and RFC 8058: one press in the mail program itself, which asks for HTTPS)."""
    if not letter.leave:
        return {}
    post = {"List-Unsubscribe-Post": "List-Unsubscribe=One-Click"} if letter.leave.startswith("https:") else {}
    return {"List-Unsubscribe": f"<{letter.leave}>", **post}


class Many:
    """Makes the mails of a mailing: what is the same in all is made once. Not for several threads at a time."""

    def __init__(self, mailer: Mailer, first: Letter, opened: Mapping[str, tuple[str, str, bytes]]) -> None:
        self.mailer = mailer
        self._mail = compose(mailer, first, "first", 0.0, opened)
        page = self._mail.get_body(("html",))
        self._text, self._page = self._mail.get_body(("plain",)), page if isinstance(page, EmailMessage) else None
        related = [part for part in self._mail.walk() if part.get("Content-ID")]
        inside = [file.link for file in first.files if file.inside and file.link in opened]
        self._inside = {link: str(part["Content-ID"]).strip("<>") for link, part in zip(inside, related, strict=False)}

    def mail(self, letter: Letter, key: str, now: float) -> Ready:
        """One of them, as `compose` would make it."""
        mail, (heads, way) = self._mail, (_heads(self.mailer, letter, key, now), way_out(letter))
        for name, value in (heads | way).items():
            if name in mail:
                mail.replace_header(name, value)
            else:
                mail[name] = value
        assert isinstance(self._text, EmailMessage)
        _set(self._text, letter.text)
        if self._page is not None:
            page = letter.html
            for link, cid in self._inside.items():
                page = page.replace(link, f"cid:{cid}")
            _set(self._page, page)
        return ready(self.mailer, mail)


def _set(part: EmailMessage, text: str) -> None:
    """Put a text into a part that has one; its lines end as they do in mails, and are short whatever it holds."""
    encoded = base64.encodebytes(re.sub(r"\r?\n", "\r\n", text).encode()).decode("ascii")
    part.set_payload(encoded)
    if part.get("Content-Transfer-Encoding") != "base64":
        del part["Content-Transfer-Encoding"]
        part["Content-Transfer-Encoding"] = "base64"
        part.set_param("charset", "utf-8")


def _plain_name(name: str) -> str:
    """A list's name as a header can hold it (RFC 2919): words in ASCII, else nothing."""
    return " ".join(re.sub(r"[^A-Za-z0-9 .,'&-]+", " ", name).split())[:100]


@dataclass(frozen=True)
class Ready:
    """A mail as it goes over a line: whom it is for, its bytes, signed and their dots doubled (RFC 5321, section 4.5.2), how many
    bytes it has, and whether an address has letters that are not ASCII."""

    to: tuple[str, ...]
    body: bytes = field(repr=False)
    size: int
    wide: bool


def ready(mailer: Mailer, mail: EmailMessage) -> Ready:
    """A mail made ready to be handed over. Raises `Misconfigured` where it cannot be signed."""
    to = tuple(one.addr_spec for header in ("To", "Cc") if header in mail for one in mail[header].addresses)
    wide = not all(address.isascii() for address in [mailer.sender, *to])
    body = mail.as_bytes(policy=policy.SMTPUTF8 if wide else policy.SMTP)
    if mailer.signing_key:
        body = signed(mailer, body)
    dotted = re.sub(rb"(?m)^\.", b"..", body)
    return Ready(to, dotted if dotted.endswith(b"\r\n") else dotted + b"\r\n", len(body), wide)


def send(mailer: Mailer, mail: EmailMessage | Ready) -> None:
    """Hand `mail` over, to all it is for or to nobody. Raises `OutsideError`; ambiguous where the line broke after its end had
    been sent."""
    mail = mail if isinstance(mail, Ready) else ready(mailer, mail)
    ended = False
    smtp: smtplib.SMTP | None = None
    try:
        smtp = _begun(mailer, mail)
        for address in mail.to:
            code, said = smtp.rcpt(address)
            if code not in (250, 251):
                raise _recipient_refused(address, code, said)
        code, said = smtp.docmd("DATA")
        if code != 354:
            raise smtplib.SMTPDataError(code, said)
        smtp.send(mail.body)
        ended = True
        smtp.send(b".\r\n")
        _agreed(smtp.getreply())
        ended = False
        if mailer.idle is not None:
            mailer.idle.give(smtp)
        else:
            with contextlib.suppress(OSError, smtplib.SMTPException):
                smtp.quit()
        smtp = None
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


def _begun(mailer: Mailer, mail: Ready) -> smtplib.SMTP:
    """A line on which the server has taken the sender. One that was kept open may be dead by now: then nothing was sent on it, and
    a new one is opened."""
    kept = mailer.idle.take() if mailer.idle is not None else None
    for smtp in [*([kept] if kept is not None else []), None]:
        line = smtp if smtp is not None else _open(mailer)
        try:
            _agreed(line.mail(mailer.sender, _options(line, mail)))
            return line
        except (OSError, smtplib.SMTPException) as error:
            line.close()
            gone = isinstance(error, OSError | smtplib.SMTPServerDisconnected) or getattr(error, "smtp_code", 0) == 421
            if smtp is None or not gone:
                raise
        except BaseException:
            line.close()
            raise
    raise AssertionError("the last is always new")


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


def signed(mailer: Mailer, body: bytes) -> bytes:
    """A message with its signature (RFC 6376). Raises `Misconfigured` where the key is none."""
    try:
        header: bytes = dkim.sign(
            body, mailer.selector.encode(), mailer.domain.encode(), mailer.signing_key.encode(), include_headers=_to_sign(body)
        )
    except (dkim.DKIMException, ValueError, TypeError):
        raise Misconfigured("The DKIM key cannot be used: it must be a private RSA key in PEM form.") from None
    return header + body


SIGNED = b"from sender reply-to to cc subject date message-id in-reply-to references list-id list-unsubscribe list-unsubscribe-post".split()


def _to_sign(body: bytes) -> list[bytes]:
    """The headers of a message that its signature covers (RFC 6376, section 5.4; RFC 8058, section 4)."""
    there = {line.partition(b":")[0].strip().lower() for line in body.partition(b"\r\n\r\n")[0].split(b"\r\n") if line[:1].strip()}
    return [name for name in SIGNED if name in there]


def _recipient_refused(to: str, code: int, said: bytes | str) -> OutsideError:
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
