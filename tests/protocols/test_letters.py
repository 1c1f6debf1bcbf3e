"""Letters: as they are made, as a strict server takes them, and every way one can be refused or lost."""

from __future__ import annotations

import dataclasses
import re
import socket
import threading
import unittest
from collections.abc import Callable
from email import message_from_bytes, policy
from email.message import EmailMessage
from unittest import mock

import dkim
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa

from ulmus.core.pieces import Attached, Letter
from ulmus.protocols import letters, mail, smtp
from ulmus.protocols.errors import AddressRefused, Misconfigured, OutsideError, TooLarge

PICTURE = "http://house.example/api/files/abc/bean.png"
REPORT = "http://house.example/api/files/def/report.pdf"
OPENED = {PICTURE: ("bean.png", "image/png", b"\x89PNG bean"), REPORT: ("Bericht ä.pdf", "application/pdf", b"%PDF report")}


def sender(port: int = 25, **more: str) -> mail.Mailer:
    return mail.Mailer("127.0.0.1", port, False, "", "", "mara@hedge.example", "Mara Tollen", **more)  # type: ignore[arg-type]


class Server:
    """A mail server that speaks line by line as it is told, takes one letter at a time, and keeps what it got: whatever came
    before the final dot, doubles too. `says` gives the answer to a command; ``None`` breaks the line off."""

    def __init__(self, says: Callable[[str], str | None] = lambda line: "", features: tuple[str, ...] = ()) -> None:
        self.says, self.features = says, features
        self.commands: list[str] = []
        self.kept: list[bytes] = []
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                line, _ = self.listener.accept()
            except OSError:
                return
            with line, line.makefile("rwb") as wire:
                self._talk(wire)

    def _talk(self, wire: object) -> None:
        def answer(text: str) -> None:
            wire.write(text.encode() + b"\r\n")  # type: ignore[attr-defined]
            wire.flush()  # type: ignore[attr-defined]

        answer("220 here")
        while command := wire.readline().decode("utf-8", "replace").strip():  # type: ignore[attr-defined]
            verb = command.split()[0].upper()
            command = verb + command[len(verb) :]
            self.commands.append(command)
            said = self.says(command)
            if said is None:
                return
            if verb == "EHLO" and not said:
                for feature in ("here", *self.features) if self.features else ():
                    answer(f"250-{feature}")
            answer(said or {"DATA": "354 go on", "QUIT": "221 bye"}.get(verb, "250 fine"))
            if verb == "DATA" and not said:
                body = b""
                while not body.endswith(b"\r\n.\r\n"):
                    body += wire.readline()  # type: ignore[attr-defined]
                self.kept.append(body[:-3])
                said = self.says(".")
                if said is None:
                    return
                answer(said or "250 kept")

    def close(self) -> None:
        self.listener.close()


