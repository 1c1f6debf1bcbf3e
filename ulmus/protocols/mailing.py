"""The letters of a mailing made into mails, many at a time, so that it can be done in a process of its own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ..core import slots
from ..core.mailings import Composer
from ..core.pieces import Mailing
from . import mail, smtp
from .errors import Misconfigured

APART = 200
"""From so many letters on a process of its own is worth beginning."""


@dataclass(frozen=True)
class To:
    """Whom a letter is for: the address, what it is filled in with, where its reader leaves, the key it is known by, and what
    stands for its links."""

    address: str
    fields: Mapping[str, Any]
    leave: str
    key: str
    to: tuple[str, ...] = ()


def plain(mailer: mail.Mailer) -> mail.Mailer:
    """A mail server as far as making mails needs to know it, which can be handed to another process."""
    return replace(mailer, password="", reach=_nowhere, idle=None)


def _nowhere(host: str, port: int) -> str:
    raise Misconfigured("Mails are only made here.")


def made(
    mailer: mail.Mailer, mailing: Mailing, opened: Mapping[str, tuple[str, str, bytes]], letters: Sequence[To], now: float
) -> list[smtp.Ready | str]:
    """The mails, in order; in the place of one that cannot be made, why. Raises `Misconfigured` where none can."""
    try:
        composer = Composer(mailing)
    except slots.Unbalanced as error:
        raise Misconfigured(str(error)) from None
    many = mail.Many(mailer, mailing.first, opened)
    out: list[smtp.Ready | str] = []
    for to in letters:
        try:
            out.append(many.mail(composer.letter(to.address, to.fields, to.leave, to.to), to.key, now))
        except Misconfigured:
            raise
        except Exception as error:
            out.append(f"This letter cannot be made ({type(error).__name__}).")
    return out
