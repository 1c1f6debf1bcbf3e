"""What a description says of what is here: whom it names, which sheet or channel, which rules. Found in its words by code, so that it
holds whatever a model made of them.

What was said so is put in; what could only be meant is a guess, and says why (see `Guess`).
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

_WORD = re.compile(r"\w+")
_ME = re.compile(r"\b(?:I|me|myself|my own)\b")
_WHEN = re.compile(
    r"\b(?:morning|noon|midday|afternoon|evening|night|hourly|hours?|minutes?|times a|twice)\b|\bat (?:\d|nine|ten|eight|seven|six|noon)",
    re.I,
)
_NUMBERS = {
    word: n for n, word in enumerate(("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten"))
} | {"a": 1, "an": 1, "twenty": 20, "thirty": 30, "sixty": 60, "ninety": 90, "hundred": 100}
_COUNT = rf"(?P<n>\d[\d,]*|{'|'.join(_NUMBERS)})"
_MOST = r"(?:at most|up to|no more than|max(?:imum|\.)?(?: of)?|not (?:over|more than)|within|under|below|fewer than|less than)"
_LEAST = r"(?:at least|no (?:fewer|less) than|not under|over|more than)"
_SIZES = {
    "length": r"(?:characters?|chars?|letters|signs)",
    "words": r"words?",
    "sentences": r"sentences?",
    "hashtags": r"(?:hash ?tags?)",
    "links": r"links?",
    "spoken": r"(?:spoken )?seconds?",
}
_WITHOUT = {
    "no_emoji": r"\b(?:no|without(?: any)?) emojis?\b",
    "no_quotes": r"\b(?:no|without) (?:quotation marks|quotes)\b",
}


class Heard(NamedTuple):
    """What a setting becomes by what was said; `why` says so in words where it is a guess."""

    value: Any
    why: str = ""


@dataclass(frozen=True)
class Said:
    """The words of a description that a line stands for, and the description itself. `people` are names by mail address, `who` is the
    address of the person describing."""

    words: str
    whole: str = ""
    people: Mapping[str, str] = field(default_factory=dict)
    who: str = ""


_LASTS = {"minute": 60, "hour": 3600, "day": 86_400, "week": 604_800}
_INSTEAD = re.compile(r"\b(?:instead of|rather than|and not|not) [^,.;]*", re.I)
_LONE = re.compile(r"<<([\w.]+\.text)>>")
_UNTAGGED = re.compile(r"\b(?:without|no|minus) (?:the |any |its )?hash ?tags?\b", re.I)


def stems(text: str) -> set[str]:
    """The longer words of a text as they are compared: small, and without an ending of number."""
    return {word.rstrip("s") for word in _WORD.findall(text.lower()) if len(word) > 3}


def people_in(words: str, people: Mapping[str, str]) -> list[str]:
    """The addresses of people whom words name, by their whole name or by a first or last name nobody else has."""
    plain = _plain(_INSTEAD.sub("", words))
    whole = [address for address, name in people.items() if _stands(_plain(name), plain)]
    if whole:
        return whole
    by_part: dict[str, set[str]] = {}
    for address, name in people.items():
        for part in _plain(name).split():
            by_part.setdefault(part, set()).add(address)
    found = {min(who) for part, who in by_part.items() if len(who) == 1 and len(part) > 2 and _stands(part, plain)}
    return [address for address in people if address in found]


def asked_by(said: Said) -> Heard | None:
    """Whom a line that asks somebody means: who its words name, else oneself, else the one person the description names."""
    named = people_in(said.words, said.people)
    if named:
        return Heard(", ".join(named))
    if said.who and _ME.search(said.words):
        return Heard(said.who)
    elsewhere = people_in(said.whole, said.people)
    if len(elsewhere) == 1 and elsewhere[0] != said.who:
        return Heard(elsewhere[0], f"Nobody was named here; {said.people[elsewhere[0]]} is the one person the description names.")
    return Heard(said.who, "Nobody was named who would be asked, so it is you.") if said.who else None


def said_to_me(words: str) -> bool:
    """Whether something is to go to the person who says so."""
    return _ME.search(words) is not None


def says_when(words: str) -> bool:
    """Whether a time of day is said."""
    return _WHEN.search(words) is not None


def seconds_in(words: str) -> int | None:
    """A time words name, in seconds: “two days”, “an hour and 30 minutes”; ``None`` where they name none."""
    found = re.findall(rf"\b({_COUNT[len('(?P<n>') : -1]}) (minute|hour|day|week)s?\b", words, re.I)
    return sum(_number(n) * _LASTS[unit.lower()] for n, unit in found) or None


def sent_so(value: Any, words: str) -> Any:
    """A lone text that goes out, as the words say it is to go there: without its hashtags."""
    lone = _LONE.fullmatch(value) if isinstance(value, str) else None
    return f"<<{lone[1]} | untagged>>" if lone and _UNTAGGED.search(words) else value


_AT_SHEET = re.compile(r"((?:[\w’'-]+ ){1,3}(?:sheets?|lists?|tables?)\b)", re.I)


def named_in(words: str, names: Mapping[str, str], common: set[str] | frozenset[str] = frozenset()) -> str | None:
    """The key of what words name best among some names: whole, or by words no other has; ``None`` where two fit alike or none does.
    Words in `common` tell nothing apart."""
    words = _INSTEAD.sub("", words)
    plain, spoken = _plain(words), stems(words) - common
    scores: dict[str, float] = {}
    for key, name in names.items():
        own = stems(name) - common
        shared = own & spoken
        score = len(own) + 10.0 if _stands(_plain(name), plain) else len(shared) + len(shared) / max(1, len(own))
        if score:
            scores[key] = score
    best = sorted(scores, key=lambda key: scores[key], reverse=True)
    if not best or (len(best) > 1 and scores[best[0]] == scores[best[1]]):
        return None
    return best[0]


def of_sheets(words: str) -> str:
    """The words that stand at “sheet”, “list” or “table”: “from the topics sheet” speaks of topics, whatever else is said."""
    return " ".join(found[1] for found in _AT_SHEET.finditer(words))


def last_named(before: str, names: Mapping[str, str]) -> str | None:
    """The key of what was named last, with its whole name."""
    plain = _plain(before)
    places = {key: plain.rfind(_plain(name)) for key, name in names.items()}
    key = max(places, key=lambda k: places[k], default=None)
    return key if key is not None and places[key] >= 0 else None


def rules_in(words: str) -> list[dict[str, Any]]:
    """The rules words lay down: “at most 200 characters”, “two sentences”, “without hashtags”, “no emoji”."""
    out: dict[str, dict[str, Any]] = {}
    for rule, size in _SIZES.items():
        for bound, n in _bounds(words, size):
            told = out.setdefault(rule, {"rule": rule})
            if rule == "spoken":
                told["most"] = n
            elif bound == "exactly" and rule in ("hashtags", "links"):
                told |= {"least": n, "most": n}
            elif bound in ("most", "exactly"):
                told["most"] = n
            else:
                told["least"] = n
    found = [told for told in out.values() if told["rule"] != "hashtags" or "most" in told or told.get("least")]
    for told in found:
        if told["rule"] == "hashtags" and "most" not in told:
            told["most"] = max(told["least"], 5)
    if re.search(r"\bwithout (?:any )?hash ?tags?\b", words, re.I):
        found = [*(told for told in found if told["rule"] != "hashtags"), {"rule": "hashtags", "most": 0}]
    return [*found, *({"rule": rule} for rule, said in _WITHOUT.items() if re.search(said, words, re.I))]


def _bounds(words: str, size: str) -> Iterator[tuple[str, int]]:
    """How many of something are asked for, as (most, least or exactly, number)."""
    for found in re.finditer(rf"(?:\b(?P<most>{_MOST}) |\b(?P<least>{_LEAST}) )?\b{_COUNT}[ -]{size}\b", words, re.I):
        n = _number(found["n"])
        if found["n"].lower() in ("a", "an") and not (found["most"] or found["least"]):
            continue
        yield ("most" if found["most"] else "least" if found["least"] else "exactly"), n
    for found in re.finditer(rf"\b(?:of|in) (?:about |around |roughly )?{_COUNT} {size}\b", words, re.I):
        if not re.search(rf"(?:{_MOST}|{_LEAST})\W*$", words[: found.start()] + found.group().partition(" ")[0], re.I):
            yield "exactly", _number(found["n"])


def _number(word: str) -> int:
    plain = word.lower().replace(",", "")
    return int(plain) if plain.isdigit() else _NUMBERS[plain]


def _plain(text: str) -> str:
    """Words in small letters without accents, parted and surrounded by one blank."""
    bare = unicodedata.normalize("NFKD", text.replace("’s", "").replace("'s", "").casefold())
    return " ".join(["", *_WORD.findall("".join(c for c in bare if not unicodedata.combining(c))), ""])


def _stands(name: str, plain: str) -> bool:
    return bool(name.strip()) and f" {name.strip()} " in plain
