"""Assent: what a person says of a draft in a few free words, read by rule.

A plain yes is one of nothing but words of assent and courtesy; a reply that turns anything round (*but*, *only*, *if*, *rather*) is never
a yes. What no rule reads is `unclear` here, and somebody else's to read.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from .languages import words
from .text import normal

Meaning = Literal["yes", "no", "decline", "note", "changed", "unclear"]
"""`changed` is never read by rule: the text itself, written anew by the person, as a model reads it."""

_YES = sorted(
    (
        *words(
            "yes yep yeah yup ok okay okey k fine good great perfect approved approve agreed excellent lovely super sure absolutely"
            " ja jawohl jo jep passt gut prima perfekt freigegeben einverstanden genehmigt gerne gern klasse toll"
            " oui parfait validé validée approuvé approuvée accord impeccable"
            " sí si vale perfecto perfecta aprobado aprobada adelante conforme"
            " sì perfetto perfetta approvato approvata procedi procedete"
            " sim perfeito perfeita aprovado aprovada"
            " akkoord oké prima goed goedgekeurd perfect"
        ),
        "go ahead", "looks good", "looks good to me", "looks fine", "sounds good", "all good", "ship it", "send it", "send it out", "publish it",
        "good to go", "well done", "no changes", "fine by me", "fine with me", "good for me", "works for me", "go with it",
        "sieht gut aus", "alles gut", "kann raus", "kann so raus", "in ordnung", "so machen", "machen wir so", "kannst du senden",
        "c'est bon", "d'accord", "très bien", "allez-y", "vas-y", "tout est bon",
        "de acuerdo", "muy bien", "está bien", "todo bien", "publícalo",
        "va bene", "d'accordo", "molto bene", "tutto bene", "pubblica pure",
        "está bem", "tudo bem", "muito bem", "de acordo", "pode publicar", "pode enviar",
        "ga je gang", "ziet er goed uit", "is goed", "ga maar", "👍", "✅", "👌", "🙌",
    ),
    key=len,
    reverse=True,
)  # fmt: skip
_NO = frozenset(
    (
        *words("no nope nein ne non nee não nicht jamais never 👎 ❌"),
        *("not yet", "not like this", "so nicht", "pas comme ça", "así no", "così no", "assim não", "zo niet"),
    )
)
_DECLINE = frozenset(
    (
        *words(
            "decline declined reject rejected drop cancel verwerfen verworfen ablehnen abgelehnt rejeter refusé refuser rechazar rechazado"
        ),
        *words("rifiuta rifiutato rejeitar rejeitado recusar afwijzen afgewezen"),
        *("drop it", "do not publish", "don't publish", "not at all", "nicht veröffentlichen", "ne pas publier", "no publicar"),
        *("non pubblicare", "não publicar", "niet publiceren"),
    )
)
_COURTESY = frozenset(
    words(
        "please thanks thank you very much many so it is that this all and i we think really just now hi hello dear ulmus cheers best regards"
        " bitte danke vielen dank das so ist und von mir ich finde es sehr schön hallo liebe grüße viele raus gern"
        " merci beaucoup s'il vous plaît plait te pour moi c'est le la bonjour salut"
        " gracias por favor muchas mí lo la buenos días hola"
        " grazie mille per me prego ciao buongiorno"
        " obrigado obrigada por mim favor olá bom dia muito"
        " bedankt dank je wel alsjeblieft wat mij betreft hoi dag"
    )
)
_TURNS = frozenset(
    words(
        "but only if except unless rather instead however although though change changed remove delete replace without shorter longer not after once"
        " when until wait almost nearly first"
        " aber nur wenn falls außer ausser statt lieber jedoch obwohl ändern ändere kürzer länger ohne streichen nicht erst sobald bis fast"
        " mais seulement si sauf plutôt cependant changer sans supprimer pas quand presque"
        " pero solo sólo salvo mejor aunque cambiar sin quitar cuando casi"
        " ma soltanto tranne piuttosto invece cambiare senza quando quasi"
        " mas só exceto melhor embora mudar sem tirar quando quase"
        " maar alleen als behalve liever hoewel veranderen zonder korter langer niet pas zodra bijna"
    )
)
_GREETINGS = (
    "good morning", "good afternoon", "good evening", "good day", "good night", "good weekend", "have a good", "guten morgen", "guten tag",
    "guten abend", "goed weekend", "goede morgen", "from my side", "from me", "von meiner seite",
)  # fmt: skip
"""What is said without meaning a yes, though words of a yes stand in it."""
_ASKS = frozenset(
    words(
        "is are was does do did can could should would will shall may who what when where why which how ist sind kann soll darf wer was wann wo"
        " warum welche est-ce qui quoi quand où pourquoi qué quién cuándo dónde puede chi cosa quando dove può quem onde pode kan mag wie wat waar"
    )
)
_AGAINST = frozenset(("not", "don't", "nicht", "pas", "niet"))
"""What a note begins with: “not like this, because …”."""
_SIGN = re.compile(r"[^\w'’-]+")


@dataclass(frozen=True)
class Said:
    """What was meant, and the words that go with it."""

    meaning: Meaning
    note: str = ""


def read(text: str, name: str = "") -> Said:
    """What a reply means, as far as rules tell: ``yes`` and ``decline`` in so many words, ``no`` without saying what should be
    different, a ``note`` for what begins with a no or turns a yes round, else ``unclear``. The writer's own `name` says nothing."""
    plain = normal(text).strip().casefold().replace("’", "'")
    if not plain:
        return Said("unclear")
    said = [word.strip("'-") for word in _SIGN.split(plain) if word.strip("'-")]
    shown = any(sign in plain for sign in _YES if not sign[0].isalnum()) and not any(sign in plain for sign in "👎❌")
    if not said:
        return Said("yes" if shown else "unclear")
    # What turns it round is looked for in all of it, also in a name.
    turned = _turned(plain, said)
    own = {word for word in _SIGN.split(normal(name).casefold()) if len(word) > 1}
    said = [word for n, word in enumerate(said) if n == 0 or word not in own]
    bare = " ".join(said)
    if bare in _DECLINE:
        return Said("decline")
    if _without(bare, _NO) == "" and "?" not in text:
        return Said("no")
    asks = "?" in plain or "？" in plain or (said[0] in _ASKS and not any(f"{bare} ".startswith(f"{one} ") for one in _YES))
    meant = _without(bare, _GREETINGS)
    yes = shown or _has(meant, _YES)
    left = _without(meant, _YES)
    if yes and not turned and not asks and all(word in _COURTESY or word == "si" for word in left.split()):
        return Said("yes")
    against = said[0] in _NO or (said[0] in _AGAINST and said[1:2] != ["bad"])
    if (against or (yes and turned)) and len(said) > 2 and not asks:
        return Said("note", text.strip())
    return Said("unclear")


def turned(text: str) -> bool:
    """Whether something in a reply turns a yes round (*but*, *only*, *if*, *rather* …), or asks: such a reply is never a yes,
    whoever reads it."""
    plain = normal(text).strip().casefold().replace("’", "'")
    said = [word.strip("'-") for word in _SIGN.split(plain) if word.strip("'-")]
    return not said or "?" in plain or "？" in plain or _turned(plain, said) or bool(set(said) & _NO)


def _turned(plain: str, said: Sequence[str]) -> bool:
    return bool(set(said) & (_TURNS - {"si"} if said[0] == "si" else _TURNS)) or any(sign in plain for sign in "👎❌")


def _has(bare: str, phrases: Iterable[str]) -> bool:
    return any(f" {phrase} " in f" {bare} " for phrase in phrases)


def _without(bare: str, phrases: Iterable[str]) -> str:
    """A text without some phrases."""
    line = f" {bare} "
    for phrase in sorted(phrases, key=len, reverse=True):
        while f" {phrase} " in line:
            line = line.replace(f" {phrase} ", " ")
    return line.strip()
