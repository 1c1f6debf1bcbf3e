"""Words that turn each other round (*rose* and *fell*, *with* and *without*): common ones of each language, of no field.

Pairs of what may follow the beginning of a word are not told apart: both sides are beginnings of words.
"""

from __future__ import annotations

import re
from functools import cache

_PAIRS = {
    "en": """
        rise|rose|risen|rising|climb|grew|grow|growth|increas|up|gain|higher|raise : fall|fell|fallen|falling|drop|shrank|shrink|decreas|declin|down|lost|lower
        more|above|over|exceed : less|fewer|below|under ; most : least ; before|earlier : after|later ; first : last
        accept|approv|agree|allow|permit|welcom : refus|reject|declin|den|forbid|forbad|ban|oppos|prohibit
        open : clos|shut ; start|begin|began|launch : end|stop|finish|ceas ; buy|bought : sell|sold ; win|won : lose|lost
        includ : exclud ; free : paid|charg
        easy|easily : hard|difficult ; safe|harmless : dangerous|harmful|unsafe ; cheap : expensive ; warm|hot : cold|cool
        love|like : hate|dislike ; best : worst ; better : worse ; new : old ; fast|quick : slow ; rich : poor ; full : empty
        success|succeed : fail ; join : leav|left ; add : remov ; indoor|inside : outdoor|outside ; north : south ; east : west ; many : few
        only|single : several|many ; enter : exit ; present : absent ; public : privat ; support : oppos ; cheaper : dearer
    """,
    "de": """
        steig|stieg|wuchs|wachs|erhöh|zunahm|zugenommen|mehr|über : sink|sank|fiel|fällt|gefallen|verringer|abnahm|abgenommen|weniger|unter
        öffn|offen|geöffnet : schließ|geschlossen|zu ; annehm|angenommen|genehmig|erlaub|bewillig : ablehn|abgelehnt|verbiet|verboten|verweiger
        vor : nach ; erst : letzt ; anfang|beginn|begann : end|schluss ; gewann|gewinn : verlor|verlier
        kostenlos|gratis : kostenpflichtig ; leicht|einfach : schwer|schwierig ; warm|heiß : kalt ; neu : alt ; voll : leer ; viel : wenig
        drinnen : draußen ; nord : süd ; ost : west ; lob : kritisier|tadel ; harmlos|ungefährlich : gefährlich|schädlich
    """,
    "fr": """
        augment|hauss|plus|grandi|progress|croiss : baiss|diminu|moins|recul|chut ; ouvr|ouvert : ferm
        accord|accept|autoris|approuv : refus|rejet|interdi ; avant : après ; premier|première : dernier|dernière
        début|commenc : fin|termin ; gagn : perd ; gratuit : payant ; facile : difficile
        chaud : froid ; nouveau|nouvelle|neuf : ancien|vieux|vieille ; plein : vide ; nord : sud ; dangereux|nocif : inoffensif
    """,
    "es": """
        aument|sub|crec|más|mayor : baj|disminu|menos|menor|ca[íy] ; abr|abiert : cerr ; acept|aprob|permit|conced : rechaz|neg|prohib
        antes : después ; primer : últim ; empez|comenz|inici : termin|acab
        gan : perd ; gratis|gratuit : pag ; fácil : difícil ; calient|cálid : frí ; nuev : viej|antigu ; llen : vací ; norte : sur
    """,
    "it": """
        aument|sal|cresc|più|maggior : diminu|cal|scend|sces|meno|minor ; apr|apert : chiu|chius ; accett|approv|permess|conced : rifiut|respin|viet
        prima : dopo ; primo|prima : ultim ; inizi|cominci : fin|termin ; vinc|vint : perd|pers
        gratuit|gratis : pagament ; facil : difficil ; cald : fredd ; nuov : vecchi ; pien : vuot ; nord : sud
    """,
    "pt": """
        aument|sub|cresc|mais|maior : diminu|ca[íi]|desc|menos|menor ; abr|abert : fech ; aceit|aprov|permit|conced : recus|rejeit|proib
        antes : depois ; primeir : últim ; começ|inici : termin|acab ; ganh : perd
        grátis|gratuit : pag ; fácil : difícil ; quente : fri ; nov : velh|antig ; chei : vazi ; norte : sul
    """,
    "nl": """
        stijg|steeg|gestegen|groei|meer|hoger : daal|gedaald|zakt|minder|lager ; open|geopend : sluit|gesloten|dicht ; goedgekeurd|accept|toegestaan : geweiger|afgewezen|verbod
        voor : na ; eerst : laatst ; begin|begon : eind|stop ; win|won : verlies|verlor
        gratis : betaald ; makkelijk : moeilijk ; warm|heet : koud ; nieuw : oud ; vol : leeg ; noord : zuid
    """,
}
_SHORT = 4
"""So short a beginning must be the whole word."""


@cache
def _sides(tongue: str) -> tuple[tuple[re.Pattern[str], re.Pattern[str]], ...]:
    pairs = (pair.partition(" : ") for line in _PAIRS.get(tongue, "").split("\n") for pair in line.split(" ; ") if " : " in pair)
    return tuple((_side(left), _side(right)) for left, _, right in pairs)


def _side(words: str) -> re.Pattern[str]:
    parts = (word if len(word) < _SHORT else rf"{word}\w*" for word in words.strip().split("|"))
    return re.compile(rf"(?<!\w)(?:{'|'.join(parts)})(?!\w)", re.I)


def opposed(one: str, other: str, tongue: str) -> tuple[str, str] | None:
    """A word of one text and the word of the other that turns it round; ``None`` where both go the same way."""
    for left, right in _sides(tongue):
        for first, second in ((left, right), (right, left)):
            found, against = first.search(one), second.search(other)
            if found and against and not first.search(other) and not second.search(one):
                return found.group(), against.group()
    return None
