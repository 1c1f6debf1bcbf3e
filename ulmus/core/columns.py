"""The types of a sheet's columns: what a cell may hold, as what it is compared, and which type a column of texts seems to be.

Cells stay as they were written; a type says what is wrong with one, and how it is put where it can only be meant one way (a date in
another order, a yes in another language). Nothing is lost by it.
"""

from __future__ import annotations

import datetime as dt
import re
import unicodedata
from collections.abc import Sequence
from typing import Literal, get_args

Type = Literal["text", "long", "number", "date", "yes_no", "choice", "choices", "link", "mail", "file", "person"]
TYPES: tuple[Type, ...] = get_args(Type)
MOST_CHOICES = 12
"""How many different words a column guessed to be of choices has at the most."""

LONGEST_KEY = 5000
"""As far as this a cell's text is searched."""

_NUMBER = re.compile(r"[-+−]?\s*(?:[€$£¥]\s*)?(\d[\d\s.,’']*\d|\d)\s*(?:%|[€$£¥])?")
_ISO = re.compile(r"(\d{4})-(\d{1,2})-(\d{1,2})(?:[T\s]+(\d{1,2}):(\d{2})(?::\d{2}(?:\.\d+)?)?(Z|[+-]\d{2}:?\d{2})?)?")
_DOTTED = re.compile(r"(\d{1,2})\.\s?(\d{1,2})\.\s?(\d{4})(?:[,\s]+(\d{1,2}):(\d{2}))?")
_WORDED = re.compile(r"(\d{1,2})\.?\s+([^\W\d]{3,})\.?,?\s+(\d{4})")
_MONTHS = {
    name: n
    for n, names in enumerate(
        (
            "jan january januar janvier enero gennaio janeiro januari",
            "feb february februar février fevrier febrero febbraio fevereiro februari",
            "mar march märz mars marzo março maart",
            "apr april avril abril aprile",
            "may mai mayo maggio maio mei",
            "jun june juni juin junio giugno junho",
            "jul july juli juillet julio luglio julho",
            "aug august août aout agosto augustus",
            "sep sept september septembre septiembre settembre setembro",
            "oct october oktober okt octobre octubre ottobre outubro",
            "nov november novembre noviembre novembro",
            "dec december dez dezember décembre decembre diciembre dicembre dezembro",
        ),
        start=1,
    )
    for name in names.split()
}
_YES = frozenset(["yes", "y", "true", "1", "x", "✓", "ja", "oui", "sí", "si", "sim", "on"])
_NO = frozenset(["no", "n", "false", "0", "-", "✗", "nein", "non", "não", "nee", "off"])
_LINK = re.compile(r"https?://[^\s/]+\.?[^\s]*", re.IGNORECASE)
_MAIL = re.compile(r"[^\s@,;<>]+@[^\s@,;<>]+\.[^\s@,;<>]+")
_NAMED_MAIL = re.compile(r"[^<>@]*<([^\s@,;<>]+@[^\s@,;<>]+\.[^\s@,;<>]+)>")


def wrong(kind: str, text: str, choices: Sequence[str] = ()) -> str:
    """What is wrong with a cell of a column of this type, in words; empty where nothing is, as in an empty cell."""
    plain = text.strip()
    if not plain:
        return ""
    match kind:
        case "number" if number(plain) is None:
            return "This is no number."
        case "date" if moment(plain) is None:
            return "This is no date; write it as 2026-11-28, or 2026-11-28 17:00."
        case "yes_no" if plain.casefold() not in _YES | _NO:
            return "Write yes or no."
        case "choice" if choices and plain.casefold() not in {one.casefold() for one in choices}:
            return f"Not one of the choices: {', '.join(choices[:8])}."
        case "choices" if choices:
            known = {one.casefold() for one in choices}
            other = next((part for part in parts(plain) if part.casefold() not in known), "")
            return f"“{other[:60]}” is not one of the choices: {', '.join(choices[:8])}." if other else ""
        case "link" if not _LINK.fullmatch(plain):
            return "This is no address; it begins with https://."
        case "mail" if not (_MAIL.fullmatch(plain) or _NAMED_MAIL.fullmatch(plain)):
            return "This is no mail address."
    return ""


PUT = frozenset({"date", "yes_no", "choice", "choices", "link"})
"""The types whose cells are put alike; all others are kept as they were written."""


