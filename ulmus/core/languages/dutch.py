"""Dutch, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

DUTCH = Language(
    code="nl",
    stemmer="dutch",
    small=frozenset(
        words("""
    aan af al alle alles als ander andere ben bent bij bijna binnen boven daar daarom dan dat de deze die dit doch
    doen door dus een eens elk elke en er even ge geen haar had hadden heb hebben heeft hem hen het hier hij hoe hun
    ieder iets ik in is ja je jij jou jouw jullie kan konden kunnen maar maken me meer men met mij mijn na naar niet
    nieuwe nog nu of om omdat onder ons onze ook op over per samen sinds te tegen ten ter terwijl toch toen tot tussen
    u uit uw van veel vanaf voor waar waarom wanneer want waren was wat we wel welke werd werden wie wij wil worden
    wordt zal ze zei zelf zich zij zijn zo zonder zou zouden
""")
    ),
    months=(
        "januari",
        "februari",
        "maart",
        "april",
        "mei",
        "juni",
        "juli",
        "augustus",
        "september",
        "oktober",
        "november",
        "december",
    ),
    refusing=frozenset(["niet", "geen", "nooit", "niemand", "niets", "zonder", "noch", "nauwelijks"]),
    titles=frozenset(
        words("""
    dhr mevr mw dr prof ir ing mr drs nr blz p bijv bv d.w.z ca incl excl max min tel st jan feb mrt apr jun jul aug
    sept okt nov dec m.n t.a.v
""")
    ),
)
