"""Reading a mailbox by IMAP (RFC 3501 and 9051), messages after RFC 5322."""

from __future__ import annotations

import datetime as dt
import email
import email.policy
import imaplib
import logging
import re
import socket
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from email.message import EmailMessage
from email.utils import parseaddr, parsedate_to_datetime
from typing import Any

from imapclient import IMAPClient
from imapclient.exceptions import IMAPClientAbortError, IMAPClientError, LoginError

from .errors import Misconfigured, NotFound, OutsideError, RefusedAddress, Unreachable
from .smtp import Reach
from .text import decode

log = logging.getLogger("ulmus")
MOST = 200
LARGEST = 10_000_000
LONGEST_TEXT = 400_000
LONGEST_ANSWER = 5000
_ID = re.compile(r"<[^<>\s]{1,900}>")
_SIGN = re.compile(r"\+([0-9a-f]{32})@")
PATIENCE = 20.0
"""Seconds to wait for each answer of a mail server."""


@dataclass(frozen=True)
class Mailbox:
    """A mail server and who looks into it, by a password or by a bearer token (OAUTHBEARER, RFC 7628)."""

    host: str
    port: int
    tls: bool
    user: str
    password: str = field(repr=False)
    reach: Reach = lambda host, port: host
    by_token: bool = False


@dataclass(frozen=True)
class Letter:
    """One message: who wrote it, its subject and plain text. `uid` counts within the folder's `validity`."""

    uid: int
    sender: str
    sender_name: str
    to: str
    subject: str
    text: str
    date: str
    message_id: str
    in_reply_to: str
    arrived: float = 0.0


def is_from(sender: str, wanted: str) -> bool:
    """Whether a sender's address is the one `wanted`, or one of several parted by commas; empty wants any. Addresses are
    compared whole: ``ines@a.example`` is that address and no other, ``@a.example`` or ``a.example`` any of that domain, a bare
    ``ines`` any address with that whole name before its @."""
    choices = [one for one in (part.strip().casefold() for part in wanted.replace(";", ",").split(",")) if one]
    name, _, domain = (parseaddr(sender)[1] or sender).strip().casefold().rpartition("@")
    if not choices:
        return True
    for choice in choices:
        choice = parseaddr(choice)[1] if "<" in choice else choice
        before, at, after = choice.rpartition("@")
        if at and before:
            fits = (before, after) == (name, domain)
        elif at or "." in choice:
            fits = after == domain
        else:
            fits = choice == name
        if fits:
            return True
    return False


class _Client(IMAPClient):  # type: ignore[misc]
    """Connects to an address that was checked; the certificate is that of the host."""

    def __init__(self, box: Mailbox) -> None:
        self._box = box
        self._address = box.reach(box.host, box.port)
        super().__init__(box.host, port=box.port, ssl=box.tls, timeout=PATIENCE)

    def _create_IMAP4(self) -> Any:
        return _Line(self._box.host, self._box.port, self._address, self.ssl)


class _Line(imaplib.IMAP4):
    def __init__(self, host: str, port: int, address: str, tls: bool) -> None:
        self._address, self._tls = address, tls
        super().__init__(host, port)

    def _create_socket(self, timeout: float | None = None) -> socket.socket:
        line = socket.create_connection((self._address, self.port), PATIENCE)
        return ssl.create_default_context().wrap_socket(line, server_hostname=self.host) if self._tls else line


def _select(client: IMAPClient, folder: str) -> dict[bytes, Any]:
    """Open a folder for reading only; gives what the server says of it."""
    try:
        state: dict[bytes, Any] = client.select_folder(folder, readonly=True)
    except IMAPClientAbortError:
        raise
    except IMAPClientError:
        raise NotFound(f"There is no folder “{folder}” in this mailbox.") from None
    return state


