"""Spanish, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

SPANISH = Language(
    code="es",
    stemmer="spanish",
    small=frozenset(
        words("""
    a al algo algunas algunos ante antes aquí así aun aún aunque bajo bien cada casi como cómo con contra cual cuando
    cuándo de del desde después dijo donde dónde dos durante e el él ella ellas ellos en entre era eran es esa esas
    ese eso esos esta está están estas este esto estos fue fueron ha haber había han hasta hay he la las le les lo los
    más me mi mientras mis mismo muchos mucho muy nada ni nos nosotros nuestra nuestras nuestro nuestros o os otra
    otras otro otros para pero poco por porque pues que qué quien quién se sea según ser si sí sido sin sino sobre son
    su sus también tan tanto te tiene tienen toda todas todo todos tras tu tus tú un una unas uno unos usted ustedes
    vosotros vuestra vuestro y ya yo
""")
    ),
    months=(
        "enero",
        "febrero",
        "marzo",
        "abril",
        "mayo",
        "junio",
        "julio",
        "agosto",
        "septiembre",
        "octubre",
        "noviembre",
        "diciembre",
    ),
    refusing=frozenset(["no", "nunca", "jamás", "nada", "nadie", "ningún", "ninguna", "ninguno", "ni", "sin", "tampoco"]),
    titles=frozenset(
        words("""
    sr sra srta dr dra d dª ud uds núm no pág págs art av avda c ej aprox tel vol fig prof lic ing ene feb mar abr jun
    jul ago sept oct nov dic
""")
    ),
)
