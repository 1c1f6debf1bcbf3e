"""A yes or no in free words: plain ones by rule, and what turns a yes round never one."""

from __future__ import annotations

import unittest
from email.message import EmailMessage

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.assent import read
from ulmus.protocols.mailbox import answer_in
from ulmus.protocols.quoting import written

YES = (
    "Yes", "yes please!", "OK", "Ok, thanks", "Looks good to me.", "Perfect, thank you very much", "Approved ✅", "👍", "Go ahead", "Fine, publish it.",
    "Ja", "Ja, gerne!", "Passt, danke", "Sieht gut aus", "Kann so raus", "Einverstanden.", "In Ordnung",
    "Oui", "Oui, merci", "D'accord", "C’est bon pour moi", "Très bien, merci beaucoup",
    "Sí", "Si, gracias", "Vale", "De acuerdo", "Muy bien, gracias", "Sì, va bene", "Perfetto, grazie", "D’accordo",
    "Sim", "Tudo bem, obrigada", "Pode publicar", "Akkoord", "Prima, bedankt", "Ga je gang",
)  # fmt: skip
NEVER = (
    "Yes, but shorter", "Ok if the price is right", "Only the first one", "Yes, rather tomorrow", "Fine except the last line", "Good, without the emoji",
    "Ja, aber kürzer", "Gut, nur der Preis stimmt nicht", "Passt, wenn der Link raus ist", "Lieber morgen", "Oui, mais sans le prix",
    "D'accord sauf le titre", "Sí, pero más corto", "Vale, solo sin el precio", "Sì, ma più breve", "Perfetto tranne il titolo",
    "Sim, mas sem o preço", "Akkoord, maar korter", "Prima, behalve de titel", "Yes?", "Is this ok?", "Not ok", "no yes", "Yes when Ines is back",
    "I am away until Monday", "Who wrote this?", "The price is wrong", "Good morning, what is this about", "Good morning", "Hello, good morning!", "Send it to me", "Ok, send me the post", "Is it ok", "is this good",
    "Ok, send it to Otto", "👍👎", "Good day", "Guten Morgen", "Publish it with me", "Can you send it", "", "...", "Do not publish yet",
    "Okay, change the title", "Send it after lunch", "ja nicht", "Nicht gut", "This is not good", "pas d'accord", "no estoy de acuerdo",
)  # fmt: skip


class Assent(unittest.TestCase):
    def test_not_like_this_is_a_note(self) -> None:
        for text in ("Not like this, because it is too long", "Nicht so, es fehlt der Preis", "Pas comme ça, dites le prix"):
            self.assertEqual(read(text).meaning, "note", text)
        self.assertNotEqual(read("Not bad at all").meaning, "note")

    def test_a_plain_yes_in_seven_languages(self) -> None:
        for text in YES:
            self.assertEqual(read(text).meaning, "yes", text)

    def test_what_turns_it_round_is_never_a_yes(self) -> None:
        for text in NEVER:
            self.assertNotEqual(read(text).meaning, "yes", text)

    def test_the_writer_s_own_name_says_nothing_and_nobody_else_s(self) -> None:
        self.assertEqual(read("Yes, looks good.\n\nInes", "Ines Varga").meaning, "yes")
        self.assertEqual(read("Yes, looks good. Ask Otto.", "Ines Varga").meaning, "unclear")
        self.assertEqual(read("No", "No Way").meaning, "no")
        self.assertNotEqual(read("Yes, but please", "Joe But").meaning, "yes")

    def test_a_turned_yes_is_a_note_and_so_is_a_no_with_words(self) -> None:
        for text in ("Yes, but shorter please", "Ja, aber bitte kürzer", "No, the price is wrong", "Nein, der Titel ist falsch"):
            self.assertEqual((read(text).meaning, read(text).note), ("note", text))

    def test_a_bare_no_and_a_decline(self) -> None:
        for text in ("No.", "Nein", "non", "Nee", "Not like this!"):
            self.assertEqual(read(text).meaning, "no", text)
        for text in ("Decline", "declined.", "Drop it", "Ablehnen", "Don’t publish", "Rejeter"):
            self.assertEqual(read(text).meaning, "decline", text)

    @given(
        st.sampled_from(YES),
        st.sampled_from(("but", "only", "if", "rather", "aber", "mais", "pero", "maar")),
        st.text("abc d", max_size=20),
    )
    def test_whatever_stands_behind_a_but(self, yes: str, turn: str, rest: str) -> None:
        self.assertNotEqual(read(f"{yes} {turn} {rest}").meaning, "yes")

    @given(st.text(max_size=200))
    def test_any_text_is_read(self, text: str) -> None:
        self.assertIn(read(text).meaning, ("yes", "no", "decline", "note", "unclear"))


