"""Micropub and SMTP against the practice town: posting once, finding out, mail handed over or refused."""

from __future__ import annotations

from email.message import EmailMessage
from urllib.parse import parse_qsl

from tests.protocols.outside import WithTown, answering, get, raw
from ulmus.core import pieces
from ulmus.protocols import mail, micropub, smtp
from ulmus.protocols.errors import OutsideError


class Posting(WithTown):
    @property
    def endpoint(self) -> micropub.Endpoint:
        return micropub.Endpoint(f"{self.town.url}/pondside/micropub", "pond-token")

    def post(self, text: str = "Seed is here. #Seed", key: str = "k1") -> str:
        return micropub.create(self.web, self.endpoint, micropub.Post(text, key)).link

    def test_a_post_appears_on_the_networks_own_page(self) -> None:
        link = self.post("Beans & “peas” <b>today</b>")
        self.assertIn("/pondside/posts/1", link)
        self.assertIn("Beans &amp; “peas” &lt;b&gt;today", get(link).text)
        self.assertEqual(len(self.town.state.posts), 1)

    def test_the_same_key_is_the_same_post(self) -> None:
        self.assertEqual(self.post(key="same"), self.post(key="same"))
        self.assertEqual(len(self.town.state.posts), 1)

    def test_too_long_is_refused_in_the_networks_words(self) -> None:
        with self.assertRaisesRegex(OutsideError, "at most 300 characters; this one has 301") as caught:
            self.post("x" * 301)
        self.assertFalse(caught.exception.retryable or caught.exception.ambiguous)

    def test_a_wrong_key_is_refused(self) -> None:
        with self.assertRaisesRegex(OutsideError, "may not post here"):
            micropub.create(self.web, micropub.Endpoint(self.endpoint.url, "wrong"), micropub.Post("x", "k"))

    def test_busy_and_down_took_nothing(self) -> None:
        self.fault("network", "busy", 1)
        with self.assertRaises(OutsideError) as caught:
            self.post()
        self.assertTrue(caught.exception.retryable)
        self.assertFalse(caught.exception.ambiguous)
        self.fault("network", "down", 1)
        with self.assertRaises(OutsideError) as caught:
            self.post()
        self.assertTrue(caught.exception.ambiguous)
        self.assertEqual(self.town.state.posts, [])

    def test_a_reply_that_is_lost_leaves_doubt_and_asking_ends_it(self) -> None:
        self.fault("network", "lost", 1)
        with self.assertRaises(OutsideError) as caught:
            self.post(key="lost-one")
        self.assertTrue(caught.exception.ambiguous)
        self.assertEqual(micropub.find(self.web, self.endpoint, "other"), micropub.Looked(tells=True))
        self.assertIn("/pondside/posts/1", micropub.find(self.web, self.endpoint, "lost-one").link or "")

    def test_a_network_that_cannot_be_asked_says_so(self) -> None:
        self.fault("network", "mute", 1)
        with self.assertRaises(OutsideError):
            self.post(key="mute-one")
        looked = micropub.find(self.web, self.endpoint, "mute-one")
        self.assertEqual((looked.link, looked.tells), (None, False))

    def test_answers_of_another_protocol_are_no_evidence(self) -> None:
        for body in (b"[]", b"{}", b"<p>hello", b'{"items": [3]}', b'{"items": {}}'):
            server, web = raw(self, answering(body, "Content-Type: application/json\r\n"))
            with self.subTest(body=body):
                found = micropub.find(web, micropub.Endpoint(server.url, ""), "k")
                self.assertEqual((found.link, found.tells), (None, False))

    def test_a_test_of_the_connection_knows_another_protocol(self) -> None:
        server, web = raw(self, answering(b"[1]", "Content-Type: application/json\r\n"))
        with self.assertRaisesRegex(OutsideError, "not one of the Micropub protocol"):
            micropub.config(web, micropub.Endpoint(server.url, ""))

    def test_what_is_sent_is_micropub(self) -> None:
        server, web = raw(self, answering(b"", "Location: /posts/9\r\n", "201 Created"))
        endpoint = micropub.Endpoint(server.url + "mp", "tok")
        made = micropub.create(web, endpoint, micropub.Post("Hello & more", "k9", ("seed",)))
        self.assertEqual(made, micropub.Created(server.url + "posts/9", True))
        head, body = server.requests[-1].decode().split("\r\n\r\n", 1)
        self.assertIn("authorization: bearer tok", head.lower())
        self.assertIn('idempotency-key: "k9"', head.lower())
        self.assertEqual(parse_qsl(body), [("h", "entry"), ("content", "Hello & more"), ("uid", "k9"), ("category[]", "seed")])

    def test_form_encoded_posts_are_taken_too(self) -> None:
        got = self.web.fetch(
            self.endpoint.url,
            method="POST",
            data={"h": "entry", "content": "By form"},
            headers={"Authorization": "Bearer pond-token"},
        )
        self.assertEqual(got.status, 201)
        self.assertEqual(self.town.state.posts[0]["content"], "By form")


