"""Rules with texts from values: slots in a rule's texts, and what a filled-in text means (a number, words, a language)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

from .rules import LANGUAGES, InLanguage, Lacks, Says, _Rule

OWN_NAMES = {
    "deutsch": "de", "français": "fr", "francais": "fr", "español": "es", "espanol": "es", "italiano": "it", "nederlands": "nl",
    "português": "pt", "portugues": "pt", "polski": "pl", "svenska": "sv", "dansk": "da", "norsk": "no", "suomi": "fi",
    "čeština": "cs", "türkçe": "tr",
}  # fmt: skip
_NUMBER = re.compile(r"\d[\d.,\u202f\u00a0’']*")


def texts_in(rule: Any) -> Iterator[tuple[tuple[str, ...], str]]:
    """The texts of a rule, or of its document, that may hold slots, each with its place."""
    get: Callable[[str], Any] = rule.get if isinstance(rule, dict) else lambda name: getattr(rule, name, None)
    for name in ("text", "code"):
        if isinstance(text := get(name), str):
            yield (name,), text
    for n, word in enumerate(words if isinstance(words := get("words"), list) else ()):
        if isinstance(word, str):
            yield ("words", str(n)), word
    for name, text in (slots if isinstance(slots := get("slots"), dict) else {}).items():
        if isinstance(text, str):
            yield ("slots", name), text


def with_texts(rule: Any, change: Callable[[str], str]) -> Any:
    """A rule, or its document, with each of those texts changed; a rule is `settled`."""
    if not isinstance(rule, dict | _Rule):
        return rule
    changed: dict[str, Any] = {}
    for place, text in texts_in(rule):
        if len(place) == 1:
            changed[place[0]] = change(text)
        elif place[0] == "words":
            changed.setdefault("words", []).append(change(text))
        else:
            changed.setdefault("slots", {})[place[1]] = change(text)
    if isinstance(rule, dict):
        return rule | changed
    return settled(rule.model_copy(update=changed)) if changed else rule


def settled(rule: _Rule) -> _Rule:
    """A rule whose texts are filled in, read as what they mean: numbers, the words of a list, a language. What cannot be read
    stays as it is (see `unsettled`)."""
    changed: dict[str, Any] = {}
    for name, text in rule.slots.items():
        if "<<" not in text and (found := _NUMBER.search(text)) is not None:
            changed[name] = int(re.sub(r"\D", "", re.split(r"[.,]\d{1,2}$", found.group())[0]))
    if changed:
        changed["slots"] = {name: text for name, text in rule.slots.items() if name not in changed}
    if isinstance(rule, Says | Lacks):
        parts = [re.split(r"[,;\n]", word) if len(rule.words) < 2 or "," in word or "\n" in word else [word] for word in rule.words]
        changed["words"] = [word.strip() for some in parts for word in some if word.strip()]
    if isinstance(rule, InLanguage):
        changed["code"] = language_code(rule.code) or rule.code
    return rule.model_copy(update=changed) if changed else rule


def unsettled(rule: _Rule) -> str:
    """What of a filled-in rule is not what it should be, in words; empty where nothing is."""
    for name, text in rule.slots.items():
        if "<<" not in text:
            what = "greatest" if name == "most" else "least"
            return (
                f"The {what} number of the rule “{title_of(rule)}” should come from a value, and that says “{text.strip()[:60]}”."
            )
    if isinstance(rule, InLanguage) and "<<" in rule.code and ">>" not in rule.code:
        return "Say which value names the language of the rule."
    if isinstance(rule, InLanguage) and "<<" not in rule.code and not re.fullmatch("[a-z]{2}", rule.code):
        return f"The language of the rule should come from a value, and that says “{rule.code.strip()[:60]}”."
    return ""


def title_of(rule: _Rule) -> str:
    """What a rule is called in words about it."""
    return str(getattr(rule, "rule", "")).replace("_", " ")


def language_code(text: str) -> str:
    """A language by its code (BCP 47), or its name in English or its own words, as ISO 639-1; empty where it is none."""
    plain = text.strip().casefold()
    if found := re.fullmatch(r"([a-z]{2})(?:[-_][a-z0-9]+)*", plain):
        return found.group(1)
    named = {name.casefold(): code for code, name in LANGUAGES.items()}
    return named.get(plain) or OWN_NAMES.get(plain, "")