class Made(unittest.TestCase):
    def made(self, letter: Letter) -> EmailMessage:
        made = mail.compose(sender(), letter, "k1", 1_800_000_000.0, OPENED)
        read = message_from_bytes(made.as_bytes(policy=policy.SMTP), policy=policy.default)
        assert isinstance(read, EmailMessage)
        return read

    def test_text_and_html_with_a_picture_inside_and_a_file_beside(self) -> None:
        page = letters.page(f"# Beans\n\n**Grüße** from [us](https://hedge.example/a)\n\n![A bean]({PICTURE})", "Beans", "markdown")
        read = self.made(
            Letter(
                to=("Bram Okonjo <bram@okonjo.example>",),
                cc=("petra@lock.example",),
                subject="Beans\r\nBcc: all@x.example",
                text="Beans, Grüße",
                html=page,
                files=(Attached(link=PICTURE, inside=True, kept=True), Attached(link=REPORT, kept=True)),
                thread="<b@hedge.example>",
                thread_before=("<a@hedge.example>",),
            )
        )
        self.assertEqual(read["Subject"], "Beans Bcc: all@x.example", "a subject is one line")
        self.assertIsNone(read["Bcc"])
        self.assertEqual((read["From"], read["Cc"]), ("Mara Tollen <mara@hedge.example>", "petra@lock.example"))
        self.assertEqual((read["In-Reply-To"], read["References"]), ("<b@hedge.example>", "<a@hedge.example> <b@hedge.example>"))
        shapes = [part.get_content_type() for part in read.walk()]
        self.assertEqual(
            shapes,
            [
                "multipart/mixed",
                "multipart/alternative",
                "text/plain",
                "multipart/related",
                "text/html",
                "image/png",
                "application/pdf",
            ],
        )
        html = read.get_body(("html",)).get_content()  # type: ignore[union-attr]
        cid = re.search(r'src="cid:([^"]+)"', html)
        assert cid is not None
        (picture,) = [part for part in read.walk() if part.get_content_type() == "image/png"]
        self.assertEqual((picture["Content-ID"], picture.get_content()), (f"<{cid[1]}>", OPENED[PICTURE][2]))
        self.assertNotIn("house.example", html, "nobody outside could fetch it")
        (beside,) = read.iter_attachments()
        self.assertEqual((beside.get_filename(), beside.get_content()), ("Bericht ä.pdf", OPENED[REPORT][2]))

    def test_a_page_is_set_in_type_and_cannot_act(self) -> None:
        page = letters.page("Hello <script>alert(1)</script>\n\n[press](javascript:alert(1))\n\n> said", "A & B", "markdown")
        self.assertNotIn("<script", page)
        self.assertNotIn("<a", page, "a link that acts is none")
        self.assertNotIn("<style", page, "mail programs drop it")
        self.assertIn("border-left", page)
        self.assertIn("<title>A &amp; B</title>", page)
        self.assertNotIn(
            "onclick", letters.page('<p onclick="x()" style="color:red">Hi</p><iframe src="//a"></iframe>', "t", "html")
        )

    def test_the_plain_text_reads_without_marks(self) -> None:
        page = letters.page(
            "# Beans\n\nDear **O**,\nsee [us](https://a.example/b)\n\n- one\n- two\n\n3. three\n4. four", "t", "markdown"
        )
        self.assertEqual(
            letters.in_plain(page), "Beans\n\nDear O,\nsee us (https://a.example/b)\n\n- one\n- two\n\n3. three\n4. four"
        )

    def test_addresses_as_people_write_them_and_none_by_accident(self) -> None:
        self.assertEqual(
            mail.addresses("Bram <bram@okonjo.example>, petra@lock.example; BRAM@okonjo.example\n"),
            ["Bram <bram@okonjo.example>", "petra@lock.example"],
        )
        self.assertEqual(mail.addresses('"Varley, Ottoline" <o@varley.example>'), ['"Varley, Ottoline" <o@varley.example>'])
        self.assertEqual(mail.addresses(" "), [])
        for text in (
            "nobody",
            "a@b",
            "Bcc: all@x.example",
            "a@b.example c@d.example",
            "a@b.example\r\nSubject: x",
            "<>",
            "a@b..example",
        ):
            with self.subTest(text=text), self.assertRaises(Misconfigured):
                mail.addresses(text)


