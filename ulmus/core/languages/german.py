"""German, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

GERMAN = Language(
    code="de",
    stemmer="german",
    small=frozenset(
        words("""
    aber alle allem allen aller alles als also am an ander andere anderen auch auf aus bei beim bin bis bist da dabei
    dafür damit dann daran darauf darum das dass dein deine dem den denn der des dessen deshalb die dies diese diesem
    diesen dieser dieses dir doch dort du durch ein eine einem einen einer eines er es etwa etwas euch euer eure für
    gegen habe haben hast hat hatte hatten hier hin ich ihm ihn ihnen ihr ihre ihrem ihren ihrer im in ins ist ja jede
    jedem jeden jeder jedes kann können konnte man manche mehr mein meine mich mir mit muss müssen nach noch nun nur
    ob oder ohne schon sehr sein seine seinem seinen seiner seit sich sie sind so sogar solche soll sollen sondern
    sonst über um und uns unser unsere unserem unseren unter vom von vor war waren warum was weil weiter welche wenn
    wer werde werden wie wieder will wir wird wo wollen worden wurde wurden zu zum zur zwar zwischen sagte sagt jetzt
""")
    ),
    months=(
        "januar",
        "februar",
        "märz",
        "april",
        "mai",
        "juni",
        "juli",
        "august",
        "september",
        "oktober",
        "november",
        "dezember",
    ),
    refusing=frozenset(
        words("""
    nicht kein keine keinem keinen keiner keines nie niemals niemand nichts weder ohne kaum
""")
    ),
    titles=frozenset(
        words("""
    dr prof nr hr fr str tel abb bzw ca ggf inkl exkl evtl max min bes geb gest jh mio mrd st vgl z d u s o v i b h a
    e dipl ing jan feb mär apr jun jul aug sep sept okt nov dez mo di mi do fr sa so art abs kap bd
""")
    ),
    ordinals=True,
)