@contextmanager
def _opened(box: Mailbox) -> Iterator[IMAPClient]:
    """Signed in; whatever goes wrong inside becomes an `OutsideError` in words."""
    try:
        with _Client(box) as client:
            if box.by_token:
                client.oauthbearer_login(box.user, box.password)
            else:
                client.login(box.user, box.password)
            yield client
    except RefusedAddress:
        raise
    except ssl.SSLCertVerificationError:
        words = f"The certificate of “{box.host}” is not valid: it may be self-signed, or for another name."
        raise OutsideError(words) from None
    except ssl.SSLError:
        raise Misconfigured(f"“{box.host}” does not speak TLS on port {box.port}.") from None
    except LoginError:
        raise Misconfigured("The mail server does not accept this user and password.") from None
    except TimeoutError:
        raise Unreachable(f"The mail server “{box.host}” did not answer in time.", retryable=True) from None
    except IMAPClientAbortError:
        raise Unreachable(f"The mail server “{box.host}” hung up, or does not speak IMAP.", retryable=True) from None
    except (IMAPClientError, OSError, KeyError, ValueError) as error:
        raise OutsideError(f"The mailbox could not be read ({error or type(error).__name__}).", retryable=True) from None


def poll(box: Mailbox, folder: str, validity: int, after: int) -> tuple[int, list[Letter], int]:
    """Messages with a number above `after`, oldest first; all where the folder's validity is another.

    Gives (validity, letters, highest number seen). Nothing is marked read. Raises `OutsideError`.
    """
    now_valid, raws, last = _new(box, folder, validity, after)
    return now_valid, [_letter(uid, raw) for uid, raw in raws.items()], last


def _new(box: Mailbox, folder: str, validity: int, after: int) -> tuple[int, dict[int, bytes], int]:
    """The messages with a number above `after`, as they came, by number; the others as for `poll`."""
    with _opened(box) as client:
        state = _select(client, folder)
        now_valid = int(state[b"UIDVALIDITY"])
        first = after + 1 if now_valid == validity else 1
        uids = sorted(u for u in client.search(["UID", f"{first}:*"]) if u >= first)[:MOST]
        sizes = client.fetch(uids, ["RFC822.SIZE"]) if uids else {}
        small = [u for u in uids if sizes.get(u, {}).get(b"RFC822.SIZE", 0) <= LARGEST]
        found = client.fetch(small, ["BODY.PEEK[]"]) if small else {}
    raws = {uid: found[uid][b"BODY[]"] for uid in small if b"BODY[]" in found.get(uid, {})}
    return now_valid, raws, max(uids, default=after if now_valid == validity else 0)


@dataclass(frozen=True)
class Report:
    """A mail server's word on a letter (RFC 3464): the Message-ID of the letter, the recipient it is about, its status (RFC 3463)
    and what is said of it. `for_good` where it will not be tried again."""

    message_id: str
    recipient: str
    status: str
    says: str
    for_good: bool


@dataclass(frozen=True)
class Answer:
    """A message that answers others: their Message-IDs (RFC 5322, section 3.6.4) and its own, who wrote it (address and `name`), and what. `automatic` where
    a program did (RFC 3834); `results` is what servers on its way found of its sender (RFC 8601), `signs` what stands behind a plus in the
    addresses it went to (RFC 5233)."""

    answers: tuple[str, ...]
    sender: str
    text: str
    automatic: bool
    message_id: str = ""
    subject: str = ""
    name: str = ""
    results: tuple[str, ...] = ()
    signs: tuple[str, ...] = ()


@dataclass(frozen=True)
class Returns:
    """What came back into a mailbox, and how far it was read: the folder's validity, and the highest number seen."""

    reports: list[Report]
    answers: list[Answer]
    validity: int
    last: int


def returns(box: Mailbox, folder: str, validity: int, after: int) -> Returns:
    """As `poll`: reports of delivery and answers among the messages above a number. All others are passed over, and so is what
    cannot be read, whoever sent it."""
    now_valid, raws, last = _new(box, folder, validity, after)
    out = Returns([], [], now_valid, last)
    for uid, raw in raws.items():
        try:
            out.reports.extend(reports_in(raw))
            answer = answer_in(raw)
        except Exception:
            log.exception("message %d cannot be read and is passed over", uid)
            continue
        if answer is not None:
            out.answers.append(answer)
    return out


