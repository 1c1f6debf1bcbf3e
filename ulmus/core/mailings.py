"""A mailing's letters: what is the same for all is made once, and each reader's is filled in from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from . import slots
from .pieces import Letter, Mailing

READER = "reader"
"""What a reader's values are called in a mailing's texts."""
LEAVE = "leave"
"""What the address where a reader leaves is called there."""
_LEAVE_MARK = f"<<{LEAVE}>>"
TO = "to"
"""What the addresses are called there that lead to a mailing's links, and count that."""


def set_aside(word: str) -> slots.SetAside:
    """What is filled in for each reader. `word` must stand in no text."""
    return slots.SetAside(word, READER)


def way_out(aside: slots.SetAside) -> str:
    """The word that stands for the address where a reader leaves."""
    return aside.word_for(_LEAVE_MARK)


def way_to(aside: slots.SetAside, number: int) -> str:
    """The word that stands for a link, by its number from 0."""
    return aside.word_for(f"<<{TO}[{number + 1}]>>")


class Composer:
    """Makes the letters of a mailing. Raises `slots.Unbalanced` where it cannot be taken apart."""

    def __init__(self, mailing: Mailing) -> None:
        self.mailing = mailing
        self._subject, self._text = (self._apart(text) for text in (mailing.subject, mailing.text))
        self._html = self._apart(mailing.html, page=True)

    def _apart(self, text: str, page: bool = False) -> slots.Later:
        marks = self.mailing.marks
        return slots.taken_apart(text, self.mailing.word, [m.mark for m in marks], [m.given for m in marks], page)

    def letter(self, address: str, fields: Mapping[str, Any], leave: str, to: Sequence[str] = ()) -> Letter:
        """The letter of the reader at an address, who leaves at `leave`; `to` are the addresses that stand for its links, which are
        the links themselves where nothing is counted."""
        mailing = self.mailing
        values = {READER: fields, LEAVE: leave, TO: list(to or mailing.links)}
        return Letter(
            sender=mailing.sender,
            to=(address,),
            reply_to=mailing.reply_to,
            subject=" ".join(self._subject.filled(values).split()),
            text=self._text.filled(values),
            html=self._html.filled(values),
            files=mailing.files,
            mailing=mailing.name,
            leave=leave,
        )


def columns_read(texts: list[str]) -> frozenset[str]:
    """The columns of the list that texts read of each reader."""
    paths = (path for text in texts for path in slots.parse(text).reads)
    return frozenset(str(path.parts[1]) for path in paths if path.root == READER and len(path.parts) > 1)
