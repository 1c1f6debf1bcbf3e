"""Choosing from a menu: a description is cut into clauses, and each takes the entry whose words it shares most."""

from __future__ import annotations

import calendar
import re
from typing import Any

_MENU = re.compile(r"<menu>\n(.*?)</menu>", re.DOTALL)
_DESCRIPTION = re.compile(r"<description>\n(.*?)\n?</description>", re.DOTALL)
_ENTRY = re.compile(r"^- (\w+): (.+)$", re.MULTILINE)
_CLAUSES = re.compile(r"[,;.:!?]\s+|\b(?:and then|then|and|afterwards|finally)\b|(?<=\w)\s+(?=(?:write|draft|read|ask)\b)", re.I)
_WORDS = re.compile(r"[a-z]{3,}")
_URL = re.compile(r"https?://[^\s<>\"”,]+")
_MAIL = re.compile(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+")
_QUERY = re.compile(r"\b(?:for|about|on) (.+?)(?: (?:of|from|in|over) the (?:last|past)\b.*)?[.;]?$", re.I)
_WHOLE = re.compile(r"\b(?:from|of|out of) (?:the|all|these|those)\b|\btogether\b|\bdigest\b|\bround-?up\b", re.I)
_MORE = re.compile(
    r"^(?:an?|its|the|one) (?:[\w-]+ )?(?:title|subject|teaser|summary|headline|line|comment|post|mail|letter|ps)\b", re.I
)
_VERB = re.compile(r"^\W*(?:please |have \w+ |let \w+ )?(?P<verb>(?:write|draft|compose|make)\s+)?(?:(?:an?|the|some)\s+)?", re.I)
_DAYS = {day.lower(): day[:2].upper() for day in calendar.day_name}
_IF = re.compile(r"\bif (?P<if>[^,]+), (?:then )?(?P<then>.+?)(?:[,;.] (?:otherwise|else|if not),? (?P<else>.+?))?[.;]?$", re.I)
_ALL = re.compile(r"\b(?:for )?(?:each|every one) of\b|\bfor each\b", re.I)
_TRAILING = frozenset(["about", "of", "from", "for", "to", "with", "on", "the", "a", "an", "it", "in", "that"])
_SMALL = frozenset(
    ["the", "and", "for", "with", "that", "this", "from", "into", "its", "our", "new", "all", "when", "what", "has", "was"]
)


def plan(everything: str, schema: dict[str, Any]) -> dict[str, Any] | None:
    """An answer to `schema` by the menu and the description in the messages; ``None`` where there are none."""
    menu, description = _MENU.search(everything), _DESCRIPTION.search(everything)
    properties = schema.get("properties", {})
    if not menu or not description or "steps" not in properties:
        return None
    entries = {name: _bag(f"{name.replace('_', ' ')} {about}") for name, about in _ENTRY.findall(menu.group(1))}
    starts = {n: entries[n] for n in properties["start"]["properties"]["kind"]["enum"] if n in entries}
    lines = {n: entries[n] for n in properties["steps"]["items"]["properties"]["kind"]["enum"] if n in entries}
    told = " ".join(description.group(1).split())
    fork = _IF.search(told) if "fork" in lines else None
    if fork is not None:
        before = plan(everything.replace(description.group(1), told[: fork.start()].rstrip(" ,;")), schema) or {}
        ways = [(_condition(fork["if"], before), fork["then"]), ("", fork["else"] or "")]
        lanes = [{"when": when, "inside": [_line(n, c) for c in _parted(does) if (n := _best(c, lines))]} for when, does in ways]
        return {**before, "steps": [*before.get("steps", []), {**_line("fork", fork["if"]), "lanes": lanes}]}
    clauses = _parted(told)
    first = _best(clauses[0], starts) if clauses else None
    timed = _rule(re.split(r"[,;.]\s", told)[0])
    first = "schedule" if timed and first != "sheet_row" and "schedule" in starts else first
    start = _line(first or next(iter(starts)), clauses[0] if clauses else told)
    if timed:
        start["rule"] = timed
    steps: list[dict[str, Any]] = []
    inside: list[dict[str, Any]] | None = None
    for clause in clauses[1:] if first else clauses:
        name = _best(clause, lines)
        if _ALL.search(clause) and "for_each" in lines:
            inside = []
            steps.append({**_line("for_each", clause), "inside": inside})
            done = _ALL.sub("", clause).split()
            # “for each result” alone says of what, and nothing that is done with it.
            name = _best(" ".join(done), {n: w for n, w in lines.items() if n != "for_each"}) if len(done) > 2 else None
        if name is None:
            continue
        before = inside[-1] if inside else steps[-1] if steps else None
        if before is not None and before["kind"] == "draft" and _MORE.match(clause):
            # “a short post and a title” is two drafts.
            name = "draft"
        if name in ("ask", "publish_post", "add_row") or (name == "draft" and _WHOLE.search(clause)):
            inside = None
        (steps if inside is None else inside).append(_line(name, clause))
    drafts = [step for step in steps if "title" in step] or [
        one for step in steps for one in step.get("inside", []) if "title" in one
    ]
    return {"name": drafts[0]["title"] if drafts else told[:60].rsplit(" ", 1)[0].rstrip(",.;:"), "start": start, "steps": steps}


def _parted(told: str) -> list[str]:
    """The clauses of a description."""
    return [_shown(c.strip(), told) for c in _CLAUSES.split(_hidden(told)) if c and c.strip()]


def _condition(words: str, before: dict[str, Any]) -> str:
    """A condition in the words of the value language: whether what was read, or began it, contains what is named."""
    kinds = [step.get("kind") for step in before.get("steps", [])]
    start = "feed" if before.get("start", {}).get("kind") == "feed_item" else "start"
    value = "page.text" if "read_page" in kinds else f"{start}.title"
    named = re.sub(r"^.*\b(?:mentions?|contains?|is about|says|names|speaks of)\b\s*", "", words, flags=re.I).strip(' “”".')
    return f'{value} contains "{named}"'


def _rule(clause: str) -> str:
    """A recurrence rule (RFC 5545) for a time told in words; empty where none is told."""
    told = clause.lower()
    if found := re.search(r"\bevery (?:(\d+) )?(hour|minute)s?\b|\bhourly\b", told):
        often = "MINUTELY" if found[2] == "minute" else "HOURLY"
        return f"FREQ={often};INTERVAL={found[1]}" if found[1] else f"FREQ={often}"
    days = [short for day, short in _DAYS.items() if re.search(rf"\b{day}s?\b", told)]
    if re.search(r"\b(?:weekdays?|working days?)\b", told):
        days = ["MO", "TU", "WE", "TH", "FR"]
    monthly = re.search(r"\b(?:monthly|(?:every|each|once a) month)\b", told)
    weekly = days or re.search(r"\b(?:weekly|(?:every|each|once a) week)\b", told)
    if not (monthly or weekly or re.search(r"\b(?:daily|(?:every|each|once a) (?:day|morning|evening))\b", told)):
        return ""
    at = re.search(r"\bat (\d{1,2})(?:[:.](\d\d))?(?:\s*(pm))?\b", told)
    hour = (int(at[1]) + (12 if at[3] and int(at[1]) < 12 else 0)) % 24 if at else 18 if "evening" in told else 8
    when = f"BYHOUR={hour};BYMINUTE={int(at[2] or 0) if at else 0}"
    if monthly:
        return f"FREQ=MONTHLY;BYMONTHDAY=1;{when}"
    return f"FREQ=WEEKLY;BYDAY={','.join(days or ['MO'])};{when}" if weekly else f"FREQ=DAILY;{when}"


def _line(name: str, clause: str) -> dict[str, Any]:
    line: dict[str, Any] = {"kind": name, "words": clause}
    if (found := _URL.search(clause)) or (found := _MAIL.search(clause)):
        line["address"] = found.group()
    if name == "search" and (found := _QUERY.search(clause)):
        line["query"] = found[1]
    if name == "draft":
        what = _VERB.sub("", clause)
        title = what.split()[:3]
        while len(title) > 1 and title[-1].lower() in _TRAILING:
            title.pop()
        line["title"] = " ".join(title).capitalize().rstrip(".,;")
        asked = clause if _VERB.match(clause)["verb"] else f"write {clause}"  # type: ignore[index]
        line["prompt"] = asked[:1].upper() + asked[1:].rstrip(".") + "."
    return line


def _best(clause: str, entries: dict[str, list[str]]) -> str | None:
    """The entry that shares most words; the earlier a word stands in the entry the more it counts, and most of all the verb
    the clause begins with."""
    spoken = _bag(clause)

    def weight(place: int, word: str) -> float:
        return 0.0 if word not in spoken else 3.0 / (1 + place * 0.06) * (3 if spoken[0] == word else 1)

    scores = {name: sum(weight(i, word) for i, word in enumerate(words)) for name, words in entries.items()}
    name = max(scores, key=lambda n: scores[n], default=None)
    return name if name and scores[name] > 0.8 else None


def _bag(text: str) -> list[str]:
    """Words by their beginnings, each once, in order."""
    return list(dict.fromkeys(w[:5] for w in _WORDS.findall(_URL.sub("", text.lower())) if w not in _SMALL))


def _hidden(text: str) -> str:
    """Addresses with their marks hidden, so that they are not cut."""
    return _URL.sub(lambda m: f"\x00{m.start()}\x00", text)


def _shown(clause: str, whole: str) -> str:
    return re.sub(r"\x00(\d+)\x00", lambda m: _URL.match(whole, int(m[1])).group(), clause)  # type: ignore[union-attr]


def judge(material: str, ask: str, schema: dict[str, Any]) -> dict[str, Any] | None:
    """Whether the material bears out each sentence, with the nearest passage; ``None`` where that is not what is asked."""
    item = schema.get("properties", {}).get("items", {}).get("items", {})
    told = re.search(r"The sentences:\n((?:\d+\. .+\n?)+)", ask)
    if "verdict" not in item.get("properties", {}) or not told:
        return None
    passages = [p.strip() for p in re.split(r"(?<=[.!?])\s+|\n", material) if len(p.split()) > 2]
    out = []
    for number, sentence in _NUMBERED.findall(told.group(1)):
        said, figures = set(_bag(sentence)), set(re.findall(r"\d+", sentence))
        near = max(passages, key=lambda p: len(said & set(_bag(p))), default="")
        shared = len(said & set(_bag(near))) / max(1, len(said))
        good = shared >= 0.5 and figures <= set(re.findall(r"\d+", near))
        verdict = "supported" if good else "contradicted" if shared >= 0.5 else "unsupported"
        out.append({"number": int(number), "verdict": verdict, "passage": near if shared >= 0.5 else "not stated"})
    return {"items": out}


def guide(ask: str) -> str | None:
    """A guide to a voice from what was measured of its examples; ``None`` where that is not what is asked."""
    told = dict(re.findall(r"^- ([\w ]+): (.+)$", ask, re.MULTILINE))
    if "guide to its voice" not in ask or "sentences" not in told:
        return None
    number = {name: float(found.group()) if (found := re.search(r"[\d.]+", value)) else 0.0 for name, value in told.items()}
    lines = [f"Write about {number['length']:.0f} words, in sentences of about {number['sentences']:.0f}."]
    lines.append({"nobody": "Speak of the matter and not of yourself."}.get(told["speaks as"], f"Speak as “{told['speaks as']}”."))
    lines.append(f"Begin with {told['begins with']}.")
    lines.append("Give figures where there are any." if number["figures"] >= 2 else "Use figures sparingly.")
    lines.append("Choose short words." if number["long words"] < 25 else "Long words are welcome where they are exact.")
    wanted = [f"{number[n]:.0f} {n}" for n in ("hashtags", "emoji", "questions", "exclamation marks") if number.get(n, 0) >= 1]
    never = [n for n in ("hashtags", "emoji", "questions", "exclamation marks") if number.get(n, 0) < 0.5]
    lines += [f"Use {' and '.join(wanted)}."] if wanted else []
    lines += [f"Use no {', no '.join(never)}."] if never else []
    return " ".join(lines)


_NUMBERED = re.compile(r"^(\d+)\. (.+)$", re.MULTILINE)
_CHAPTER = re.compile(r"^Chapter (\d+)\n(.*?)(?=^Chapter \d+\n|\Z)", re.MULTILINE | re.DOTALL)


def choose(material: str, ask: str, schema: dict[str, Any], invent: bool = False) -> dict[str, Any] | None:
    """Numbers of a list chosen for a purpose, by the words they share; ``None`` where that is not what is asked.
    With `invent`, one that is not on the list comes with them."""
    item = schema.get("properties", {}).get("items", {}).get("items", {})
    offered = _NUMBERED.findall(material)
    purpose = re.search(r"Purpose: (.+)", ask)
    if "number" not in item.get("properties", {}) or not offered or not purpose:
        return None
    most = int(found.group(1)) if (found := re.search(r"at most (\d+)", ask)) else 3
    wanted = set(_bag(purpose.group(1)))
    usual = {"about": 1.5, "custo": 1.5, "produ": 1.4, "news": 1.0, "legal": -5.0, "priva": -5.0, "home": -1.0}
    scored = []
    for number, words in offered:
        said = _bag(words)
        score = 4.0 * len(wanted & set(said)) + sum(usual.get(word, 0.0) for word in said)
        scored.append((-score, int(number), words.split(" — ")[0]))
    items = [{"number": n, "reason": f"It speaks of {words.lower()}."} for _, n, words in sorted(scored)[:most]]
    return {"items": [*([{"number": 900 + len(offered), "reason": "It ought to be there."}] if invent else []), *items]}


def titles(material: str, ask: str) -> dict[str, Any] | None:
    """A title for each chapter of a recording; ``None`` where that is not what is asked."""
    parts = _CHAPTER.findall(material)
    if not parts or "title" not in ask.lower():
        return None
    out = []
    for _, text in parts:
        told = re.search(r"Now to this: ([^.?!]+)", text)
        sentences = [one for one in re.split(r"(?<=[.!?])\s+", text.strip()) if len(one.split()) > 4]
        words = (told.group(1) if told else sentences[0] if sentences else text).split()[:8]
        out.append(" ".join(words).strip(" ,.;:"))
    return {"items": out}
