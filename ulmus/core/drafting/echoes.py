"""Echoes: what of the instruction stands in the draft.

A prompt may hold material as well, and words that are to be said; an echo is only of a sentence that tells the model what to do,
and of nothing that stands in quotation marks.
"""

from __future__ import annotations

import re
from functools import lru_cache

from .. import text as texts
from ..languages import words

SENTENCE, RUN = 6, 9
"""So many words a sentence of the instruction has that is told when it stands in the draft whole; and so many, in a row, any part."""
_SLOT = re.compile(r"<<.*?>>", re.S)
_QUOTED = re.compile(r"“[^”]*”|\"[^\"\n]*\"|„[^“”]*[“”]|«[^»]*»|»[^«]*«|‘[^’]{3,}’")
_TO_SAY = re.compile(
    r"(?im)^.*\b(?:exactly|word for word|end(?:s|ing)? with|close with|finish with|begin with|start with|wörtlich|ende mit|schließe mit|beginne mit"
    r"|termine par|commence par|termina con|empieza con|comienza con|finisci con|inizia con|eindig met|begin met)\b[^:\n]*:.*$"
)
_TELLS = frozenset(
    words("""
    write draft say use answer keep do don't never make give summarise summarize take translate list begin start end mention include
    avoid you your describe explain compose rewrite shorten edit tell name choose find put add be
    schreib schreibe verfasse formuliere nenne fasse nutze verwende antworte gib beginne ende du bist erkläre übersetze kürze mach vermeide
    écris écrivez rédige rédigez résume résumez utilise utilisez réponds répondez donne donnez commence termine tu traduis évite
    escribe redacta resume usa responde da empieza termina eres traduce evita scrivi riassumi usa rispondi dai inizia sei traduci evita
    escreva resuma use responda dê comece você traduza evite schrijf vat gebruik antwoord geef begin je jij vertaal vermijd
    """)
)
_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")


def echoes(draft: str, instruction: str, whole: bool = False) -> list[str]:
    """Parts of an instruction (a text with slots) that stand in a draft: sentences, and, unless only `whole` ones are looked for,
    runs of `RUN` words."""
    sentences, runs = _looked_for(instruction)
    said = [word.casefold() for word in _WORD.findall(texts.normal(draft))]
    if not said or (not sentences and not runs):
        return []
    line = " ".join(["", *said, ""])
    found = [sentence for key, sentence in sentences if f" {key} " in line]
    if found or whole:
        return found
    for start in range(len(said) - RUN + 1):
        if tuple(said[start : start + RUN]) in runs:
            return [" ".join(said[start : start + RUN])]
    return []


@lru_cache(maxsize=64)
def _looked_for(instruction: str) -> tuple[list[tuple[str, str]], frozenset[tuple[str, ...]]]:
    """The sentences of an instruction, in words, with their text; and its runs of words. A slot parts what stands round it."""
    told = _QUOTED.sub("\n", _TO_SAY.sub("", _SLOT.sub("\n", instruction)))
    sentences: list[tuple[str, str]] = []
    runs = set[tuple[str, ...]]()
    for line in map(texts.normal, told.split("\n")):
        for span in texts.sentences(line):
            said = [word.casefold() for word in _WORD.findall(span.text)]
            if not any(word in _TELLS for word in said[:2]):
                continue
            if len(said) >= SENTENCE:
                sentences.append((" ".join(said), span.text.strip()))
            runs.update(tuple(said[n : n + RUN]) for n in range(len(said) - RUN + 1))
    return sentences, frozenset(runs)
