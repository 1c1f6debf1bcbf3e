"""A page from a description: it is cut into clauses, and each becomes the line of the menu whose work it speaks of.

What begins the page is told by “when …”, “for every new …” or a time; a clause that begins with what is done (*read*,
*search*, *write*, *ask*, *publish*, *add a row*) becomes that line; for others the entry that shares most words is taken.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from . import speech
from .words import bag

_MENU = re.compile(r"<menu>\n(.*?)</menu>", re.DOTALL)
_DESCRIPTION = re.compile(r"<description>\n(.*?)\n?</description>", re.DOTALL)
_ENTRY = re.compile(r"^- (\w+): (.+)$", re.MULTILINE)


_ASKED = r"\b(?:ask|show|approv\w+|yes|ok|okay\w*|look at|sign\w* it off|check\w* by)\b"
_OUT = ("publish_post", "publish_listing", "publish_article", "message_room", "send_mailing", "send_letter")


def plan(everything: str, schema: Mapping[str, Any]) -> dict[str, Any] | None:
    """An answer to `schema` by the menu and the description in the messages; ``None`` where there are none."""
    menu, description = _MENU.search(everything), _DESCRIPTION.search(everything)
    properties = schema.get("properties", {})
    if not menu or not description or "steps" not in properties:
        return None
    entries = {name: bag(f"{name.replace('_', ' ')} {about}") for name, about in _ENTRY.findall(menu.group(1))}
    starts = {n: entries[n] for n in properties["start"]["properties"]["kind"]["enum"] if n in entries}
    lines = {n: entries[n] for n in properties["steps"]["items"]["properties"]["kind"]["enum"] if n in entries}
    told = " ".join(description.group(1).split())
    told = speech.UNLESS.sub(lambda m: f"only if {m['if']}, ", told)
    told = speech.IF_NOT.sub(lambda m: f"only if {m['who']} {m['verb']}s{m['what']}, ", told)
    told = speech.AGREED.sub(_asked_first, told)
    fork = speech.IF.search(told) if "fork" in lines else None
    if fork is not None and fork.start() > 0:
        head = speech.ONLY.sub("", told[: fork.start()].rstrip(" ,;")).rstrip(" ,;")
        before = plan(everything.replace(description.group(1), head), schema) or {}
        ways = [(_condition(fork["if"], before), fork["then"]), ("", fork["else"] or "")]
        lanes = [{"when": when, "inside": [_line(n, c) for c in _parted(does) if (n := _kind(c, lines))]} for when, does in ways]
        return {**before, "steps": [*before.get("steps", []), {**_line("fork", fork["if"]), "lanes": lanes}]}
    start, clauses = _begun(_parted(told), starts)
    steps = _steps(clauses, lines)
    if start["kind"] == "form" and re.search(r"\b(?:pdf|report|file|document)s?\b", start["words"], re.I):
        # “read it” is what was handed in.
        steps = [
            {**one, "kind": "read_file"} if one["kind"] == "read_page" and speech.READ_IT.match(one["words"]) else one
            for one in steps
        ]
    inner = [one for step in steps for one in step.get("inside", [])]
    drafts = [step for step in steps if "title" in step] or [one for one in inner if "title" in one]
    name = drafts[0]["title"] if drafts else told[:60].rsplit(" ", 1)[0].rstrip(",.;:")
    return {"name": name, "start": start, "steps": steps}


def _asked_first(agreed: re.Match[str]) -> str:
    """What stands for “when she agrees”: nothing where somebody was asked already, and asking whoever is named where not."""
    who, before = agreed["who"], agreed.string[: agreed.start()]
    named = who if who[:1].isupper() and who not in ("He", "She", "They", "It") else ""
    asked = re.search(_ASKED, before, re.I) is not None
    lead = agreed["lead"]
    return f"{lead}ask {'me' if who == 'I' else named}, " if named and not asked else lead


def change(everything: str, schema: Mapping[str, Any]) -> dict[str, Any] | None:
    """An answer to `schema` by the menu, the page and what is said of it in the messages; ``None`` where there are none."""
    menu, page, said = _MENU.search(everything), _PAGE.search(everything), _SAID.search(everything)
    properties = schema.get("properties", {})
    if not menu or not page or not said or "changes" not in properties:
        return None
    entries = {name: bag(f"{name.replace('_', ' ')} {about}") for name, about in _ENTRY.findall(menu.group(1))}
    kinds = [n for n in properties["changes"]["items"]["properties"]["kind"]["enum"] if n in entries]
    stands = dict(_ENTRY.findall(page.group(1)))
    changes: list[dict[str, Any]] = []
    for clause in _parted(" ".join(said.group(1).split())):
        bare = re.sub(r"^(?:and |but |also |please |now |then )+", "", clause, flags=re.I)
        off = _OFF.match(bare)
        rule = _rule(bare)
        if off:
            what = "mute" if off["mute"] else "unmute" if off["unmute"] else "remove"
            changes.append({"what": what, "line": _of_page(off["what"], stands) or "", "words": bare})
        elif changes and changes[-1]["what"] in ("add", "change") and _ALONG.match(bare):
            # “…, but without the hashtags” says how what came before is meant.
            changes[-1]["words"] += f", {bare}"
        elif rule and not re.match(rf"(?:{speech.DONE})\b", bare, re.I):
            changes.append({"what": "change", "line": next(iter(stands), ""), "words": bare, "rule": rule})
        elif _DIFFERENTLY.search(bare):
            told = re.sub(r"^(?:have it |make it |let it )?(?:be )?", "", bare)
            changes.append({"what": "change", "line": _of_page(bare, stands) or "", "words": bare, **_worded(told)})
        elif name := _kind(bare, {n: entries[n] for n in kinds}):
            changes.append({"what": "add", **_line(name, bare)})
    return {"changes": changes}


_PAGE = re.compile(r"<page>\n(.*?)\n?</page>", re.DOTALL)
_SAID = re.compile(r"<said>\n(.*?)\n?</said>", re.DOTALL)
_OFF = re.compile(
    r"^(?:(?P<mute>mute|pass over|switch off|skip)|(?P<unmute>unmute|switch on|take up)|remove|delete|drop|take (?:out|off|away)|leave out|no longer|do not|don’t|stop) "
    r"(?P<what>.+)$",
    re.I,
)
_ALONG = re.compile(r"^(?:without|with|in|at most|no|under|only)\b", re.I)
_DIFFERENTLY = re.compile(
    r"\binstead\b|^(?:make|have|let|keep) (?:it|the|them|that)\b.*\b(?:shorter|longer|friendlier|simpler|more|less|at most|under|without|no|in)\b|"
    r"^(?:shorter|longer|friendlier|without|with|at most|no|in|use)\b",
    re.I,
)


def _of_page(words: str, stands: Mapping[str, str]) -> str | None:
    """The line of a page whose words or name share most with what is said."""
    spoken = set(bag(words))
    scores = {name: len(spoken & set(bag(f"{name.replace('_', ' ')} {about}"))) for name, about in stands.items()}
    best = max(scores, key=lambda n: scores[n], default=None)
    return best if best and scores[best] else None


def _worded(told: str) -> dict[str, str]:
    """What is said of how a draft is to be written, as one would order it."""
    how = re.search(r"\b(?:shorter|longer|friendlier|simpler|more \w+|less \w+)\b", told, re.I)
    return {"prompt": f"Make it {how.group().lower()}."} if how else {}


def _begun(clauses: list[str], starts: dict[str, list[str]]) -> tuple[dict[str, Any], list[str]]:
    """The start, and what is to be done after it."""
    if not clauses:
        return _line(next(iter(starts)), ""), []
    first, rest = clauses[0], clauses[1:]
    if speech.HAVE.match(first) and rest:
        # What there is stands at the head; what is done with it comes after.
        start, more = _begun(rest, starts)
        return {**start, "words": first}, more
    if _rule(first) and rest and _rule(rest[0]) and not _plain(speech.TIME.sub("", rest[0]).strip(" ,")):
        # “Once a week, on Friday morning” is one time.
        first, rest = f"{first}, {rest[0]}", rest[1:]
    rule = _rule(first)
    named = next((n for n, words in speech.BEGINS if n in starts and re.search(words, first, re.I)), None)
    order = re.match(rf"(?:{speech.DONE})\b", first, re.I)
    if (speech.EVENT.match(first) or (speech.HAPPENS.match(first) and named and not order)) and not rule:
        kind = named or _best(first, starts) or next(iter(starts))
        # “For each new recording take the transcript” says what is done as well.
        also = re.search(r"(?<=\w) (?=(?:take|fetch|read|write|draft|look|open|search|find|sum|becomes?)\b)", first[12:])
        more = [_ordered(first[12 + also.end() :])] if also else []
        return _line(kind, first[: 12 + also.start()] if also else first), [*more, *rest]
    if speech.WATCH.match(first) and "feed_item" in starts and not rule:
        return _line("feed_item", first), rest
    if order and "feed_item" in starts and (found := speech.OF_A_FEED.search(first)):
        return _line("feed_item", first[found.start() :]), clauses
    if rule:
        taken = next((c for c in rest[:1] if re.search(speech.BEGINS[0][1], c, re.I) and "sheet_row" in starts), None)
        if taken is not None and named != "sheet_row" and not re.match(r"^(?:read|search|draft|write)\b", first, re.I):
            # “On weekdays go through the list: take the next one” is one start.
            return {**_line("sheet_row", f"{first}, {taken}"), "rule": rule}, rest[1:]
        kind = named if named == "sheet_row" else "schedule" if "schedule" in starts else next(iter(starts))
        more = speech.TIME.sub("", first).strip(" ,") if kind != "sheet_row" else _ordered(first) if "become" in first else ""
        return {**_line(kind, first), "rule": rule}, [more, *rest] if more else rest
    if named == "sheet_row":
        return _line(named, first), rest
    # Nothing says what sets it off: somebody does.
    kind = named if named == "by_hand" else None
    return _line("by_hand" if "by_hand" in starts else next(iter(starts)), first), rest if kind else clauses


def _steps(clauses: list[str], lines: dict[str, list[str]]) -> list[dict[str, Any]]:
    """The lines the clauses stand for, with what is done with each item inside its block."""
    steps: list[dict[str, Any]] = []
    inside: list[dict[str, Any]] | None = None
    for clause in clauses:
        name = _kind(clause, lines)
        before = inside[-1] if inside else steps[-1] if steps else None
        if speech.ALL.search(clause) and "for_each" in lines:
            inside = []
            steps.append({**_line("for_each", clause), "inside": inside})
            rest = speech.ALL.sub("", clause).strip()
            # “for each result” alone says of what, and nothing that is done with it.
            name = _kind(rest, {n: w for n, w in lines.items() if n != "for_each"}) if len(rest.split()) > 1 else None
        elif before is not None and before["kind"] in ("draft", "picture") and speech.MORE.match(clause):
            # “a short post and a title” is two drafts.
            name = before["kind"]
        elif name == "wait" and before is not None and before["kind"] == "run_job":
            # It waits by itself until the job is done.
            continue
        elif name in ("add_row", *_OUT) and _of_them(clause) and before and before["kind"] in ("search", "read_feed"):
            # “find stories and add them to a sheet” is a row for each.
            steps.append({**_line("for_each", clause), "inside": [_line(name, clause)]})
            continue
        if name is None:
            continue
        if name in ("ask", "add_row", *_OUT) or (name == "draft" and speech.WHOLE.search(clause)):
            inside = None
        line = _line(name, clause)
        out = next((n for n, one in enumerate(steps) if one["kind"] in _OUT), None)
        if name == "ask" and out is not None and re.search(r"\bbefore\b|\bfirst\b", clause, re.I):
            steps.insert(out, line)
        else:
            (steps if inside is None else inside).append(line)
    return steps


def _of_them(clause: str) -> bool:
    return re.search(r"\b(?:them|each)\b", clause, re.I) is not None


def _parted(told: str) -> list[str]:
    """The clauses of a description."""
    clauses = [_shown(c.strip(), told) for c in speech.CLAUSES.split(_hidden(told)) if c and c.strip()]
    out = []
    for clause in clauses:
        both, row = speech.BEFORE.match(clause), speech.INTO_ROW.match(clause)
        out += [both["ask"], both["out"]] if both else [row["write"], f"put it {row['row']}"] if row else [clause]
    return out


def _kind(clause: str, lines: dict[str, list[str]]) -> str | None:
    """The line a clause asks for."""
    plain, whole = _ordered(_plain(clause)), _ordered(clause)
    found = next(
        (
            name
            for name, words in speech.LINES
            if name in lines and (re.search(words, plain, re.I) or re.search(words, whole, re.I))
        ),
        None,
    )
    # What is no order stands for no line, unless the menu speaks of it plainly.
    return found or _best(clause, lines, 0.8 if re.match(rf"(?:{speech.DONE})\b", plain, re.I) else 3.2)


def _ordered(clause: str) -> str:
    """What is said to happen, as one would order it: “it is posted” is “post it”."""
    for said, order in speech.ORDERS:
        done = re.match(said, clause, re.I) if "(?P<done>" in said else None
        if done is not None:
            what = done.groupdict().get("what") or "it"
            return f"{speech.PARTICIPLES[done['done'].lower()]} {what}{clause[done.end() :]}"
        changed = re.sub(said, order, clause, count=1, flags=re.I)
        if changed != clause:
            return changed
    return clause


def _plain(clause: str) -> str:
    """A clause from its verb on, as one would order it: “it writes the rest” is “write the rest”."""
    bare = speech.SUBJECT.sub("", clause)
    verb = speech.THIRD.match(bare)
    return bare if verb is None or not re.match(rf"(?:{speech.DONE})", verb[1], re.I) else verb[1] + bare[verb.end() :]


def _condition(words: str, before: dict[str, Any]) -> str:
    """A condition in the words of the value language: whether what was read, or began it, contains what is named."""
    kinds = [step.get("kind") for step in before.get("steps", [])]
    by_start = {"feed_item": "feed.title", "mail_received": "mail.text"}
    value = by_start.get(before.get("start", {}).get("kind"), "")
    value = "page.text" if "read_page" in kinds else "draft.text" if not value and "draft" in kinds else value or "start.title"
    named = re.sub(r"^.*\b(?:mentions?|contains?|is about|says|names|speaks of)\b\s*", "", words, flags=re.I).strip(' “”".')
    return f'{value} contains "{named}"'


def _rule(clause: str) -> str:
    """A recurrence rule (RFC 5545) for a time told in words; empty where none is told."""
    told = clause.lower()
    if found := re.search(r"\bevery (?:(\d+) )?(hour|minute)s?\b|\bhourly\b", told):
        often = "MINUTELY" if found[2] == "minute" else "HOURLY"
        return f"FREQ={often};INTERVAL={found[1]}" if found[1] else f"FREQ={often}"
    if found := re.search(r"\b(twice|(two|three|four|several) times) a day\b", told):
        hours = {2: "9,16", 3: "8,12,17", 4: "8,11,14,17"}[speech.OFTEN[found[2] or found[1]]]
        return f"FREQ=DAILY;BYHOUR={hours};BYMINUTE=0"
    if found := re.search(r"\bat ((?:\d{1,2}, )*\d{1,2} and \d{1,2})\b", told):
        return f"FREQ=DAILY;BYHOUR={','.join(re.findall(r'[0-9]+', found[1]))};BYMINUTE=0"
    days = [short for day, short in speech.DAYS.items() if re.search(rf"\b{day}s?\b", told)]
    if span := re.search(rf"\b({'|'.join(speech.DAYS)})s? (?:to|till|until|through) ({'|'.join(speech.DAYS)})s?\b", told):
        first, last = (list(speech.DAYS).index(day) for day in span.groups())
        days = list(speech.DAYS.values())[first : last + 1] or days
    if re.search(r"\b(?:weekdays?|working days?)\b", told):
        days = ["MO", "TU", "WE", "TH", "FR"]
    monthly = re.search(r"\b(?:monthly|(?:every|each|once a) month)\b", told)
    weekly = days or re.search(r"\b(?:weekly|(?:every|each|once a) week)\b", told)
    if not (monthly or weekly or re.search(r"\b(?:daily|(?:every|each|once a|a|per) (?:day|morning|afternoon|evening))\b", told)):
        return ""
    at = re.search(r"\bat (\d{1,2})(?:[:.](\d\d))?(?:\s*(pm))?\b", told)
    named = next((n for word, n in speech.HOURS.items() if re.search(rf"\b{word}\b", told)), 8)
    hour = (int(at[1]) + (12 if at[3] and int(at[1]) < 12 else 0)) % 24 if at else named
    when = f"BYHOUR={hour};BYMINUTE={int(at[2] or 0) if at else 0}"
    if monthly:
        return f"FREQ=MONTHLY;BYMONTHDAY=1;{when}"
    return f"FREQ=WEEKLY;BYDAY={','.join(days or ['MO'])};{when}" if weekly else f"FREQ=DAILY;{when}"


def _line(name: str, clause: str) -> dict[str, Any]:
    line: dict[str, Any] = {"kind": name, "words": clause}
    if (found := speech.URL.search(clause)) or (found := speech.MAIL.search(clause)):
        line["address"] = found.group()
    if name == "search":
        found = speech.QUERY.search(clause)
        line["query"] = (
            found[1] if found else re.sub(r"^(?:search|find|research(?:es)?|look up)\b(?: it)?\s*", "", _plain(clause), flags=re.I)
        )
    if name == "draft":
        plain = _plain(clause)
        verb = speech.VERB.match(plain)
        title = speech.WHAT.split(plain[verb.end() :])[0].split()[:3] if verb else []
        while len(title) > 1 and title[-1].lower() in speech.TRAILING:
            title.pop()
        line["title"] = _title(" ".join(title).strip(".,; "), plain)
        asked = plain if re.match(rf"(?:{speech.DONE}|{speech.LINES[-1][1][1:]})", plain, re.I) else f"write {plain}"
        line["prompt"] = asked[:1].upper() + asked[1:].rstrip(".") + "."
    return line


def _title(words: str, plain: str) -> str:
    named = {"summar": "Summary", "merge": "Merged", "relevan": "Relevance", "judge": "Verdict", "translat": "Translation"}
    found = next((title for part, title in named.items() if re.search(rf"\b{part}", plain, re.I)), "")
    bare = words if words.lower() not in ("", "it", "them", "this") else ""
    return found if found and (not bare or bare.lower() in plain[: len(bare)].lower()) else bare[:1].upper() + bare[1:] or "Draft"


def _best(clause: str, entries: dict[str, list[str]], least: float = 0.8) -> str | None:
    """The entry that shares most words; the earlier a word stands in the entry the more it counts, and most of all the verb
    the clause begins with."""
    spoken = bag(clause)

    def weight(place: int, word: str) -> float:
        return 0.0 if word not in spoken else 3.0 / (1 + place * 0.06) * (3 if spoken[0] == word else 1)

    scores = {name: sum(weight(i, word) for i, word in enumerate(words)) for name, words in entries.items()}
    name = max(scores, key=lambda n: scores[n], default=None)
    return name if name and scores[name] > least else None


def _hidden(text: str) -> str:
    """Addresses with their marks hidden, so that they are not cut."""
    return speech.URL.sub(lambda m: f"\x00{m.start()}\x00", text)


def _shown(clause: str, whole: str) -> str:
    return re.sub(r"\x00(\d+)\x00", lambda m: speech.URL.match(whole, int(m[1])).group(), clause)  # type: ignore[union-attr]
