"""The address guard: inner addresses in every spelling, for every protocol."""

from __future__ import annotations

import unittest
from unittest import mock

from ulmus.core.pieces import Letter
from ulmus.protocols import mail, mailbox
from ulmus.protocols.errors import RefusedAddress
from ulmus.protocols.guard import is_inner
from ulmus.protocols.net import Web

INNER = [
    "127.0.0.1",
    "10.1.2.3",
    "172.16.0.1",
    "192.168.1.1",
    "169.254.169.254",
    "100.64.0.1",
    "0.0.0.0",
    "192.0.0.1",
    "192.0.0.170",
    "192.0.0.254",
    "198.18.0.1",
    "224.0.0.1",
    "240.0.0.1",
    "255.255.255.255",
    "192.88.99.1",
    "::1",
    "::",
    "fe80::1",
    "fe80::1%eth0",
    "fc00::1",
    "fd12:3456::1",
    "fec0::1",
    "ff02::1",
    "::ffff:127.0.0.1",
    "::ffff:10.0.0.1",
    "::127.0.0.1",
    "::10.0.0.1",
    "64:ff9b::127.0.0.1",
    "64:ff9b::a9fe:a9fe",
    "64:ff9b:1::1",
    "2002:7f00:1::1",
    "2002:a00:1::",
    "2001::1",
    "100::1",
    "2001:db8::1",
    "nonsense",
]
OUTER = ["93.184.216.34", "8.8.8.8", "2606:2800:220:1::1", "64:ff9b::808:808", "2002:808:808::1", "::ffff:8.8.8.8"]


class Guard(unittest.TestCase):
    def test_every_spelling(self) -> None:
        for address in INNER:
            self.assertTrue(is_inner(address), address)
        for address in OUTER:
            self.assertFalse(is_inner(address), address)

    def test_mail_servers_too(self) -> None:
        web = Web()
        self.addCleanup(web.close)
        mailer = mail.Mailer("127.0.0.1", 25, False, "", "", "a@a.example", "", web.reach)
        letter = mail.compose(mailer, Letter(to=("b@a.example",), subject="s", text="t", html="<p>t"), "k", 0.0, {})
        for call in (
            lambda: mail.probe(mailer),
            lambda: mail.send(mailer, letter),
            lambda: mailbox.probe(mailbox.Mailbox("localhost", 993, True, "u", "p", web.reach)),
            lambda: mailbox.poll(mailbox.Mailbox("localhost", 143, False, "u", "p", web.reach), "INBOX", 0, 0),
        ):
            with mock.patch("socket.create_connection", side_effect=AssertionError("connected")), self.assertRaises(RefusedAddress):
                call()
