"""A page from a description: it is cut into clauses, and each becomes the line of the menu whose work it speaks of.

What begins the page is told by “when …”, “for every new …” or a time; a clause that begins with what is done (*read*,
*search*, *write*, *ask*, *publish*, *add a row*) becomes that line; for others the entry that shares most words is taken.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Mapping
from typing import Any

from .words import bag

_MENU = re.compile(r"<menu>\n(.*?)</menu>", re.DOTALL)
_DESCRIPTION = re.compile(r"<description>\n(.*?)\n?</description>", re.DOTALL)
_ENTRY = re.compile(r"^- (\w+): (.+)$", re.MULTILINE)
_DONE = (
    "write|draft|read|ask|search|sum|summari[sz]e|publish|post|add|put|take|make|send|(?:e-?)?mail|find|tell|look|choose|pick|say|judge|open|"
    "queue|share|record|save|store|merge|plan|edit|turn|call|announce|note|log|approve|research|translate|wait|stop|show|render|"
    "hand|update|change|pass|fetch|gather|collect|get|submit|list|message|analy[sz]e|give|draw|go on|suggest|propose|let|have"
)
# “gardeners and boaters” are not two things to do; “and add a row” and “and a title” are.
_AND = (
    rf"\band (?=(?:then |also )?(?:(?:it|the model|I|we|you) )?(?:{_DONE})\b|(?:an?|its|one|keywords|if)\b|(?:in|to) the team|"
    r"\w+ (?:approves|looks|says)\b)"
)
_CLAUSES = re.compile(
    rf"[;.:!?]\s+|,\s+(?!\d|and \d)|\b(?:and then|then|afterwards|finally)\b|{_AND}|"
    r"(?<=\w)\s+(?=(?:write|draft|read|ask)\b)(?<!to )(?<!worth )(?<!\ba )",
    re.I,
)
_URL = re.compile(r"https?://[^\s<>\"”,]*[^\s<>\"”,.:;!?)]")
_MAIL = re.compile(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+")
_QUERY = re.compile(r"\b(?:for|about|on) (.+?)(?: (?:of|from|in|over) the (?:last|past)\b.*)?[.;]?$", re.I)
_WHOLE = re.compile(r"\b(?:from|of|out of) (?:the|all|these|those)\b|\btogether\b|\bdigest\b|\bround-?up\b|\bone list\b", re.I)
_MORE = re.compile(
    r"^(?:an?|its|the|one) (?:[\w-]+ )?(?:title|subject|teaser|summary|headline|hook|line|comment|post|mail|letter|ps|picture|one)\b|^keywords$",
    re.I,
)
_SUBJECT = re.compile(r"^\W*(?:please |it (?=\w+s\b)|the model (?=\w+s\b)|I |we |you |have \w+ |let \w+ |then )*", re.I)
_THIRD = re.compile(r"^(\w+?)(?:(?<=i)es|(?<=[sxz])es|(?<=ch)es|s)\b")
_VERB = re.compile(
    r"^(?P<verb>(?:write|draft|compose|make|plan|merge|edit|rewrite|translate)\s+)?(?:(?:an?|the|some|each|one|all|them|it)\s+)*",
    re.I,
)
_WHAT = re.compile(r"\s+(?:of|in|with|without|for|from|about|under|at|to|that|on|by|so)\b|[,;]", re.I)
_DAYS = {day.lower(): day[:2].upper() for day in calendar.day_name}
_HOURS = {"at seven": 7, "at eight": 8, "at nine": 9, "at ten": 10, "noon": 12, "afternoons?": 14, "evenings?": 18}
_OFTEN = {"two": 2, "twice": 2, "three": 3, "four": 4, "several": 3}
_IF = re.compile(r"\bif (?P<if>[^,]+), (?:then )?(?P<then>.+?)(?:[,;.] (?:otherwise|else|if not),? (?P<else>.+?))?[.;]?$", re.I)
_ALL = re.compile(
    r"\b(?:for )?(?:each|every one) of\b|\bfor (?:each|every)\b|"
    r"(?:(?<=\bread)|(?<=\bopen)|(?<=\bwrite)|(?<=\bturn)|(?<=\bdraft)) (?:each|every|all)\b",
    re.I,
)
_ORDERS = (
    # What is done to it, as one would order it.
    (r"^(?:it|they|this|that) (?:is|are|gets?|then) (?:then )?(?:posted|published|put out)\b", "post it"),
    (r"^(?:it|they|this|that) (?:is|are|gets?) (?:then )?(?:mailed|sent)\b", "send it"),
    (r"^(?:it|they|this|that) (?:is|are|gets?) (?:then )?(?:saved|stored)\b", "save it"),
    (r"^(?:it|they) goes? (?:out )?(?=on|to|in)", "post it "),
    (r"^in(?:to)? the team", "tell the team"),
    (r"^to the team", "tell the team"),
    (r"^.*\b(?:becomes?|is (?:turned|made) into) (?=an?\b)", "write "),
)
_ONLY = re.compile(r"(?:\band |,)?\s*\b(?:go on |continue )?only$", re.I)
_BEFORE = re.compile(r"^(?P<ask>.*\bapproves? (?:it|them)) before (?P<out>(?:it|they) (?:is|are|goes?)\b.*)$", re.I)
# What stands at the head of a description and is no order: something that happens.
_HAPPENS = re.compile(
    r"^(?:(?:for )?(?:each|every|all) new\b|new\b|somebody\b|someone\b|(?:from |on |with )?an? (?:form|call)\b|(?:our|the|another) [\w ]+ calls\b|"
    r"a (?:customer|lead|row|mail)\b)",
    re.I,
)
_OF_A_FEED = re.compile(
    r"\b(?:every|each|all) new (?:articles?|items?|story|stories|posts?|episodes?|recordings?) (?:of|in|from|on)\b", re.I
)
_HAVE = re.compile(r"^(?:I|we) have\b", re.I)
_TRAILING = frozenset(
    [
        "about",
        "of",
        "from",
        "for",
        "to",
        "with",
        "on",
        "the",
        "a",
        "an",
        "it",
        "in",
        "that",
        "our",
        "my",
        "your",
        "its",
        "all",
        "each",
    ]
)

# What a page begins with, by the words of the clause that tells of it.
_BEGINS = (
    ("sheet_row", r"\b(?:next|unused)\b.*\b(?:rows?|topics?|leads?|lines?|ideas?|one)\b|^(?!.*\b(?:draw|pick)\b).*\b(?:topic|row|lead|idea)\b.* from (?:an?|the|our|my)\b.*\b(?:list|sheet)\b|\bone (?:topic|row|lead|idea) (?:from|of)\b.*\ba day\b"),
    ("new_row", r"\bnew (?:rows?|leads?|lines?|entry|customers?|contacts?)\b|\bis added\b"),
    ("mail_received", r"\b(?:mail|letter|message)s? (?:arrives?|comes?|is received)\b|\bwrites to\b|\bnew mail\b|\bincoming mail\b"),
    ("calendar_entry", r"\b(?:meeting|appointment|calendar)s?\b"),
    ("form", r"\bforms?\b|\bfills?\b"),
    ("call", r"\bcalls?\b|\bwebhook\b|\bdatabase\b"),
    ("after_workflow", r"\bworkflow\b"),
    ("feed_item", r"\bfeed\b|\bnews\b|\b(?:podcast|episode|recording|story|article|post|item|blog)s?\b"),
    ("by_hand", r"\bby hand\b|\bbutton\b|\bI (?:type|press|give|enter)\b|\bon demand\b"),
)  # fmt: skip
_EVENT = re.compile(
    r"^(?:when(?:ever)?|as soon as|each time|every time|once|after|if|for (?:each|every|all) new|(?:\w+ ){0,3}before (?:an?|each|every|my|our|the)|I (?:type|press|give|enter))\b",
    re.I,
)
_TIME = re.compile(
    r"\b(?:once|twice|(?:two|three|four|several) times) an? (?:day|week|month)\b|"
    r"\b(?:on|every|each) (?:(?:other )?(?:\d+ )?(?:weekdays?|working days?|days?|weeks?|months?|hours?|minutes?|mornings?|evenings?|"
    r"(?:mon|tues|wednes|thurs|fri|satur|sun)days?)(?:,? (?:and )?)?)+|\b(?:hourly|daily|weekly|monthly)\b|"
    r"\b(?:a|per) day\b|\bin the (?:early )?(?:mornings?|afternoons?|evenings?)\b|"
    r"\bat \d{1,2}(?:[:.]\d\d)?(?:(?:,| and|, and) \d{1,2})*(?:\s*[ap]m)?\b|\bat (?:seven|eight|nine|ten|noon)\b",
    re.I,
)

# What a clause asks for, by the words it begins with; the first that fits and is on the menu.
_LINES = (
    ("ask_service", r"^(?:read|fetch|get|take|look)\b.*\brecord\b"),
    ("ask_service", r"^(?:ask|call|query)\b.*\b(?:service|database)\b|^call (?:it |them )?back\b|^(?:ask|look up|look)\b.*\bcontact data\b"),
    ("ask", r"^ask\b|\bapprov(?:es?|al)\b|^(?:let|have|get)\b.*\b(?:look|check|ok|okay|see)\b|^show\b.*\bto\b|^show\b.*\b(?:me|editor|client)\b|\b(?:says?|say) yes\b|\bfor (?:a|an|her|his|their) (?:yes|ok|okay|approval)\b|\blook(?:s|ed)? at\b|\bsign(?:s|ed)? (?:it )?off\b|^have\b.*\b(?:checked|passed|approved)\b|^let\b.*\bpass\b|\bto (?:me|the editor) first\b|^check(?:ed)? (?:it )?(?:by|with)\b"),
    ("write_row", r"\b(?:beside|next to)\b.*\b(?:it|row|topic|lead|them|its)\b|\b(?:same|its|that) row\b|^update\b.*\brow\b"),
    ("draft", r"^put\b.*\btogether\b|^(?:add|give)\b.*\b(?:title|headline)\b"),
    ("search", r"^(?:search|look for|research(?:es)?)\b|^find (?:[\w-]+ ){0,3}(?:news|stories|articles|results|posts)\b"),
    ("choose_pages", r"^(?:choose|pick|select)\b.*\b(?:pages?|links?)\b"),
    ("pick_one", r"^(?:pick|draw|choose) (?:one|an?)\b"),
    ("read_transcript", r"\btranscripts?\b|\bchapters\b"),
    ("read_feed", r"^(?:read|take|collect|open)\b.*\bfeeds?\b"),
    ("read_mails", r"^(?:read|collect|go through)\b.*\b(?:mails?|letters|mailbox|inbox)\b"),
    ("read_calendar", r"^(?:read|look (?:at|up)|take)\b.*\b(?:calendar|meetings|appointments)\b"),
    ("read_file", r"^(?:read|open|take)\b.*\b(?:pdf|report|files?|documents?)\b"),
    ("site_links", r"^(?:find|collect|list|gather|get)\b.*\blinks\b"),
    ("read_page", r"^(?:read|open|visit|fetch)\b"),
    ("find_rows", r"^(?:find|look up|take|get)\b.*\b(?:rows?|sheet|products?|offers?|examples?|liked)\b"),
    ("run_job", r"\brender\b|^submit\b|^have\b.*\bmake the (?:film|video)\b"),
    ("run_workflow", r"^run\b.*\bworkflow\b"),
    ("picture", r"^(?:make|draw|create|paint)\b.*\b(?:pictures?|images?|photos?)\b|^an? (?:[\w-]+ )?(?:picture|image)\b"),
    ("save_file", r"^(?:save|put|store|file)\b.*\b(?:files?|folder|documents?)\b"),
    ("add_row", r"^(?:add|put|write|record|note|save|store|enter|log)\b.*\b(?:rows?|sheet|list|table|beside|topic)\b|^(?:record|note|log) (?:it|them|that|this)\b"),
    ("publish_listing", r"^(?:list it|(?:list|show|put|publish|post)\b.*\b(?:listing|listed|market|local businesses)\b)"),
    ("publish_article", r"^(?:publish|put|post)\b.*\b(?:blog|articles?|review|as a draft)\b"),
    ("send_letter", r"^(?:send|e-?mail)\b(?: \w+){0,3} (?:me|myself)\b|^(?:send|e-?mail) me\b"),
    ("send_mailing", r"^(?:send|mail)\b.*\b(?:lists?|readers|subscribers|mailing)\b"),
    ("message_room", r"^(?:send|tell|post|message|share|announce)\b.*\b(?:team|room|channel|chat)\b"),
    ("send_letter", r"^(?:send|mail|write)\b.*\b(?:letters?|(?<!by )e?-?mails?)\b|^mail\b"),
    ("act_at_service", r"^(?:hand\b.*\b(?:over|to)\b|pass\b.*\bto\b|(?:change|update)\b.*\b(?:record|service|database)\b)"),
    ("publish_post", r"^(?:publish|post|queue|send|mail|share|announce|tell|message)\b"),
    ("wait", r"^wait\b"),
    ("stop", r"^(?:stop|end)\b"),
    ("assignment", r"\bassistant\b|\bby itself\b|\bassignment\b"),
    ("draft", r"^(?:write|draft|compose|sum|analy[sz]e|summari[sz]e|make|plan|merge|edit|say|judge|rate|sort|rewrite|translate|propose|suggest|turn|explain|answer)\b"),
)  # fmt: skip


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
    fork = _IF.search(told) if "fork" in lines else None
    if fork is not None and fork.start() > 0:
        head = _ONLY.sub("", told[: fork.start()].rstrip(" ,;")).rstrip(" ,;")
        before = plan(everything.replace(description.group(1), head), schema) or {}
        ways = [(_condition(fork["if"], before), fork["then"]), ("", fork["else"] or "")]
        lanes = [{"when": when, "inside": [_line(n, c) for c in _parted(does) if (n := _kind(c, lines))]} for when, does in ways]
        return {**before, "steps": [*before.get("steps", []), {**_line("fork", fork["if"]), "lanes": lanes}]}
    start, clauses = _begun(_parted(told), starts)
    steps = _steps(clauses, lines)
    inner = [one for step in steps for one in step.get("inside", [])]
    drafts = [step for step in steps if "title" in step] or [one for one in inner if "title" in one]
    name = drafts[0]["title"] if drafts else told[:60].rsplit(" ", 1)[0].rstrip(",.;:")
    return {"name": name, "start": start, "steps": steps}


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
        elif rule and not re.match(rf"(?:{_DONE})\b", bare, re.I):
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
    if _HAVE.match(first) and rest:
        # What there is stands at the head; what is done with it comes after.
        start, more = _begun(rest, starts)
        return {**start, "words": first}, more
    if _rule(first) and rest and _rule(rest[0]) and not _plain(_TIME.sub("", rest[0]).strip(" ,")):
        # “Once a week, on Friday morning” is one time.
        first, rest = f"{first}, {rest[0]}", rest[1:]
    rule = _rule(first)
    named = next((n for n, words in _BEGINS if n in starts and re.search(words, first, re.I)), None)
    order = re.match(rf"(?:{_DONE})\b", first, re.I)
    if (_EVENT.match(first) or (_HAPPENS.match(first) and named and not order)) and not rule:
        kind = named or _best(first, starts) or next(iter(starts))
        # “For each new recording take the transcript” says what is done as well.
        also = re.search(r"(?<=\w) (?=(?:take|fetch|read|write|draft|look|open|search|find|sum|becomes?)\b)", first[12:])
        more = [_ordered(first[12 + also.end() :])] if also else []
        return _line(kind, first[: 12 + also.start()] if also else first), [*more, *rest]
    if order and "feed_item" in starts and (found := _OF_A_FEED.search(first)):
        return _line("feed_item", first[found.start() :]), clauses
    if rule:
        kind = named if named == "sheet_row" else "schedule" if "schedule" in starts else next(iter(starts))
        more = _TIME.sub("", first).strip(" ,") if kind != "sheet_row" else _ordered(first) if "become" in first else ""
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
        if _ALL.search(clause) and "for_each" in lines:
            inside = []
            steps.append({**_line("for_each", clause), "inside": inside})
            rest = _ALL.sub("", clause).strip()
            # “for each result” alone says of what, and nothing that is done with it.
            name = _kind(rest, {n: w for n, w in lines.items() if n != "for_each"}) if len(rest.split()) > 1 else None
        elif before is not None and before["kind"] in ("draft", "picture") and _MORE.match(clause):
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
        if name in ("ask", "add_row", *_OUT) or (name == "draft" and _WHOLE.search(clause)):
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
    clauses = [_shown(c.strip(), told) for c in _CLAUSES.split(_hidden(told)) if c and c.strip()]
    out = []
    for clause in clauses:
        both = _BEFORE.match(clause)
        out += [both["ask"], both["out"]] if both else [clause]
    return out


def _kind(clause: str, lines: dict[str, list[str]]) -> str | None:
    """The line a clause asks for."""
    plain, whole = _ordered(_plain(clause)), _ordered(clause)
    found = next(
        (name for name, words in _LINES if name in lines and (re.search(words, plain, re.I) or re.search(words, whole, re.I))), None
    )
    # What is no order stands for no line, unless the menu speaks of it plainly.
    return found or _best(clause, lines, 0.8 if re.match(rf"(?:{_DONE})\b", plain, re.I) else 3.2)


def _ordered(clause: str) -> str:
    """What is said to happen, as one would order it: “it is posted” is “post it”."""
    for said, order in _ORDERS:
        changed = re.sub(said, order, clause, count=1, flags=re.I)
        if changed != clause:
            return changed
    return clause


def _plain(clause: str) -> str:
    """A clause from its verb on, as one would order it: “it writes the rest” is “write the rest”."""
    bare = _SUBJECT.sub("", clause)
    verb = _THIRD.match(bare)
    return bare if verb is None or not re.match(rf"(?:{_DONE})", verb[1], re.I) else verb[1] + bare[verb.end() :]


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
        hours = {2: "9,16", 3: "8,12,17", 4: "8,11,14,17"}[_OFTEN[found[2] or found[1]]]
        return f"FREQ=DAILY;BYHOUR={hours};BYMINUTE=0"
    if found := re.search(r"\bat ((?:\d{1,2}, )*\d{1,2} and \d{1,2})\b", told):
        return f"FREQ=DAILY;BYHOUR={','.join(re.findall(r'[0-9]+', found[1]))};BYMINUTE=0"
    days = [short for day, short in _DAYS.items() if re.search(rf"\b{day}s?\b", told)]
    if re.search(r"\b(?:weekdays?|working days?)\b", told):
        days = ["MO", "TU", "WE", "TH", "FR"]
    monthly = re.search(r"\b(?:monthly|(?:every|each|once a) month)\b", told)
    weekly = days or re.search(r"\b(?:weekly|(?:every|each|once a) week)\b", told)
    if not (monthly or weekly or re.search(r"\b(?:daily|(?:every|each|once a|a|per) (?:day|morning|afternoon|evening))\b", told)):
        return ""
    at = re.search(r"\bat (\d{1,2})(?:[:.](\d\d))?(?:\s*(pm))?\b", told)
    named = next((n for word, n in _HOURS.items() if re.search(rf"\b{word}\b", told)), 8)
    hour = (int(at[1]) + (12 if at[3] and int(at[1]) < 12 else 0)) % 24 if at else named
    when = f"BYHOUR={hour};BYMINUTE={int(at[2] or 0) if at else 0}"
    if monthly:
        return f"FREQ=MONTHLY;BYMONTHDAY=1;{when}"
    return f"FREQ=WEEKLY;BYDAY={','.join(days or ['MO'])};{when}" if weekly else f"FREQ=DAILY;{when}"


def _line(name: str, clause: str) -> dict[str, Any]:
    line: dict[str, Any] = {"kind": name, "words": clause}
    if (found := _URL.search(clause)) or (found := _MAIL.search(clause)):
        line["address"] = found.group()
    if name == "search":
        found = _QUERY.search(clause)
        line["query"] = (
            found[1] if found else re.sub(r"^(?:search|find|research(?:es)?|look up)\b(?: it)?\s*", "", _plain(clause), flags=re.I)
        )
    if name == "draft":
        plain = _plain(clause)
        verb = _VERB.match(plain)
        title = _WHAT.split(plain[verb.end() :])[0].split()[:3] if verb else []
        while len(title) > 1 and title[-1].lower() in _TRAILING:
            title.pop()
        line["title"] = _title(" ".join(title).strip(".,; "), plain)
        asked = plain if re.match(rf"(?:{_DONE}|{_LINES[-1][1][1:]})", plain, re.I) else f"write {plain}"
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
    return _URL.sub(lambda m: f"\x00{m.start()}\x00", text)


def _shown(clause: str, whole: str) -> str:
    return re.sub(r"\x00(\d+)\x00", lambda m: _URL.match(whole, int(m[1])).group(), clause)  # type: ignore[union-attr]
