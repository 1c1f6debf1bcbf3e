"""Lines of a page against servers people run: a letter into a mailbox, a file into a folder, a message into a room."""

from __future__ import annotations

import base64
import subprocess
import time
from typing import Any

import dkim

from tests.peers.servers import APACHE, POSTFIX, PROSODY, Apache, Postfix, Prosody, needs
from tests.protocols.test_pictures import photo
from tests.runtime.house import WHO, WithHouse
from ulmus.core import pieces
from ulmus.protocols import filestore, mail, xmpp
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.letters import page
from ulmus.protocols.net import Web
from ulmus.runtime import files, workflows
from ulmus.store import tables


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": {"retries": 1, "wait": 0.05}}


class Lines(WithHouse):
    def connect(self, kind: str, settings: dict[str, Any], secrets: dict[str, str]) -> None:
        with self.services.store.write() as session:
            sealed = self.services.sealer.seal(secrets)
            session.add(tables.Connection(key="peer", kind=kind, name="Peer", settings=settings, sealed=sealed))

    def run_on(self, *steps: dict[str, Any]) -> int:
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Out", "start": start, "steps": list(steps)})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "Out", "body": {}})
        assert run is not None
        return run


@needs(POSTFIX)
class Letters(Lines):
    def setUp(self) -> None:
        super().setUp()
        self.server = Postfix()
        self.addCleanup(self.server.stop)
        self.reach(self.server.port)

    def delivered(self, count: int) -> list[Any]:
        self.wait_for(lambda: len(self.server.letters()) >= count, lambda: str(len(self.server.letters())), 30)
        return self.server.letters()

    def test_a_letter_with_all_its_parts_arrives_as_it_was_shown(self) -> None:
        key = subprocess.run(["openssl", "genrsa", "1024"], capture_output=True, text=True, check=True).stdout
        public = subprocess.run(
            ["openssl", "rsa", "-pubout", "-outform", "DER"], input=key.encode(), capture_output=True, check=True
        ).stdout
        settings = {"host": "127.0.0.1", "port": self.server.port, "starttls": False, "sender": "mara@town.test", "selector": "s1"}
        self.connect("mail", settings, {"signing_key": key})
        link = files.keep(self.services, "lock.jpg", "image/jpeg", photo())["link"]
        letter = step(
            "letter",
            "send_letter",
            server="peer",
            to="Ottoline Varley <o@lead.example>",
            subject="Grüße & more",
            text=f"Dear you,\n\n**bold** ✓\n.\n..leading dots\n\n![a lock]({link})",
            files=link,
        )
        second = step(
            "second", "send_letter", server="peer", to="o@lead.example", subject="Again", text="x", thread="<<letter.message_id>>"
        )
        self.until(self.run_on(letter, second), "done", seconds=30)
        got, after = sorted(self.delivered(2), key=lambda m: m["Subject"] == "Again")
        self.assertEqual(got["Subject"], "Grüße & more")
        self.assertIn("..leading dots", got.get_body(("plain",)).get_content())
        self.assertIn("<strong>bold</strong>", got.get_body(("html",)).get_content())
        kinds = [part.get_content_type() for part in got.walk()]
        self.assertEqual(kinds.count("image/jpeg"), 2, "one inside, one attached")
        self.assertEqual(after["In-Reply-To"], got["Message-ID"])
        record = b"v=DKIM1; p=" + base64.b64encode(public)
        raw = next(p.read_bytes() for p in (self.server.folder / "box/all/new").iterdir() if b"Again" not in p.read_bytes())
        raw = raw[raw.index(b"DKIM-Signature") :]
        self.assertTrue(dkim.verify(raw.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n"), dnsfunc=lambda *_, **__: record))

    def test_what_the_server_refuses_is_told_and_a_line_is_used_again(self) -> None:
        idle = mail.Idle()
        mailer = mail.Mailer("127.0.0.1", self.server.port, False, "", "", "a@town.test", "A", idle=idle)
        letter = pieces.Letter(to=("b@lead.example",), subject="S", text="T", html=page("T", "S", "markdown"))
        for n in range(3):
            mail.send(mailer, mail.compose(mailer, letter, f"k{n}", time.time(), {}))
        kept = idle.take()
        self.assertIsNotNone(kept)
        assert kept is not None
        idle.give(kept)
        with self.assertRaisesRegex(OutsideError, "elsewhere.example"):
            mail.send(mailer, mail.compose(mailer, letter.model_copy(update={"to": ("b@elsewhere.example",)}), "k4", 0.0, {}))
        large = letter.model_copy(update={"text": "x\n" * 1_500_000, "html": ""})
        with self.assertRaisesRegex(OutsideError, "at most 2.0 MB") as met:
            mail.send(mailer, mail.compose(mailer, large, "k5", 0.0, {}))
        self.assertFalse(met.exception.ambiguous)
        self.assertEqual(len(self.delivered(3)), 3)


@needs(APACHE)
class Files(Lines):
    def setUp(self) -> None:
        super().setUp()
        self.server = Apache()
        self.addCleanup(self.server.stop)
        self.reach(self.server.port)
        self.connect("files", {"url": f"http://127.0.0.1:{self.server.port}/files", "user": "office"}, {"password": "files-key"})

    def test_documents_stand_beside_what_is_there_and_several_in_a_folder(self) -> None:
        links = [files.keep(self.services, f"{n}.jpg", "image/jpeg", photo(n))["link"] for n in (80, 81)]
        save = {"store": "peer", "folder": "Out & in/ü", "name": "Report.pdf", "what": "# Seed\n\nWords"}
        for expected in ("Report.pdf", "Report 2.pdf"):
            run = self.run_on(step("saved", "save_file", **save))
            self.until(run, "done", seconds=30)
            self.assertEqual(self.engine.live(run).state.values["saved"]["name"], expected)
        self.until(self.run_on(step("saved", "save_file", **{**save, "there": "over", "what": "New"})), "done")
        self.until(self.run_on(step("saved", "save_file", **{**save, "name": "Kit", "what": "\n".join(links)})), "done")
        there = sorted(
            str(p.relative_to(self.server.folder / "files")) for p in (self.server.folder / "files").rglob("*") if p.is_file()
        )
        self.assertEqual(there, [f"Out & in/ü/{n}" for n in ("Kit/80.jpg", "Kit/81.jpg", "Report 2.pdf", "Report.pdf")])

    def test_each_refusal_in_its_words(self) -> None:
        web = Web(self.also)
        self.addCleanup(web.close)
        told = base64.b64encode(b"office:files-key").decode()
        store = filestore.Folder(f"http://127.0.0.1:{self.server.port}/files", {"Authorization": f"Basic {told}"})
        filestore.save(web, store, "a/b.txt", b"x", "text/plain")
        for path, words in (
            ("a", "A folder is called “a” already"),
            ("a/b.txt/c.txt", "“a/b.txt” is a file and no folder"),
            ("x" * 300, "too long"),
        ):
            with self.subTest(path=path[:20]), self.assertRaisesRegex(OutsideError, words):
                filestore.save(web, store, path, b"y", "text/plain")
        lock = '<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockinfo>'
        got = web.fetch(
            filestore.address(store, "a/b.txt"),
            method="LOCK",
            content=lock.encode(),
            headers={"Content-Type": "text/xml", **store.headers},
        )
        self.assertEqual(got.status, 200)
        with self.assertRaisesRegex(OutsideError, "is locked: somebody has it open"):
            filestore.save(web, store, "a/b.txt", b"z", "text/plain")


@needs(PROSODY)
class Rooms(Lines):
    def setUp(self) -> None:
        super().setUp()
        self.server = Prosody()
        self.addCleanup(self.server.stop)
        self.reach(self.server.port)
        place = {"host": "127.0.0.1", "port": self.server.port, "starttls": False, "limit": 80}
        self.connect("chatroom", {"room": "team@rooms.town.test", "jid": "ulmus@town.test", **place}, {"password": "practice"})
        self.room = xmpp.Room(
            "reader@town.test", "practice", "team@rooms.town.test", "Reader", "127.0.0.1", self.server.port, False
        )

    def test_a_long_message_is_said_in_parts_and_a_lost_answer_is_found_out_about(self) -> None:
        message = step("say", "message_room", room="peer", text="The first sentence says one thing. " * 5)
        run = self.run_on(message)
        self.until(run, "done", seconds=30)
        key = self.piece(run).key
        self.assertEqual(xmpp.find(self.room, 3, key, 0.0)[0], 3)
        real = xmpp.say

        def lost(*arguments: Any) -> None:
            real(*arguments)
            raise OutsideError("The line broke.", retryable=True, ambiguous=True)

        xmpp.say = lost
        self.addCleanup(setattr, xmpp, "say", real)
        run = self.run_on(message)
        self.until(run, "done", "failed", seconds=30)
        self.assertEqual(self.run_of(run).state, "done", "the room was asked, and showed it")