def put(kind: str, text: str, choices: Sequence[str] = ()) -> str:
    """A cell as it is kept: as it was written, but put as its type is where it can only be meant one way."""
    plain = text.strip()
    match kind:
        case "date" if plain and not _ISO.fullmatch(plain):
            found = moment(plain)
            return found if found is not None else text
        case "yes_no" if plain:
            return "yes" if plain.casefold() in _YES else "no" if plain.casefold() in _NO else text
        case "choice" | "choices" if choices:
            named = {one.casefold(): one for one in choices}
            some = [named.get(part.casefold(), part) for part in (parts(plain) if kind == "choices" else [plain])]
            return ", ".join(some) if some and plain else text
        case "link" if re.fullmatch(r"www\.[^\s]+\.[^\s]+", plain, re.IGNORECASE):
            return f"https://{plain}"
    return text


def key(text: str) -> str:
    """A text as it is found and sorted: small letters without their marks, without space around, as far as `LONGEST_KEY`."""
    plain = text.strip()[:LONGEST_KEY]
    if plain.isascii():
        return plain.lower()
    bare = "".join(sign for sign in unicodedata.normalize("NFKD", plain) if not unicodedata.combining(sign))
    return bare.casefold()


def parts(text: str) -> list[str]:
    """The choices a cell names."""
    return [part.strip() for part in re.split(r"[,;\n]", text) if part.strip()]


def number(text: str) -> float | None:
    """A number as people write it: with signs of grouping, a comma or a point, a currency or a percent sign; ``None`` where it is none."""
    found = _NUMBER.fullmatch(text.strip())
    if found is None:
        return None
    digits = re.sub(r"[\s’']", "", found.group(1))
    commas, points = digits.count(","), digits.count(".")
    if commas and points:
        decimal = max(digits.rfind(","), digits.rfind("."))
        digits = re.sub(r"[.,]", "", digits[:decimal]) + "." + digits[decimal + 1 :]
    elif commas == 1 and not re.fullmatch(r"\d{1,3},\d{3}", digits):
        digits = digits.replace(",", ".")
    elif commas:
        digits = digits.replace(",", "")
    elif points > 1:
        digits = digits.replace(".", "")
    try:
        value = float(digits)
    except ValueError:
        return None
    return -value if text.strip()[0] in "-−" else value


def moment(text: str) -> str | None:
    """A date, or a date and time, as ISO 8601 has it; ``None`` where it is none, or could be meant two ways."""
    plain = text.strip()
    if found := _ISO.fullmatch(plain):
        year, month, day, hour, minute, zone = found.groups()
    elif found := _DOTTED.fullmatch(plain):
        (day, month, year, hour, minute), zone = found.groups(), None
    elif (found := _WORDED.fullmatch(plain)) and (named := _MONTHS.get(found.group(2).casefold())):
        day, month, year, hour, minute, zone = found.group(1), str(named), found.group(3), None, None, None
    else:
        return None
    try:
        date = dt.date(int(str(year)), int(str(month)), int(str(day)))
        clock = dt.time(int(str(hour)), int(str(minute))) if hour else None
    except ValueError:
        return None
    return date.isoformat() + (f" {clock:%H:%M}{zone or ''}" if clock else "")


def guess(texts: Sequence[str]) -> tuple[Type, list[str]]:
    """Which type a column seems to be by what stands in it, and its choices where it is one of choices."""
    full = [text.strip() for text in texts if text.strip()]
    if not full:
        return "text", []
    if any(len(text) > 120 or "\n" in text for text in full):
        return "long", []
    if all(_LINK.fullmatch(text) for text in full):
        return "link", []
    if all(_MAIL.fullmatch(text) or _NAMED_MAIL.fullmatch(text) for text in full):
        return "mail", []
    if all(moment(text) is not None for text in full):
        return "date", []
    # A code with a leading nought, such as one of a place, is no number.
    coded = any(re.match(r"[-+]?0\d", text) or text.startswith("+") for text in full)
    if not coded and all(number(text) is not None for text in full):
        return "number", []
    words = {text.casefold() for text in full}
    if words <= {"yes", "no", "true", "false", "ja", "nein", "oui", "non"} and len(full) > 1:
        return "yes_no", []
    if len(words) <= MOST_CHOICES and len(full) >= 3 * len(words) and all(len(text) <= 40 for text in full):
        return "choice", list(dict.fromkeys(full))
    return "text", []