def written(mailer: mail.Mailer, to: str = "b@a.example", subject: str = "s", text: str = "t", html: str = "<p>t") -> EmailMessage:
    letter = pieces.Letter(to=(to,), subject=subject, text=text, html=html)
    return mail.compose(mailer, letter, "k1", 1_800_000_000.0, {})


class Mail(WithTown):
    @property
    def mailer(self) -> mail.Mailer:
        return mail.Mailer("127.0.0.1", self.town.smtp_port, False, "", "", "drafts@a.example", "Drafts")

    def letter(self, to: str = "ines@a.example", subject: str = "To approve: Grüße") -> None:
        mail.send(self.mailer, written(self.mailer, to, subject, "Text: Grüße", "<p>Grüße</p>"))

    def test_a_mail_arrives_as_written(self) -> None:
        self.letter()
        kept = self.town.state.mails[0]
        self.assertEqual(
            (kept["to"], kept["subject"], kept["message_id"]), ("ines@a.example", "To approve: Grüße", "<k1@a.example>")
        )
        self.assertIn("Grüße", kept["text"])
        self.assertIn("To approve", get(f"{self.town.url}/mail/").text)
        self.assertIn("Text: Grüße", get(f"{self.town.url}/mail/1").text)

    def test_a_subject_cannot_carry_a_second_header(self) -> None:
        self.letter(subject="Hello\r\nBcc: all@a.example")
        self.assertEqual(self.town.state.mails[0]["subject"], "Hello Bcc: all@a.example")

    def test_busy_may_be_tried_again_and_refused_may_not(self) -> None:
        for mode, again in (("busy", True), ("refuse", False)):
            self.fault("mail", mode, 1)
            with self.subTest(mode=mode), self.assertRaises(OutsideError) as caught:
                self.letter()
            self.assertEqual(caught.exception.retryable, again)
            self.assertFalse(caught.exception.ambiguous)

    def test_nobody_listens(self) -> None:
        nobody = mail.Mailer("127.0.0.1", 9, False, "", "", "a@a.example", "")
        with self.assertRaisesRegex(OutsideError, "connection refused"):
            mail.send(nobody, written(nobody))

    def test_probing_sends_nothing(self) -> None:
        self.assertEqual(mail.probe(self.mailer), "127.0.0.1")
        self.assertEqual(self.town.state.mails, [])

    def test_a_line_that_breaks_after_the_text_leaves_doubt(self) -> None:
        def breaks(line: object) -> None:
            assert hasattr(line, "sendall")
            line.sendall(b"220 hello\r\n")  # type: ignore[attr-defined]
            for reply in (b"250 hi\r\n", b"250 ok\r\n", b"250 ok\r\n", b"354 go\r\n"):
                line.recv(4096)  # type: ignore[attr-defined]
                line.sendall(reply)  # type: ignore[attr-defined]
            line.recv(65536)  # type: ignore[attr-defined]

        import socket
        import threading

        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)

        def serve() -> None:
            line, _ = listener.accept()
            with line:
                breaks(line)

        threading.Thread(target=serve, daemon=True).start()
        mailer = mail.Mailer("127.0.0.1", listener.getsockname()[1], False, "", "", "a@a.example", "")
        with self.assertRaises(OutsideError) as caught:
            mail.send(mailer, written(mailer))
        self.assertTrue(caught.exception.ambiguous)


class Refusals(WithTown):
    """What a mail server says of a recipient, told as what it is."""

    def told(self, code: int, said: bytes) -> OutsideError:
        return smtp.recipient_refused("ines@a.example", code, said)

    def test_for_now_for_this_sender_and_for_good(self) -> None:
        for code, said, again, words in (
            (450, b"4.2.0 greylisted", True, "at the moment"),
            (452, b"4.2.2 mailbox full", True, "at the moment"),
            (550, b"5.7.1 relaying denied", False, "does not send on"),
            (554, b"Relay access denied", False, "does not send on"),
            (550, b"5.1.1 no such user", False, "does not know"),
        ):
            with self.subTest(said=said):
                error = self.told(code, said)
                self.assertEqual(error.retryable, again)
                self.assertIn(words, error.message)

    def test_a_letter_is_dated_and_has_an_id_of_the_houses_own(self) -> None:
        mailer = mail.Mailer("h", 25, False, "", "", "drafts@a.example", "")
        letter = written(mailer)
        self.assertEqual((letter["Message-ID"], letter["Date"]), ("<k1@a.example>", "Fri, 15 Jan 2027 08:00:00 +0000"))
