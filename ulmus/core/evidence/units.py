"""Units, scales, parts of a whole, and the words that make a figure a bound or a guess, in the languages known here."""

from __future__ import annotations

from typing import Literal

from ..languages import words

Kind = Literal["plain", "mass", "length", "volume", "heat", "share", "money", "time", "year"]
# What a unit measures, and how much of the base unit (gram, metre, litre, degree Celsius, per cent, day) it is. SI brochure, 9th
# edition; pound, foot, mile, inch and gallon as of the international agreement of 1959.
UNITS: dict[str, tuple[Kind, float]] = {
    **dict.fromkeys(
        ["g", "gram", "grams", "gramme", "grammes", "gramm", "gramo", "gramos", "grammo", "grammi", "grama", "gramas"],
        ("mass", 1.0),
    ),
    **dict.fromkeys(
        words("""
    kg kilo kilos kilogram kilograms kilogramm kilogramme kilogrammes kilogramo kilogramos chilo chili quilo quilos
"""),
        ("mass", 1e3),
    ),
    **dict.fromkeys(["t", "ton", "tons", "tonne", "tonnes", "tonnen", "tonelada", "toneladas", "tonnellate"], ("mass", 1e6)),
    **dict.fromkeys(["lb", "lbs", "pound", "pounds"], ("mass", 453.59237)),
    **dict.fromkeys(["oz", "ounce", "ounces"], ("mass", 28.349523)),
    **dict.fromkeys(["mm", "millimetre", "millimetres", "millimeter", "millimeters"], ("length", 1e-3)),
    **dict.fromkeys(
        [
            "cm",
            "centimetre",
            "centimetres",
            "centimeter",
            "centimeters",
            "zentimeter",
            "centimètres",
            "centimètre",
            "centímetros",
            "centimetri",
        ],
        ("length", 1e-2),
    ),
    **dict.fromkeys(["m", "metre", "metres", "meter", "meters", "mètre", "mètres", "metro", "metros", "metri"], ("length", 1.0)),
    **dict.fromkeys(
        [
            "km",
            "kilometre",
            "kilometres",
            "kilometer",
            "kilometers",
            "kilomètres",
            "kilómetros",
            "chilometri",
            "quilómetros",
            "quilômetros",
        ],
        ("length", 1e3),
    ),
    **dict.fromkeys(["ft", "foot", "feet"], ("length", 0.3048)),
    **dict.fromkeys(["inch", "inches"], ("length", 0.0254)),
    **dict.fromkeys(["mile", "miles"], ("length", 1609.344)),
    **dict.fromkeys(["l", "litre", "litres", "liter", "liters", "litro", "litros", "litri"], ("volume", 1.0)),
    **dict.fromkeys(["ml", "millilitre", "millilitres", "milliliter", "milliliters"], ("volume", 1e-3)),
    **dict.fromkeys(["gallon", "gallons"], ("volume", 3.785411784)),
    **dict.fromkeys(
        ["%", "percent", "per cent", "prozent", "pour cent", "por ciento", "per cento", "por cento", "procent"], ("share", 1.0)
    ),
    **dict.fromkeys(
        ["€", "euro", "euros", "eur", "$", "dollar", "dollars", "£", "franken", "francs", "pesos", "reais"], ("money", 1.0)
    ),
    **dict.fromkeys(
        words("""
    day days tag tage tagen jour jours día días giorno giorni dia dias dag dagen
"""),
        ("time", 1.0),
    ),
    **dict.fromkeys(
        ["week", "weeks", "woche", "wochen", "semaine", "semaines", "semana", "semanas", "settimana", "settimane", "weken"],
        ("time", 7.0),
    ),
    **dict.fromkeys(
        words("""
    month months monat monate monaten mois mes meses mese mesi mês maand maanden
"""),
        ("time", 30.4375),
    ),
    **dict.fromkeys(
        words("""
    year years jahr jahre jahren an ans année années año años anno anni ano anos jaar jaren
"""),
        ("time", 365.25),
    ),
    **dict.fromkeys(
        ["hour", "hours", "stunde", "stunden", "heure", "heures", "hora", "horas", "ora", "ore", "uur"], ("time", 1 / 24)
    ),
    **dict.fromkeys(["minute", "minutes", "minuten", "minuto", "minutos", "minuti"], ("time", 1 / 1440)),
}
SCALES = {
    **dict.fromkeys(["thousand", "tausend", "mille", "mil", "mila", "duizend"], 1e3),
    **dict.fromkeys(
        words("""
    million millions million millionen mio millón millones milione milioni milhão milhões miljoen m
"""),
        1e6,
    ),
    **dict.fromkeys(
        ["billion", "billions", "milliarde", "milliarden", "mrd", "milliard", "milliards", "miliardo", "miliardi", "miljard"], 1e9
    ),
}
UNIT_WORDS = frozenset(word for word in [*UNITS, *SCALES] if len(word) > 2)
PARTS = {
    **dict.fromkeys(["half", "halves", "hälfte", "halb", "moitié", "mitad", "metà", "metade", "helft"], 50.0),
    **dict.fromkeys(
        ["third", "thirds", "drittel", "tiers", "tercio", "tercios", "terzo", "terzi", "terço", "terços", "derde"], 100 / 3
    ),
    **dict.fromkeys(["quarter", "quarters", "viertel", "quart", "quarts", "cuarto", "cuartos", "quarto", "quarti", "kwart"], 25.0),
    **dict.fromkeys(["fifth", "fifths", "fünftel", "cinquième", "cinquièmes", "quinto", "quintos", "quinti"], 20.0),
    **dict.fromkeys(["tenth", "tenths", "zehntel", "dixième", "dixièmes", "décimo", "decimo", "decimi"], 10.0),
}
ABOUT = frozenset(
    words("""
    about around roughly nearly almost some approximately circa ca good over under rund etwa fast knapp gut ungefähr
    environ près presque quelque casi unos unas alrededor aproximadamente circa quasi quase cerca ongeveer bijna ruim
""")
)
MORE = frozenset(
    words("""
    more over above exceeding mehr über plus más più mais meer ruim least mindestens moins menos least
""")
)
LESS = frozenset(
    words("""
    less fewer under below weniger unter moins menos meno menos minder most höchstens
""")
)