def answer_in(raw: bytes) -> Answer | None:
    """A message as an answer; ``None`` where it answers nothing, or is a report."""
    mail = email.message_from_bytes(raw, policy=email.policy.default)
    if mail.get_content_type() == "multipart/report":
        return None
    assert isinstance(mail, EmailMessage)
    answers = tuple(dict.fromkeys(_ID.findall(f"{_head(mail, 'In-Reply-To')} {_head(mail, 'References')}")))
    signs = _signs(mail)
    if not (answers or signs):
        return None
    said = _head(mail, "Auto-Submitted").casefold()
    automatic = said not in ("", "no") or _head(mail, "Precedence").casefold() in ("bulk", "list", "junk", "auto_reply")
    name, sender = parseaddr(_head(mail, "From"))
    own, subject = _head(mail, "Message-ID")[:900], _head(mail, "Subject")[:300]
    text = _text(mail, answer=True)[:LONGEST_ANSWER]
    return Answer(answers, sender, text, automatic, own, subject, name, _found(mail), signs)


def _signs(mail: EmailMessage) -> tuple[str, ...]:
    """What stands behind a plus in the addresses a message went to (RFC 5233)."""
    heads = " ".join(_head(mail, name) for name in ("To", "Cc", "Delivered-To", "X-Original-To"))
    return tuple(dict.fromkeys(_SIGN.findall(heads)))[:20]


def _found(mail: EmailMessage) -> tuple[str, ...]:
    try:
        return tuple(" ".join(str(value).split())[:2000] for value in (mail.get_all("Authentication-Results") or [])[:20])
    except (ValueError, IndexError, AttributeError, TypeError):
        return ()


def reports_in(raw: bytes) -> list[Report]:
    """The reports a message holds, one for each recipient it names; none where it is another message, or damaged."""
    mail = email.message_from_bytes(raw, policy=email.policy.default)
    try:
        parts = list(mail.walk()) if mail.get_content_type() == "multipart/report" else []
        status = next((part for part in parts if part.get_content_type() == "message/delivery-status"), None)
        sent = next((part for part in parts if part.get_content_type() in ("message/rfc822", "text/rfc822-headers")), None)
        blocks = [block for block in status.get_payload() if isinstance(block, EmailMessage)] if status is not None else []
    except (KeyError, LookupError, ValueError, AttributeError, TypeError):
        return []
    message_id = _id_in(sent)
    out = []
    for block in blocks:
        action = _head(block, "Action").casefold()
        if action not in ("failed", "delayed") or not message_id:
            continue
        recipient = (_head(block, "Original-Recipient") or _head(block, "Final-Recipient")).rpartition(";")[2].strip().strip("<>")
        code = _head(block, "Status").split(" ")[0]
        says = _head(block, "Diagnostic-Code").partition(";")[2].strip() or code
        out.append(Report(message_id, recipient, code, says, action == "failed" and not code.startswith("4")))
    return out


def _id_in(part: Any) -> str:
    """The Message-ID of the letter a report sends back, as a whole or its headers."""
    if part is None:
        return ""
    payload = part.get_payload()
    if isinstance(payload, list) and payload and isinstance(payload[0], EmailMessage):
        return _head(payload[0], "Message-ID")
    if isinstance(payload, str):
        return _head(email.message_from_string(payload, policy=email.policy.default), "Message-ID")
    return ""


def since(box: Mailbox, folder: str, moment: float) -> list[Letter]:
    """The mails that arrived in the second of `moment` (since the epoch) or later, oldest first: a mailbox knows no
    less than a second. Raises `OutsideError`."""
    day = dt.datetime.fromtimestamp(moment, dt.UTC).date() - dt.timedelta(days=1)
    with _opened(box) as client:
        _select(client, folder)
        client.normalise_times = False
        uids = sorted(client.search(["SINCE", day]))[-MOST:]
        known = client.fetch(uids, ["INTERNALDATE", "RFC822.SIZE"]) if uids else {}
        wanted = [
            u for u in uids if known[u][b"INTERNALDATE"].timestamp() >= int(moment) and known[u].get(b"RFC822.SIZE", 0) <= LARGEST
        ]
        found = client.fetch(wanted, ["BODY.PEEK[]"]) if wanted else {}
    return [
        replace(_letter(uid, found[uid][b"BODY[]"]), arrived=known[uid][b"INTERNALDATE"].timestamp())
        for uid in wanted
        if b"BODY[]" in found.get(uid, {})
    ]


