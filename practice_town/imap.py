"""The office's mailbox as a mail server: IMAP (RFC 3501) by pymap, its mail kept in memory.

Letters of the invented world lie in it from the beginning; what people write on the town's pages comes in later, and is remembered.
"""

from __future__ import annotations

import asyncio
import datetime as dt
import hashlib
import imaplib
import threading
import time
from argparse import Namespace
from email.message import EmailMessage
from email.utils import format_datetime
from typing import Any

from .faults import PATIENCE
from .state import State

USER, PASSWORD = "office", "office-key"
ADDRESS = "office@hedgelane.example"

LETTERS = [
    (
        52.0,
        "Ottoline Varley <ottoline@varley.example>",
        "Our beans at the Ostrey fair",
        "Good morning,\n\nthe climbing beans we had from you took the second place at the Ostrey fair. Nineteen pounds from one"
        " row, sown on 4 May under the wall. You may tell the story if you like; a picture is on its way.\n\nOttoline Varley",
    ),
    (
        47.5,
        "Bram Okonjo <bram@okonjo.example>",
        "Question about winter salad",
        "Hello,\n\nwhich of your salads may still be sown in October without glass? Last year the frost took everything but"
        " the corn salad. And when do the spring packets come out?\n\nBram Okonjo",
    ),
    (
        30.0,
        "Tillerby Post Office <counter@tillerby.example>",
        "New opening hours from December",
        "The counter is open from 8 to 12 and from 14 to 17 from 1 December. On Saturdays parcels are taken until 11.",
    ),
    (
        26.0,
        "Petra Lindqvist <petra@lockhouse.example>",
        "Talk at the Lock House, 12 January",
        "Dear all,\n\nwould one of you speak at the Lock House on 12 January about saving seed at home? Forty chairs, a stove,"
        " and soup afterwards. An answer by the end of the month would help with the leaflet.\n\nPetra Lindqvist",
    ),
    (
        9.0,
        "The Furrow Letter <editors@furrow.example>",
        "Your piece for the spring number",
        "Your six hundred words on heritage peas are due on 15 January. Pictures at 300 dots an inch, please, and the names"
        " of those in them. The theme of the number is “small gardens”.",
    ),
    (
        2.0,
        "Ruben Aske <ruben@aske.example>",
        "Packets arrived wet",
        "The parcel of Monday stood in the rain at the depot. Four packets of runner beans are soaked through. Can they still"
        " be sown, or may I have others? Order 2291.\n\nRuben Aske",
    ),
]
"""Hours ago, sender, subject and text of what lies in the mailbox from the beginning."""
OPTIONS: dict[str, Any] = {
    "debug": False,
    "demo_data": False,
    "host": None,
    "port": None,
    "cert": None,
    "key": None,
    "tls": False,
    "proxy_protocol": None,
    "inherited_sockets": None,
    "passlib_cfg": None,
}
"""What pymap is told on its command line; the town listens by itself."""


class MailServer:
    """The mailbox on a port of 127.0.0.1, from `start` to `stop`."""

    def __init__(self, town: State, port: int) -> None:
        self.town, self.port = town, port
        self._open = threading.Event()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._thread = threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True, name="town-mailbox")

    def start(self) -> MailServer:
        """Serve in the background, with all letters in the mailbox."""
        with self.town.lock:
            if not self.town.letters:
                now = time.time()
                for hours, sender, subject, text in LETTERS:
                    self.town.letters.append(told(sender, subject, text, now - hours * 3600))
                self.town.save()
        self._thread.start()
        if not self._open.wait(30):
            raise RuntimeError("the town's mail server did not start")
        self.deliver(*self.town.letters)
        return self

    def stop(self) -> None:
        """Stop serving; the town remembers the letters."""
        if self._loop is not None:
            self._loop.call_soon_threadsafe(self._ended.set)
            self._thread.join(5)

    def deliver(self, *letters: dict[str, Any]) -> None:
        """Put letters into the mailbox, as they would arrive."""
        with imaplib.IMAP4("127.0.0.1", self.port, timeout=10) as client:
            client.login(USER, PASSWORD)
            for one in letters:
                client.append("INBOX", "", imaplib.Time2Internaldate(one["at"]), letter(one).as_bytes())

    async def _serve(self) -> None:
        # Loaded here: it is large, and a town without a mailbox does without.
        from proxyprotocol.reader import ProxyProtocolReader
        from pymap.backend.dict import DictBackend
        from pymap.imap import IMAPServer

        self._loop = asyncio.get_running_loop()
        self._ended = asyncio.Event()
        backend, config = await DictBackend.init(Namespace(demo_user=USER, demo_password=PASSWORD, **OPTIONS))
        config.apply_context()
        answer = ProxyProtocolReader(config.proxy_protocol).get_callback(IMAPServer(backend.login, config))

        async def meet(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            # The first to come is the town itself, with its letters.
            mode = self.town.fault("mailbox") if self._open.is_set() and self.town.faults.get("mailbox") else ""
            if not mode:
                await answer(reader, writer)
                return
            await _misbehave(mode, reader, writer)

        async with await asyncio.start_server(meet, "127.0.0.1", self.port):
            self._open.set()
            await self._ended.wait()


async def _misbehave(mode: str, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    if mode == "silent":
        await asyncio.sleep(PATIENCE)
    elif mode == "garbage":
        writer.write(b"<html><title>Our mail has moved</title></html>\r\n")
    elif mode == "refuse":
        writer.write(b"* OK the office\r\n")
        while line := await reader.readline():
            tag, _, rest = line.partition(b" ")
            if rest.upper().startswith(b"CAPABILITY"):
                writer.write(b"* CAPABILITY IMAP4rev1\r\n" + tag + b" OK done\r\n")
            else:
                writer.write(tag + b" NO [AUTHENTICATIONFAILED] This key is not known here\r\n")
            await writer.drain()
    writer.close()


def told(sender: str, subject: str, text: str, at: float) -> dict[str, Any]:
    """A letter to the office as the town remembers it; `at` in seconds since the epoch."""
    name = hashlib.sha256(f"{sender}/{subject}/{at}".encode()).hexdigest()[:20]
    return {"id": f"{name}@hedgelane.example", "sender": sender, "subject": subject, "text": text, "at": at}


def letter(one: dict[str, Any]) -> EmailMessage:
    """A letter to the office as a message (RFC 5322)."""
    out = EmailMessage()
    out["From"], out["To"], out["Subject"] = one["sender"], f"The office <{ADDRESS}>", one["subject"]
    out["Date"] = format_datetime(dt.datetime.fromtimestamp(one["at"], dt.UTC))
    out["Message-ID"] = f"<{one['id']}>"
    if one.get("answers"):
        out["In-Reply-To"] = out["References"] = one["answers"]
    # As it is, so that the mail server finds words in it.
    out.set_content(one["text"], cte="8bit")
    return out
