"""Approvals answered by mail through Postfix and Dovecot, as mail programs really write their replies."""

from __future__ import annotations

import smtplib
from email.message import EmailMessage
from email.mime.text import MIMEText
from typing import Any

from tests.peers.servers import DOVECOT, POSTFIX, Dovecot, Postfix, needs
from tests.runtime.house import WithHouse, page
from ulmus.runtime import workflows
from ulmus.store import tables

INES = "ines@lead.example"
OUTLOOK = """<html><head><meta http-equiv="Content-Type" content="text/html; charset=utf-8"><style>p.MsoNormal{{margin:0}}</style></head>
<body lang="EN-GB"><div class="WordSection1"><p class="MsoNormal">{text}</p><p class="MsoNormal">&nbsp;</p>
<div style="border:none;border-top:solid #E1E1E1 1.0pt;padding:3.0pt 0cm 0cm 0cm"><p class="MsoNormal"><b>From:</b> Ulmus &lt;drafts@town.test&gt;<br>
<b>Sent:</b> Saturday, 28 November 2026 17:12<br><b>To:</b> Ines<br><b>Subject:</b> To approve</p></div>
<p class="MsoNormal">A draft waits for your word. Not this, but only that.</p></div></body></html>"""


@needs(POSTFIX)
@needs(DOVECOT)
class Replies(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.post = Postfix()
        self.addCleanup(self.post.stop)
        self.box = Dovecot(self.post)
        self.addCleanup(self.box.stop)
        self.reach(self.post.port)
        self.reach(self.box.port)
        with self.services.store.write() as session:
            sends = {"host": "127.0.0.1", "port": self.post.port, "starttls": False, "sender": "drafts@town.test"}
            reads = {"host": "127.0.0.1", "port": self.box.port, "tls": False, "user": "box@lead.example", "plus": True}
            session.add(tables.Connection(key="post", kind="mail", name="Post", settings=sends))
            sealed = self.services.sealer.seal({"password": "practice"})
            session.add(tables.Connection(key="replies", kind="mailbox", name="Box", settings=reads, sealed=sealed))
        id_ = self.made(page(self.town.url, editor={"who": INES, "mail": "post", "replies": "replies"}))
        workflows.go_live(self.engine, id_, INES)
        self.workflow = id_

    def asked(self) -> tuple[int, EmailMessage]:
        before = len(self.told())
        run = self.new_item(self.workflow)
        self.question(run)
        self.wait_for(lambda: len(self.told()) > before, lambda: str([str(one["Subject"]) for one in self.post.letters()]), 30)
        return run, self.told()[-1]

    def told(self) -> list[EmailMessage]:
        """The mails that told of a draft."""
        return [one for one in self.post.letters() if str(one["Subject"]).strip().startswith("To approve")]

    def send(self, to: EmailMessage, body: Any, thread: bool = True, sender: str = f"Ines Varga <{INES}>", **heads: str) -> None:
        """A reply, through Postfix; without `thread` it carries none of what it answers."""
        body["From"] = sender
        body["To"] = str(to["Reply-To"])
        body["Subject"] = heads.pop("Subject", f"Re: {to['Subject']}")
        if thread:
            body["In-Reply-To"] = body["References"] = to["Message-ID"]
        for name, value in heads.items():
            body[name.replace("_", "-")] = value
        with smtplib.SMTP("127.0.0.1", self.post.port, timeout=20) as line:
            line.send_message(body, INES, str(to["Reply-To"]))

    def state(self, run: int) -> list[str]:
        with self.services.store.read() as session:
            return [one.state for one in session.query(tables.Approval).filter_by(run_id=run).order_by(tables.Approval.id)]

    def until_state(self, run: int, *states: str) -> None:
        def there() -> bool:
            self.engine.returns.look("replies")
            return self.state(run) == list(states)

        self.wait_for(there, lambda: str(self.state(run)), 30)

    def quoted(self, to: EmailMessage) -> str:
        body = to.get_body(("plain",))
        assert body is not None
        return "\n".join(f"> {line}" for line in str(body.get_content()).splitlines())

    def test_as_mail_programs_write_them(self) -> None:
        head = "On Sat, 28 Nov 2026 at 17:12, Ulmus <drafts@town.test> wrote:"
        run, asked = self.asked()
        self.send(
            asked, MIMEText(f"Yes, thank you!\n\n-- \nInes Varga\nMarrowbank\n\n{head}\n{self.quoted(asked)}\n", "plain", "utf-8")
        )
        self.until_state(run, "approve")
        run, asked = self.asked()
        self.send(asked, MIMEText(f"{head}\n{self.quoted(asked)}\n\nLooks good to me.\n", "plain", "utf-8"))
        self.until_state(run, "approve")
        run, asked = self.asked()
        self.send(asked, MIMEText(OUTLOOK.format(text="Perfect, thanks"), "html", "utf-8"), thread=False)
        self.until_state(run, "approve")
        run, asked = self.asked()
        german = (
            f"Nein, bitte kürzer und mit dem Preis für Gemüse.\n\nAm 28.11.2026 um 17:12 schrieb Ulmus:\n{self.quoted(asked)}\n"
        )
        self.send(asked, MIMEText(german.encode("iso-8859-1", "replace").decode("iso-8859-1"), "plain", "iso-8859-1"))
        self.until_state(run, "back", "open")
        with self.services.store.read() as session:
            note = session.query(tables.Approval).filter_by(run_id=run, state="back").one().note
        self.assertEqual(note, "Nein, bitte kürzer und mit dem Preis für Gemüse.")

    def test_what_decides_nothing(self) -> None:
        run, asked = self.asked()
        away = MIMEText(f"Yes, I am away until Monday.\n\n{self.quoted(asked)}", "plain", "utf-8")
        self.send(asked, away, Subject="Automatic reply: To approve", Auto_Submitted="auto-replied")
        forwarded = f"\n---------- Forwarded message ---------\nFrom: Ulmus\nSubject: To approve\n\n{self.quoted(asked)}\nYes\n"
        self.send(asked, MIMEText(forwarded, "plain", "utf-8"), Subject="Fwd: To approve")
        self.send(asked, MIMEText("Yes", "plain", "utf-8"), sender="Eve <eve@lead.example>")
        run2, asked2 = self.asked()
        self.send(asked2, MIMEText("Yes", "plain", "utf-8"))
        self.until_state(run2, "approve")
        self.assertEqual(self.state(run), ["open"])