class Handed(unittest.TestCase):
    def server(self, says: Callable[[str], str | None] = lambda line: "", features: tuple[str, ...] = ()) -> Server:
        server = Server(says, features)
        self.addCleanup(server.close)
        return server

    def hand_over(self, server: Server, text: str = "Hello", to: tuple[str, ...] = ("b@a.example",), **more: str) -> None:
        letter = Letter(to=to, subject="s", text=text)
        mailer = sender(server.port, **more)
        mail.send(mailer, mail.compose(mailer, letter, "k1", 1_800_000_000.0, {}))

    def fails(self, server: Server, to: tuple[str, ...] = ("b@a.example",), text: str = "Hello") -> OutsideError:
        with self.assertRaises(OutsideError) as caught:
            self.hand_over(server, text, to)
        return caught.exception

    def test_lines_of_dots_and_long_lines_arrive_as_written(self) -> None:
        server = self.server()
        text = ".\n..\n.hidden\n" + "long " * 500 + "\nend"
        self.hand_over(server, text)
        (body,) = server.kept
        self.assertTrue(all(len(line) <= 998 for line in body.split(b"\r\n")), "RFC 5322, section 2.1.1")
        read = message_from_bytes(re.sub(rb"(?m)^\.\.", b".", body), policy=policy.default)
        assert isinstance(read, EmailMessage)
        self.assertEqual(read.get_content().replace("\r\n", "\n").strip(), text)

    def test_where_one_is_refused_nobody_gets_it(self) -> None:
        server = self.server(lambda line: "550 5.1.1 no such user" if "gone@" in line else "")
        error = self.fails(server, ("b@a.example", "gone@a.example"))
        self.assertIn("does not know gone@a.example", error.message)
        self.assertEqual((server.kept, error.ambiguous), ([], False))
        self.assertNotIn("DATA", server.commands)

    def test_only_what_broke_after_the_end_leaves_doubt(self) -> None:
        for command, ambiguous in (("EHLO", False), ("MAIL", False), ("RCPT", False), ("DATA", False), (".", True)):
            server = self.server(lambda line, at=command: None if line.startswith(at) else "")  # type: ignore[misc]
            with self.subTest(command=command):
                error = self.fails(server)
                self.assertEqual((error.ambiguous, error.retryable), (ambiguous, True))

    def test_what_is_said_at_the_end_is_taken_as_said(self) -> None:
        for answer, again in (("451 4.3.0 later", True), ("554 5.7.1 looks like spam", False), ("421 closing", True)):
            error = self.fails(self.server(lambda line, said=answer: said if line == "." else ""))  # type: ignore[misc]
            with self.subTest(answer=answer):
                self.assertEqual((error.retryable, error.ambiguous), (again, False))
                self.assertIn(answer.split(" ", 1)[1].split()[-1], error.message)

    def test_a_goodbye_that_is_lost_changes_nothing(self) -> None:
        server = self.server(lambda line: None if line == "QUIT" else "")
        self.hand_over(server)
        self.assertEqual(len(server.kept), 1)

    def test_too_large_is_said_before_it_is_sent(self) -> None:
        server = self.server(features=("SIZE 1000",))
        with self.assertRaisesRegex(TooLarge, "at most 1 kB"):
            self.hand_over(server, "x" * 2000)
        self.assertEqual(server.kept, [])

    def test_wide_addresses_go_where_they_are_taken(self) -> None:
        with self.assertRaisesRegex(Misconfigured, "plain letters"):
            self.hand_over(self.server(), to=("bäm@a.example",))
        server = self.server(features=("SMTPUTF8", "8BITMIME"))
        self.hand_over(server, to=("bäm@a.example",))
        self.assertIn("SMTPUTF8", next(line for line in server.commands if line.startswith("MAIL")))

    def test_a_signature_holds(self) -> None:
        key = rsa.generate_private_key(65537, 2048)
        shapes = serialization.Encoding.PEM, serialization.PrivateFormat.TraditionalOpenSSL, serialization.NoEncryption()
        pem = key.private_bytes(*shapes).decode()
        public = key.public_key().public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
        shown = "".join(line for line in public.decode().splitlines() if "-" not in line)
        server = self.server()
        self.hand_over(server, ".Hello", selector="post", signing_key=pem)
        body = re.sub(rb"(?m)^\.\.", b".", server.kept[0])
        record = f"v=DKIM1; k=rsa; p={shown}".encode()
        asked: list[bytes] = []
        self.assertTrue(dkim.verify(body, dnsfunc=lambda name, timeout=5: asked.append(name) or record))
        self.assertEqual(asked, [b"post._domainkey.hedge.example."])
        self.assertFalse(dkim.verify(body.replace(b"Hello", b"Hullo"), dnsfunc=lambda name, timeout=5: record), "it can fail")
        with self.assertRaisesRegex(Misconfigured, "DKIM key"):
            self.hand_over(self.server(), selector="post", signing_key="no key")

    def kept_open(self, server: Server) -> mail.Mailer:
        return dataclasses.replace(sender(server.port), idle=mail.Idle())

    def test_one_line_takes_letter_after_letter(self) -> None:
        server = self.server()
        mailer = self.kept_open(server)
        for n in range(3):
            mail.send(mailer, mail.compose(mailer, Letter(to=("b@a.example",), subject=str(n), text="t"), f"k{n}", 0.0, {}))
        self.assertEqual(len(server.kept), 3)
        self.assertEqual([line.split()[0] for line in server.commands].count("EHLO"), 1)
        self.assertNotIn("QUIT", server.commands)

    def test_a_line_that_died_meanwhile_costs_no_letter_and_doubles_none(self) -> None:
        for command, answer in ((".", "250 kept"), ("MAIL", "421 too long idle")):
            served: list[str] = []

            def says(line: str, at: str = command, said: str = answer, served: list[str] = served) -> str | None:
                served.append(line)
                first = sum(one.startswith("MAIL") for one in served) == 1
                if at == "MAIL":
                    return said if line.startswith("MAIL") and sum(one.startswith("MAIL") for one in served) == 2 else ""
                return said if line == at and first else ""

            server = self.server(says)
            mailer = self.kept_open(server)
            for n in range(2):
                mail.send(mailer, mail.compose(mailer, Letter(to=("b@a.example",), subject=str(n), text="t"), f"k{n}", 0.0, {}))
                if command == ".":
                    mailer.idle._waiting[-1][1].sock.shutdown(socket.SHUT_RDWR)  # type: ignore[union-attr]
            with self.subTest(command=command):
                self.assertEqual(len(server.kept), 2)
                self.assertEqual([line.split()[0] for line in server.commands].count("EHLO"), 2, "a new line was opened")

    def test_a_refusal_is_told_and_the_next_letter_begins_anew(self) -> None:
        server = self.server(lambda line: "550 5.1.1 no" if "gone@" in line else "")
        mailer = self.kept_open(server)
        gone = mail.compose(mailer, Letter(to=("gone@a.example",), subject="s", text="t"), "k1", 0.0, {})
        with self.assertRaises(AddressRefused):
            mail.send(mailer, gone)
        mail.send(mailer, mail.compose(mailer, Letter(to=("b@a.example",), subject="s", text="t"), "k2", 0.0, {}))
        self.assertEqual(len(server.kept), 1)

    def test_in_one_go_where_the_server_takes_it_so_and_asked_just_before_it_goes(self) -> None:
        def letter(to: str, key: str) -> EmailMessage:
            return mail.compose(mailer, Letter(to=(to,), subject="s", text="t"), key, 0.0, {})

        def ask(asked: list[str], word: str) -> Callable[[], bool]:
            return lambda: bool(asked.append(word)) or word == "yes"

        for features in (("PIPELINING",), ()):
            with self.subTest(features=features):
                server = self.server(lambda line: "550 5.1.1 no" if "gone@" in line else "", features)
                mailer = self.kept_open(server)
                asked: list[str] = []
                self.assertTrue(mail.send(mailer, letter("b@a.example", "k1"), ask(asked, "yes")))
                self.assertFalse(mail.send(mailer, letter("c@a.example", "k2"), ask(asked, "no")))
                with self.assertRaises(AddressRefused):
                    mail.send(mailer, letter("gone@a.example", "k3"), lambda: True)
                self.assertTrue(mail.send(mailer, letter("d@a.example", "k4")))
                self.assertEqual(asked, ["yes", "no"], "once each")
                self.assertEqual(len(server.kept), 2)
                words = [line.split()[0] for line in server.commands]
                self.assertEqual((words.count("EHLO"), words.count("RSET"), words.count("DATA")), (1, 2, 2))

    def test_a_server_that_hangs_up_after_its_refusal_has_refused_all_the_same(self) -> None:
        for features in (("PIPELINING",), ()):
            server = self.server(lambda line: "550 5.1.1 no" if "gone@" in line else None if line == "RSET" else "", features)
            mailer = self.kept_open(server)
            with self.subTest(features=features):
                with self.assertRaises(AddressRefused):
                    mail.send(mailer, mail.compose(mailer, Letter(to=("gone@a.example",), subject="s", text="t"), "k1", 0.0, {}))
                mail.send(mailer, mail.compose(mailer, Letter(to=("b@a.example",), subject="s", text="t"), "k2", 0.0, {}))
                self.assertEqual(len(server.kept), 1)

    def test_a_line_that_died_meanwhile_asks_once_only(self) -> None:
        served: list[str] = []

        def says(line: str) -> str | None:
            served.append(line)
            second = sum(one.startswith("MAIL") for one in served) == 2
            return "421 too long idle" if second and line.startswith("MAIL") else ""

        server = self.server(says, ("PIPELINING",))
        mailer = self.kept_open(server)
        asked: list[int] = []
        for n in range(2):
            one = mail.compose(mailer, Letter(to=("b@a.example",), subject=str(n), text="t"), f"k{n}", 0.0, {})
            self.assertTrue(mail.send(mailer, one, lambda n=n: not asked.append(n)))  # type: ignore[misc]
        self.assertEqual((asked, len(server.kept)), ([0, 1], 2))

    def test_the_certificate_is_looked_at(self) -> None:
        server = self.server(features=("STARTTLS",))
        mailer = mail.Mailer("127.0.0.1", server.port, True, "", "", "a@a.example", "")
        with mock.patch.object(smtp, "PATIENCE", 2.0), self.assertRaises(OutsideError) as caught:
            mail.send(mailer, mail.compose(mailer, Letter(to=("b@a.example",), subject="s", text="t"), "k", 0.0, {}))
        self.assertFalse(caught.exception.ambiguous)
        self.assertEqual(server.kept, [], "nothing is said in the open")
