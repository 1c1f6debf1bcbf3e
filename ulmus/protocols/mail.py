"""Mails made: messages after RFC 5322 and MIME (RFC 2045), signed by DKIM (RFC 6376) where a key is given; handed over by `smtp`."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from datetime import UTC, datetime
from email import policy
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime, parseaddr

import dkim

from ..core.pieces import Letter
from .errors import Misconfigured
from .smtp import Going, Idle, Mailer, Ready, hand_over, probe

__all__ = [
    "Idle",
    "Mailer",
    "Many",
    "Ready",
    "addresses",
    "bare",
    "compose",
    "message_id",
    "named",
    "probe",
    "ready",
    "send",
    "signed",
]

_ADDRESS = re.compile(r"[^@\s<>,;()\[\]\\]{1,64}@[^@\s<>,;()\[\]\\.]+(\.[^@\s<>,;()\[\]\\.]+)+")


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
    return (parseaddr(address)[1] or address) if "<" in address or "(" in address else address


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


_OWN = ("To", "Subject", "Date", "Message-ID", "List-Unsubscribe")
_TEXT, _PAGE = "ULMUSTEXTULMUSTEXT", "ULMUSPAGEULMUSPAGE"
_SIMPLE = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_{|}~-]+@[A-Za-z0-9.-]+")


class Many:
    """Makes the mails of a mailing: what is the same in all, files and structure, is written once, and the readers' own heads and
    texts are put where they belong."""

    def __init__(self, mailer: Mailer, first: Letter, opened: Mapping[str, tuple[str, str, bytes]]) -> None:
        self.mailer, self.opened = mailer, opened
        mail = compose(mailer, first, "all", 0.0, opened)
        for name in _OWN:
            del mail[name]
        page = mail.get_body(("html",))
        related = [part for part in mail.walk() if part.get("Content-ID")]
        inside = [file.link for file in first.files if file.inside and file.link in opened]
        self._inside = {link: str(part["Content-ID"]).strip("<>") for link, part in zip(inside, related, strict=False)}
        _mark(mail.get_body(("plain",)), _TEXT)
        _mark(page, _PAGE)
        self._before, _, rest = mail.as_bytes(policy=policy.SMTP).partition(_TEXT.encode())
        self._between, self._marked, self._after = rest.partition(_PAGE.encode())

    def mail(self, letter: Letter, key: str, now: float) -> Ready:
        """One of them, as `compose` would make it. Raises `Misconfigured` where it cannot be signed."""
        if not all(address.isascii() for address in (self.mailer.sender, *letter.to)):
            return ready(self.mailer, compose(self.mailer, letter, key, now, self.opened))
        heads = _heads(self.mailer, letter, key, now) | way_out(letter)
        own = "".join(_folded(name, heads[name]) for name in _OWN if name in heads)
        page = letter.html
        for link, cid in self._inside.items():
            page = page.replace(link, f"cid:{cid}")
        parts = [own.encode("ascii"), self._before, _base64(letter.text), self._between]
        body = b"".join([*parts, _base64(page), self._after] if self._marked else parts)
        return _ready(self.mailer, tuple(bare(address) for address in letter.to), body, wide=False)


def _mark(part: object, word: str) -> None:
    """Put a word in the place of a part's text, which is to be written in base64 (RFC 2045, section 6.8)."""
    if isinstance(part, EmailMessage):
        part.set_payload(word)
        del part["Content-Transfer-Encoding"]
        part["Content-Transfer-Encoding"] = "base64"
        part.set_param("charset", "utf-8")


def _base64(text: str) -> bytes:
    lines = base64.encodebytes(re.sub(r"\r?\n", "\r\n", text).encode())
    return lines.rstrip(b"\n").replace(b"\n", b"\r\n")


def _folded(name: str, value: str) -> str:
    """A header as it stands in a mail; what is more than plain words and addresses is encoded by the library."""
    # An address to leave at may be longer than a line likes to be; it is not broken in two for that.
    if name in ("Date", "Message-ID", "List-Unsubscribe") or (name == "To" and _SIMPLE.fullmatch(value)):
        return f"{name}: {value}\r\n"
    return str(policy.SMTP.header_factory(name, value).fold(policy=policy.SMTP))


def _plain_name(name: str) -> str:
    """A list's name as a header can hold it (RFC 2919): words in ASCII, else nothing."""
    return " ".join(re.sub(r"[^A-Za-z0-9 .,'&-]+", " ", name).split())[:100]


def ready(mailer: Mailer, mail: EmailMessage) -> Ready:
    """A mail made ready to be handed over. Raises `Misconfigured` where it cannot be signed."""
    to = tuple(one.addr_spec for header in ("To", "Cc") if header in mail for one in mail[header].addresses)
    wide = not all(address.isascii() for address in [mailer.sender, *to])
    return _ready(mailer, to, mail.as_bytes(policy=policy.SMTPUTF8 if wide else policy.SMTP), wide)


def _ready(mailer: Mailer, to: tuple[str, ...], body: bytes, wide: bool) -> Ready:
    if mailer.signing_key:
        body = signed(mailer, body)
    dotted = re.sub(rb"(?m)^\.", b"..", body)
    return Ready(to, dotted if dotted.endswith(b"\r\n") else dotted + b"\r\n", len(body), wide)


def send(mailer: Mailer, mail: EmailMessage | Ready, going: Going = lambda: True) -> bool:
    """Hand `mail` over; see `smtp.hand_over`."""
    return hand_over(mailer, mail if isinstance(mail, Ready) else ready(mailer, mail), going)


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
