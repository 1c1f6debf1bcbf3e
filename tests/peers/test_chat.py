"""Chat rooms against Prosody."""

from __future__ import annotations

import asyncio
import time
import unittest
from dataclasses import replace
from typing import Any
from unittest import mock
from xml.etree import ElementTree

from tests.peers.servers import PROSODY, Prosody, needs
from ulmus.protocols import xmpp
from ulmus.protocols.errors import Misconfigured, OutsideError, Refused


@needs(PROSODY)
class Rooms(unittest.TestCase):
    server: Prosody

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = Prosody()
        cls.addClassCleanup(cls.server.stop)

    def setUp(self) -> None:
        self.room = xmpp.Room(
            "ulmus@town.test",
            "practice",
            f"{self.id().rsplit('.', 1)[-1][:40].lower()}@rooms.town.test",
            host="127.0.0.1",
            port=self.server.port,
            starttls=False,
        )

    def test_what_is_said_stands_in_the_room_and_is_found_by_its_key(self) -> None:
        before = time.time()
        xmpp.say(self.room, ["First <part> & more", "Second\npart ✓"], "k1")
        self.assertEqual(xmpp.find(self.room, 2, "k1", before)[0], 2)
        self.assertEqual(xmpp.find(self.room, 1, "other", before)[0], 0)

    def test_that_it_was_not_said_is_told_only_where_the_history_reaches_back(self) -> None:
        xmpp.say(self.room, ["Before"], "k0")
        self.assertEqual(xmpp.find(self.room, 1, "k1", time.time()), (0, False), "the only one it shows is from just now")
        self.assertEqual(xmpp.find(self.room, 1, "k1", time.time() + 60), (0, True))

    def test_a_line_that_breaks_before_the_room_showed_it_is_doubt(self) -> None:
        with (
            mock.patch.object(xmpp, "PATIENCE", 8.0),
            mock.patch.object(xmpp, "_id", lambda key, part: f"{key}-{part}" + chr(0xFFFF)),
        ):
            with self.assertRaises(OutsideError) as met:
                xmpp.say(self.room, ["x"], "k")
        self.assertTrue(met.exception.ambiguous)

    def test_each_thing_that_keeps_one_out_has_its_words(self) -> None:
        for changes, words, kind in (
            ({"password": "wrong"}, "does not accept the account", Misconfigured),
            ({"port": 1}, "cannot be reached", OutsideError),
            ({"starttls": True}, "", OutsideError),
            ({"room": "no room"}, "is no XMPP address", Misconfigured),
            ({"room": "x@nowhere.test"}, "does not let one in", Misconfigured),
        ):
            with self.subTest(changes=changes), mock.patch.object(xmpp, "PATIENCE", 4.0), self.assertRaisesRegex(kind, words):
                xmpp.say(replace(self.room, **changes), ["x"], "k")  # type: ignore[arg-type]

    def test_a_name_that_is_taken_is_told(self) -> None:
        import threading

        gone = threading.Event()
        there = threading.Event()

        async def stay(client: Any) -> None:
            import asyncio

            await xmpp._join(client, other, 0)
            there.set()
            while not gone.is_set():
                await asyncio.sleep(0.05)

        other = replace(self.room, jid="reader@town.test")
        reader = threading.Thread(target=xmpp._with, args=(other, stay))
        reader.start()
        self.addCleanup(reader.join)
        self.addCleanup(gone.set)
        self.assertTrue(there.wait(10))
        with self.assertRaisesRegex(Refused, "called “Ulmus” already"):
            xmpp.say(self.room, ["x"], "k")
        self.assertIn("where 1 more are", xmpp.probe(replace(self.room, nick="Another")))

    def say_as(self, who: str, text: str, forge: str = "", nick: str = "") -> None:
        """Something said by another account; with `forge` an address is written into the message."""
        other = replace(self.room, jid=f"{who}@town.test", nick=nick or who)
        real = xmpp._id

        async def speak(client: Any) -> None:
            await xmpp._join(client, other, 0)
            message = client.make_message(mto=other.room, mbody=text, mtype="groupchat")
            message["id"] = real(text, 0)
            if forge:
                x = ElementTree.SubElement(message.xml, f"{{{xmpp._MUC_USER}}}x")
                ElementTree.SubElement(x, f"{{{xmpp._MUC_USER}}}item", {"jid": forge})
            message.send()
            await asyncio.sleep(0.3)

        xmpp._with(other, speak)

    def shows_addresses(self, whois: str) -> None:
        """Have the room show real addresses to everybody, or to moderators only."""

        async def set_up(client: Any) -> None:
            await xmpp._join(client, self.room, 0)
            form = await client["xep_0045"].get_room_config(self.room.room)
            form.set_values({"muc#roomconfig_whois": whois})
            form["type"] = "submit"
            await client["xep_0045"].set_room_config(self.room.room, form)

        xmpp._with(self.room, set_up)

    def test_who_said_it_is_told_by_a_room_that_shows_addresses(self) -> None:
        before = time.time() - 5
        self.shows_addresses("anyone")
        self.say_as("ines", "#1 yes")
        said = xmpp.heard(self.room, before)
        self.assertEqual([(one.author, one.text) for one in said], [("ines@town.test", "#1 yes")])

    def test_a_nickname_and_a_forged_address_are_no_identity(self) -> None:
        before = time.time() - 5
        self.shows_addresses("moderators")
        self.say_as("reader", "#1 yes", forge="ines@town.test", nick="ines@town.test")
        self.assertEqual([one.author for one in xmpp.heard(self.room, before)], [""])
        self.shows_addresses("anyone")
        self.say_as("reader", "#2 yes", forge="ines@town.test", nick="Ines")
        self.assertNotIn("ines@town.test", [one.author for one in xmpp.heard(self.room, before)][1:])
