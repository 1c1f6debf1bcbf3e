"""Which sentences need no support: greetings, calls, questions, opinions and wishes that say nothing a source could know."""

from __future__ import annotations

import re

_CALLS = (
    "come visit join try order book call read see find get learn discover share follow sign write bring let tell ask check drop meet save"
    " start subscribe contact reply click watch stop grab take enjoy explore hear listen look send browse buy pick make give have be don't"
    " schau schauen kommt kommen probier probieren bestell bestellen ruf rufen lies lesen entdecke entdecken melde melden teile besuch besuchen"
    " hol holen sichern erfahren lass lassen mach machen venez découvrez lisez essayez commandez appelez rejoignez partagez inscrivez"
    " écrivez réservez profitez passez contactez regardez laissez ven ved visita visite descubre descubra lee lea prueba pide llama únete"
    " comparte escribe reserva aprovecha mira vieni venite scopri scoprite leggi provate prova ordina chiama unisciti condividi scrivi"
    " prenota guarda venha visite descubra leia experimente peça ligue junte compartilhe escreva reserve veja kom lees bestel probeer bel"
    " ontdek deel schrijf bezoek bekijk meld"
)
_CALL = re.compile(
    rf"\A\W*(?:(?:so|and|now|then|please|bitte|jetzt|por favor|per favore)\W+)*(?:{'|'.join(dict.fromkeys(_CALLS.split()))})(?!\w)",
    re.I,
)
_TO_SOMEBODY = {
    "en": "we us our ours you your yours i my me let's",
    "de": "wir uns unser unsere unseren unserem unserer ihr euch euer eure sie ihnen du dich dir dein deine ich mich mir",
    "fr": "nous notre nos vous votre vos je tu toi moi",
    "es": "nosotros nuestra nuestro nuestras nuestros usted ustedes tu tus tú te yo vosotros os vuestra vuestro nos",
    "it": "noi nostra nostro nostri nostre voi vostra vostro vi tu ti io mi ci",
    "pt": "nós nossa nosso nossas nossos você vocês te eu",
    "nl": "wij we ons onze jij je jullie jouw u uw ik mij",
}
_FELT = {
    "en": "should must ought lovely wonderful great beautiful amazing nice happy glad proud excited thank thanks hope wish love fun joy"
    " pleasure hello hi dear welcome cheers sorry delicious perfect regards wishes",
    "de": "sollte sollten schön schöne schöner wunderbar toll tolle freuen freut freue danke dank hoffen hoffe liebe lieben glück hallo"
    " herzlich herzliche grüße lecker perfekt",
    "fr": "devrait beau belle merveilleux heureux heureuse ravis merci espérons espère plaisir adore bonjour cher chère bienvenue cordialement",
    "es": "debería hermoso hermosa maravilloso feliz felices gracias esperamos espero hola querido querida bienvenidos saludos encanta",
    "it": "dovrebbe bello bella meraviglioso felice felici grazie speriamo spero ciao cari caro cara benvenuti saluti piacere",
    "pt": "deveria lindo linda maravilhoso feliz felizes obrigado obrigada esperamos espero olá caro cara saudações prazer",
    "nl": "mooi mooie prachtig blij dank bedankt hopen hoop hallo beste welkom groeten leuk heerlijk",
}
_EXCLAIMS = re.compile(
    r"\A\W*(?:what an?|how|nothing like|quel(?:le)?s?|qué|che|que|was für|wie schön|wat een|good morning|guten)(?!\w)", re.I
)


def kind_of_speech(text: str, tongue: str) -> tuple[bool, bool, bool, bool]:
    """Of a sentence: whether it is a question, a call, speaks to or of people at hand, or tells what is felt or wished."""
    bare = text.strip().rstrip("”\"’')»*_ ")
    words = set(re.findall(r"[^\W\d_]+(?:['’][^\W\d_]+)?", text.casefold()))
    question = bare.endswith("?") or text.lstrip()[:1] == "¿"
    felt = bool(words & _set(_FELT, tongue)) or bare.endswith("!") or _EXCLAIMS.match(text) is not None
    return question, _CALL.match(text) is not None, bool(words & _set(_TO_SOMEBODY, tongue)), felt


def _set(of: dict[str, str], tongue: str) -> frozenset[str]:
    return frozenset(of.get(tongue, of["en"]).split())