class Quoted(unittest.TestCase):
    REPLIES = (
        ("Yes, go ahead!\n\nOn Sat, Nov 28, 2026 at 5:12 PM Ulmus <desk@marrow.example> wrote:\n> A draft waits.\n> Yes or no?\n", "Yes, go ahead!"),
        ("Ja, gerne.\n\nViele Grüße\nInes\n\nAm 28.11.2026 um 17:12 schrieb Ulmus:\n> A draft waits\n", "Ja, gerne."),
        ("Oui c'est bon\n\nLe sam. 28 nov. 2026 à 17:12, Ulmus <desk@m.example> a écrit :\n\n> A draft\n", "Oui c'est bon"),
        ("> A draft waits.\n> Beans are back, but only if it rains.\n\nShorter please.\n", "Shorter please."),
        ("Vale\n\nEnviado desde mi telefono\n\nEl sáb, 28 nov 2026 a las 17:12, Ulmus (<d@m.example>) escribió:\n> hola", "Vale"),
        ("Sì, va bene\n\nIl giorno sab 28 nov 2026 alle ore 17:12 Ulmus <d@m.example> ha scritto:\n> ciao\n", "Sì, va bene"),
        ("Ok.\n\n-----Original Message-----\nFrom: Ulmus\nSent: Saturday\nTo: Ines\nSubject: To approve\n\nNo draft waits", "Ok."),
        ("No - the price is wrong.\n\n-- \nInes Varga\nYes Editor", "No - the price is wrong."),
        ("Akkoord!\n\nOp za 28 nov. 2026 om 17:12 schreef Ulmus <d@m.example>:\n> hoi", "Akkoord!"),
        ("Sim.\r\n\r\nEm sáb., 28 de nov. de 2026 às 17:12, Ulmus <d@m.example> escreveu:\r\n> oi", "Sim."),
        ("> Beans are back.\nBeans, never!\n> Come by.\nGood.", "Beans, never!\nGood."),
    )  # fmt: skip

    def test_what_somebody_wrote_above_below_and_between(self) -> None:
        for mail, said in self.REPLIES:
            self.assertEqual(written(mail), said)

    def test_answers_in_html_alone_and_in_other_encodings(self) -> None:
        quoted = "<p>A draft waits. “yes” alone lets it out, but only this.</p>"
        for page, said in (
            (f"<div>Yes, go ahead</div><div class='mail_quote'>On Sat Ulmus wrote:<blockquote>{quoted}</blockquote></div>", "yes"),
            (f"<p>Ja, gerne</p><blockquote type=cite>{quoted}</blockquote>", "yes"),
            (f"<p>Oui, mais sans le prix</p><hr><div id='divRplyFwdMsg'>From: Ulmus</div><div>{quoted}</div>", "note"),
            (f"<blockquote>{quoted}</blockquote><p>Shorter, please</p>", "unclear"),
            (f"<p>Yes</p>{quoted}", "note"),  # quoted without any mark: it is taken for theirs, and never for a yes
        ):
            for charset in ("utf-8", "utf-16"):
                mail = EmailMessage()
                mail["From"], mail["In-Reply-To"] = "ines@a.example", "<x@a.example>"
                mail.set_content(f"<html><body>{page}</body></html>", subtype="html", charset=charset)
                answer = answer_in(mail.as_bytes())
                assert answer is not None
                self.assertEqual(read(written(answer.text)).meaning, said, page)

    @given(st.text(max_size=300))
    def test_any_mail_is_read(self, text: str) -> None:
        written(text)