def latest(
    box: Mailbox, folder: str, *, sender: str = "", subject: str = "", words: str = "", days: int = 0, most: int = 20
) -> list[Letter]:
    """The latest messages that fit, newest first. What is empty or 0 limits nothing. Nothing is marked read. Raises
    `OutsideError`."""
    wanted: list[Any] = ["ALL"]
    for name, value in (("FROM", sender), ("SUBJECT", subject), ("TEXT", words)):
        if value:
            wanted += [name, value]
    if days:
        wanted += ["SINCE", dt.datetime.now(dt.UTC).date() - dt.timedelta(days=days)]
    with _opened(box) as client:
        _select(client, folder)
        charset = None if " ".join(str(w) for w in wanted).isascii() else "UTF-8"
        uids = sorted(client.search(wanted, charset), reverse=True)[: min(most, MOST)]
        sizes = client.fetch(uids, ["RFC822.SIZE"]) if uids else {}
        small = [u for u in uids if sizes.get(u, {}).get(b"RFC822.SIZE", 0) <= LARGEST]
        found = client.fetch(small, ["BODY.PEEK[]"]) if small else {}
    return [_letter(uid, found[uid][b"BODY[]"]) for uid in small if b"BODY[]" in found.get(uid, {})]


def probe(box: Mailbox) -> str:
    """Sign in and count. Raises `OutsideError`."""
    with _opened(box) as client:
        count = len(client.list_folders())
        return f"{count} folder{'s' if count != 1 else ''} can be read."


def _letter(uid: int, raw: bytes) -> Letter:
    mail = email.message_from_bytes(raw, policy=email.policy.default)
    assert isinstance(mail, EmailMessage)
    name, address = parseaddr(_head(mail, "From"))
    try:
        date = parsedate_to_datetime(_head(mail, "Date")).isoformat()
    except (ValueError, TypeError):
        date = ""
    return Letter(
        uid=uid,
        sender=address,
        sender_name=name,
        to=parseaddr(_head(mail, "To"))[1],
        subject=_head(mail, "Subject"),
        text=_text(mail)[:LONGEST_TEXT],
        date=date,
        message_id=_head(mail, "Message-ID"),
        in_reply_to=_head(mail, "In-Reply-To"),
    )


def _head(mail: EmailMessage, name: str) -> str:
    try:
        return " ".join(str(mail.get(name, "")).split())
    except (ValueError, IndexError, AttributeError, TypeError):
        # Headers from outside may be beyond what the library can read.
        return ""


def _text(mail: EmailMessage, answer: bool = False) -> str:
    """The plain text of a message; of an `answer` in HTML without what it quotes."""
    try:
        body = mail.get_body(("plain", "html"))
        text = str(body.get_content()) if body is not None else ""
    except (KeyError, LookupError, ValueError, AttributeError):
        # In a charset nobody knows, or damaged: read as well as it can be.
        try:
            body = mail.get_body(("plain", "html"))
            packed = body.get_payload(decode=True) if body is not None else None
        except (KeyError, LookupError, ValueError, AttributeError):
            return ""
        text = decode(packed) if isinstance(packed, bytes) else ""
    if body is not None and body.get_content_type() == "text/html":
        from ..core.slots.filters import FILTERS

        return str(FILTERS["plain"].apply(_unquoted(text) if answer else text)).strip()
    return text.strip()


def _unquoted(page: str) -> str:
    """HTML without what it quotes, as mail programs mark that."""
    from lxml import html as lxml_html

    try:
        tree = lxml_html.document_fromstring(page)
    except (ValueError, lxml_html.etree.ParserError):
        return page
    for quoted in tree.xpath("//blockquote | //*[contains(@class, 'quote')] | //*[@id='divRplyFwdMsg']/following-sibling::*"):
        quoted.drop_tree()
    return str(lxml_html.tostring(tree, encoding="unicode"))
