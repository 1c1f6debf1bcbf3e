"""The practice model: honest text work without learning. The same messages always give the same answer.

It ranks sentences of the material by the words the material keeps coming back to, puts the best of them together
within the measurable instructions it finds (length, hashtags, texts to include, words to avoid), and on a rewrite
does what notes ask for as far as it understands them. It can be told to break instructions at given rates.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections import Counter
from dataclasses import dataclass, field, replace
from itertools import takewhile
from typing import Any

from . import describing, planner, shaping, worker
from .words import PLAIN, STOP

_INLINE = re.compile(r"<material[^>\n]*>([^\n]*?)</material>")
_VALUE = re.compile(r'<material source="([^"\n]*)">([^\n]*?)</material>')
_MATERIAL = re.compile(r"<material[^>]*>\n?(.*?)</material>", re.DOTALL)
_ENDS = '.!?…:;”"’)'
LONG = 700
"""Characters from which on a text has paragraphs."""
_SENTENCE = re.compile(r"(?<=[.!?])[”\"’)]*\s+(?=[“\"‘(A-Z0-9])")
_WORD = re.compile(r"[^\W\d_]{3,}")
_URL = re.compile(r"https?://[^\s<>\"”]+")
_NOTE = re.compile(r"sent your draft back with this note:\n(.*?)(?:\n\nEarlier|\n\nWrite it again|\Z)", re.DOTALL)


_ONE_LINE = re.compile(r"^Write (?:an?|one|the) (?:[\w-]+ ){0,2}(?:line|sentence|title|headline|hook|PS)\b", re.M)


@dataclass
class Task:
    """What the messages ask for, as far as the practice model understands them."""

    material: str
    ask: str
    longest: int = 600
    least: int = 0
    """Words it has to have at least."""
    sentences: int = 100
    hashtags: tuple[int, int] = (0, 0)
    include: list[str] = field(default_factory=list)
    avoid: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    previous: str = ""
    turn: int = 0
    """How many drafts there were before."""
    revised: bool = False
    theme: str = ""
    values: list[tuple[str, str]] = field(default_factory=list)
    """Short values from outside that stand in the instructions, with what they are called there."""
    headline: str = ""
    """The title that comes with the material, where one does."""
    question: str = ""
    """A question typed in, which is to be answered or parted."""


def answer(messages: list[dict[str, str]], habits: dict[str, Any], schema: dict[str, Any] | None = None) -> str:
    """The model's answer; `habits` gives rates from 0 to 100 of breaking instructions in a first draft."""
    told = worker.tools_in_words(messages)
    if told and (found := use(messages, told)):
        return json.dumps({"tool": found["name"], "given": found["arguments"]}, ensure_ascii=False)
    messages = [{**m, "role": "user"} if m["role"] == "tool" else m for m in messages]
    task = understand(messages)
    schema = schema or _asked_schema(messages)
    if schema:
        asked = _INLINE.sub(r"\1", "\n".join(m["content"] for m in messages if m["role"] != "assistant"))
        known = (
            describing.plan(asked, schema)
            or describing.change(asked, schema)
            or planner.judge(task.material, task.ask, schema)
            or planner.choose(task.material, task.ask, schema, _rolls("invent", task, messages, habits))
            or planner.titles(task.material, task.ask)
        )
        return misformed(known or added_up(fill(schema, task), task.ask), task, messages, habits)
    if guide := planner.guide(task.ask):
        return guide
    if shaped := in_shape(task):
        text = shaped
    elif len(task.material.split()) < 12 and not task.theme:
        return small_talk(task)
    else:
        text = compose(task, skip=1 if re.search(r"^Write a PS\b", task.ask, re.M) else 0)
    if text == task.previous.strip():
        text = compose(task, skip=1)
    text = misbehave(text, task, messages, habits)
    return shaping.as_html(text) if "Write HTML of these elements" in task.ask else text


def in_shape(task: Task) -> str | None:
    """A piece of which more than sentences is asked: smaller questions, an answer with its sources, a section, sections put together,
    a title; ``None`` where it is a text like any other."""
    ask = task.ask
    if task.question and task.notes == [] and not re.search(r"^\s*Answer\b", ask, re.M):
        return "\n".join(shaping.sub_questions(task.question))
    if task.question and not re.search(r"^\s*Answer\b", ask, re.M):
        return "\n".join([*shaping.sub_questions(task.question)[:4], *(_asked_of(note, task.question) for note in task.notes[-1:])])
    if task.question and (said := shaping.answered(task.question, task.material)):
        return said
    if re.search(r"\bheading for each\b", ask) and (whole := shaping.put_together(task.material, max(task.longest, 1800))):
        return whole
    if found := re.search(r"Write the section “[^”\n]*” in at most \d+ words: ([^\n]+)", ask):
        return shaping.going_on(found[1].strip(), task.material, task.longest)
    if re.search(r"^Write (?:a|one|the) (?:title|headline)\b", ask, re.M):
        return shaping.headline(task.material, 12, task.headline)[: task.longest]
    return None


def _asked_of(note: str, question: str) -> str:
    """What a note asks to be looked into besides, as a question."""
    about = re.search(r"\babout (.+?)(?: as well| too|[.!?]|$)", note)
    return f"What is known of {about[1]}?" if about else shaping.sub_questions(question)[-1]


def use(messages: list[dict[str, Any]], tools: list[dict[str, Any]]) -> dict[str, Any] | None:
    """The tool to use next (name, arguments), or ``None`` where it is time to answer."""

    def composed(most: int) -> str:
        task = understand([{**m, "role": "user"} if m["role"] == "tool" else m for m in messages])
        task.longest = most
        return compose(task).split("\n")[0] or task.ask[:most]

    return worker.next_use(messages, tools, composed)


def _asked_schema(messages: list[dict[str, str]]) -> dict[str, Any] | None:
    """A JSON Schema written out in the instructions."""
    for message in messages:
        if message["role"] == "system" and (found := re.search(r"JSON of this schema[^{\n]*(\{.+\})", message["content"])):
            try:
                schema: dict[str, Any] = json.loads(found.group(1))
                return schema
            except ValueError:
                continue
    return None


def understand(messages: list[dict[str, str]]) -> Task:
    """Read the messages: material, measurable instructions, notes, the previous draft."""
    asks = [m["content"] for m in messages if m["role"] in ("system", "user")]
    said = "\n".join(asks)
    everything = _INLINE.sub(r"\1", said)  # a word or two from outside, within a line
    # What stands in the standing part shows the manner; facts are taken from it only where there are no others.
    given = _INLINE.sub(r"\1", "\n".join(m["content"] for m in messages if m["role"] == "user"))
    found = _MATERIAL.findall(given) or _MATERIAL.findall(everything)
    material, theme = "\n\n".join(m.strip() for m in found), ""
    ask = _MATERIAL.sub("", everything)
    alone = (_VALUE.fullmatch(line.strip()) for line in said.splitlines())
    headings = [one[2] for one in alone if one and 1 < len(one[2].split()) < 15 and one[2][-1] not in ".!?"]
    if not material:
        # What was asked first; what is said about a draft afterwards is no material.
        asked = takewhile(lambda m: m["role"] != "assistant", messages)
        told = _INLINE.sub(r"\1", max((m["content"] for m in asked if m["role"] == "user"), key=len, default=""))
        material, theme = _without_orders(told)
    drafts = [m["content"] for m in messages if m["role"] == "assistant"]
    task = Task(
        material,
        ask,
        theme=theme,
        values=_VALUE.findall(said),
        headline=next(iter(headings), ""),
        previous=drafts[-1] if drafts else "",
        turn=len(drafts),
        revised="broke these rules" in ask,
    )
    task.question = _question(messages)
    task.notes = [n.strip() for n in _NOTE.findall(ask)]
    earlier = re.findall(r"Earlier notes, which still hold:\n((?:- .*\n?)+)", ask)
    task.notes += [line[2:] for block in earlier for line in block.splitlines()]
    lengths = [int(n) for n in re.findall(r"(?:at most|under|up to|no more than) (\d+) characters", ask)]
    lengths += [int(n) * 6 for n in re.findall(r"(?:at most|about|under|up to) (\d+) words", ask)]
    task.longest = min(lengths, default=600)
    task.least = max((int(n) for n in re.findall(r"at least (\d+) words", ask)), default=0)
    if _ONE_LINE.search(ask):
        task.sentences = 1
    task.hashtags = _hashtags(ask)
    task.include = [t.strip() for t in re.findall(r"(?:Include this exactly|must contain exactly this): (.+)", ask)]
    if not task.include and re.search(r"\b(include|with|add|end with|give) (the|a|its) link\b", ask, re.I):
        task.include = _URL.findall(ask)[:1]
    task.include = list(dict.fromkeys(task.include))
    for words in re.findall(r"Do not use(?: these words)?: (.+)", ask):
        task.avoid += [w.strip(" .") for w in words.split(",")]
    for note in task.notes:
        _heed(task, note)
    return task


def _without_orders(told: str) -> tuple[str, str]:
    """What stands in a prompt besides its orders and what is not stated, and the theme an order names; all of it where that is nothing."""
    theme, kept, names_it = "", [], False
    for line in (one.strip() for one in told.splitlines() if one.strip()):
        if _ORDER.match(line):
            found = _ABOUT.search(line)
            theme = theme or (found[1].strip(' .:“”"') if found else "")
            names_it = line.endswith(":")
        elif names_it and not theme and len(line.split()) < 12:
            # “Write about this topic:”, and the topic below it.
            theme, names_it = line.strip(' .“”"'), False
        elif not _UNSTATED.search(line):
            kept.append(re.sub(r"^[A-Z][\w’ ]{1,30}: (?=\S)", "", line))
    return ("\n".join(kept), theme) if kept or theme else (told, "")


def _question(messages: list[dict[str, str]]) -> str:
    """The question that a first prompt puts, where it has one to be answered or parted."""
    first = _MATERIAL.sub("", _INLINE.sub(r"\1", next((m["content"] for m in messages if m["role"] == "user"), "")))
    asks = re.match(r"\s*(?:Answer|Break|Split|Part|Divide) (?:this|the) question\b", first)
    return next((line.strip() for line in first.splitlines() if line.strip().endswith("?")), "") if asks else ""


_ORDER = re.compile(
    r"^(?:Write|Draft|Compose|Make|Break|Answer|Plan|Say|Turn|Edit|Summari[sz]e|Put|Tell|Take|Keep|Give|List|Find)\b"
)
_ABOUT = re.compile(r"\babout:? (?!this\b|it\b)(.{3,80})$")
_UNSTATED = re.compile(r":\s*(?:not stated\.?)?\s*$")


def _hashtags(ask: str) -> tuple[int, int]:
    for pattern, take in (
        (r"no hashtags?\b|without hashtags?", lambda m: (0, 0)),
        (r"exactly (\d+) hashtags?", lambda m: (int(m[1]), int(m[1]))),
        (r"(\d+) to (\d+) hashtags?", lambda m: (int(m[1]), int(m[2]))),
        (r"at most (\d+) hashtags?", lambda m: (min(1, int(m[1])), int(m[1]))),
        (r"\b(one|two|three) hashtags?", lambda m: (["one", "two", "three"].index(m[1].lower()) + 1,) * 2),
    ):
        if found := re.search(pattern, ask, re.I):
            return take(found)  # type: ignore[return-value]
    return (0, 0)


def _heed(task: Task, note: str) -> None:
    """Let a note change the task."""
    if re.search(r"\b(shorter|too long|briefer|cut it)\b", note, re.I) and task.previous:
        task.longest = min(task.longest, max(80, int(len(task.previous) * 0.75)))
    for found in re.findall(
        r"(?:without|leave out|don[’']t (?:mention|say|use)|do not (?:mention|say|use)|avoid) [“\"]?([\w -]+)", note, re.I
    ):
        task.avoid.append(re.sub(r"^the ", "", found.strip()))
    task.include += [t for t in re.findall(r"[“\"]([^”\"]{3,80})[”\"]", note) if t not in task.include and t not in task.avoid]


def compose(task: Task, skip: int = 0) -> str:
    """The best sentences that fit, in the order of the material, then links and hashtags."""
    task = replace(task, material=_as_said(task.material))
    least, most = task.hashtags
    little = bool(task.theme) and len(task.material.split()) < LITTLE
    tags = _tags(replace(task, material=task.theme) if little else task, max(least, min(most, 2)) if most else 0)
    links = [t for t in task.include if _URL.fullmatch(t)]
    phrases = [t for t in task.include if not _URL.fullmatch(t)]
    tail = "\n".join([*links, *([" ".join(tags)] if tags else [])])
    room = task.longest - len(tail) - (2 if tail else 0)
    fitting_words = [s for s in rank(task) if not any(a.lower() in s.lower() for a in task.avoid)]
    ranked = fitting_words[skip:] or fitting_words
    chosen: list[str] = [f"{p}." if p[-1:].isalnum() else p for p in phrases if p not in "".join(ranked[:1])]
    for sentence in ranked:
        fitting = sentence if _size([*chosen, sentence]) <= room else _clip(sentence, room - _size([*chosen, ""]))
        if fitting and fitting[:30] not in [c[:30] for c in chosen] and (len(chosen) < 3 or task.longest > 500):
            chosen.append(fitting)
        enough = len(" ".join(chosen).split()) >= task.least
        if (_size(chosen) > room * 0.75 and enough) or len(chosen) >= task.sentences:
            break
    if not chosen and ranked:
        chosen = [ranked[0][: max(20, room - 1)].rsplit(" ", 1)[0] + "…"]
    whole = task.material
    ordered = sorted(chosen, key=lambda s: whole.find(s[:25]))
    if little:
        ordered = [_of_theme(task.theme, task.turn)]
    elif task.theme and len(task.theme) + 2 + _size(ordered) <= room and task.theme.lower() not in " ".join(ordered).lower():
        # What it is to be about stands at its head.
        ordered = [f"{task.theme}.", *ordered]
    body = _in_paragraphs([f"{s[:1].upper()}{s[1:]}" for s in ordered], whole, task.longest)
    if (asked := _FINDINGS.search(task.ask)) and body.count("\n\n") > 3:
        # Paragraphs first, and the rest as a list.
        first, rest = body.split("\n\n")[:3], [s for p in body.split("\n\n")[3:] for s in shaping.sentences_of(p)]
        count = {"three": 3, "four": 4, "five": 5, "six": 6}.get(asked[1].lower(), 5)
        body = "\n\n".join([*first, "\n".join(f"- {s}" for s in rest[:count])])
    return f"{body}\n\n{tail}".strip() if tail else body


_FINDINGS = re.compile(r"\b(three|four|five|six|some) (?:findings|points) as a list\b", re.I)


def _in_paragraphs(sentences: list[str], material: str, longest: int) -> str:
    """Sentences as running text; in a long one each part of the material has a paragraph of its own."""
    paragraphs: dict[int, list[str]] = {}
    for sentence in sentences:
        place = max(material.find(sentence[:25]), 0)
        paragraphs.setdefault(material.count("\n", 0, place) if longest > LONG else 0, []).append(sentence)
    return "\n\n".join(" ".join(one) for one in paragraphs.values())


_SPEAKER = re.compile(r"^[A-Z][\w’-]+(?: [A-Z][\w’-]+){1,2}: ", re.MULTILINE)
_PATTER = re.compile(r"(?:Now to this|Good (?:morning|day|evening)|Welcome|You are listening|That was|Until next|Thank you for)\b")


LITTLE = 30
"""Words of material with which a theme cannot be filled."""


def _of_theme(theme: str, turn: int) -> str:
    """What can honestly be said of a theme of which little is known: a question, at each turn another."""
    begun = f"{theme[:1].upper()}{theme[1:]}"
    within = theme if theme[1:2].isupper() else f"{theme[:1].lower()}{theme[1:]}"
    asks = (
        f"{begun}: what would you like to know?",
        f"We have been thinking about {within}. How is it with you?",
        f"{begun}. Have you ever wondered? Ask us below.",
        f"One question today, about {within}: what should we show you first?",
        f"Tell us what you make of {within}, and we take it up next time.",
    )
    return asks[(sum(theme.encode()) + turn) % len(asks)]


def _as_said(material: str) -> str:
    """What was said, without who says it and how listeners are greeted; other texts stay as they are."""
    if len(_SPEAKER.findall(material)) < 3:
        return material
    lines = (_SPEAKER.sub("", line) for line in material.split("\n"))
    return "\n".join(" ".join(s for s in _SENTENCE.split(line) if not _PATTER.match(s)) for line in lines)


def rank(task: Task) -> list[str]:
    """The material's sentences, best first: frequent words, early place, and what the notes speak of."""
    lines = (re.sub(r"^\s*(?:summary|title|text): ", "", p) for p in task.material.split("\n"))
    paragraphs = [p for p in lines if len(p.split()) > 6 and shaping.whole(p)]
    sentences = [s for p in paragraphs for s in shaping.sentences_of(p) if 5 <= len(s.split()) <= 60]
    # A headline among its text is said as a sentence.
    sentences = [s if s[-1] in _ENDS else f"{s}." for s in (re.sub(r"^\d+\. ", "", s) for s in sentences) if s]
    if not sentences:
        # Little to go by: a short value, a few lines of a draft. They are said as they stand.
        said = (line.strip(" -–•*#>\t") for p in task.material.split("\n") for line in _SENTENCE.split(p))
        sentences = [s if s[-1] in _ENDS else f"{s}." for s in said if len(s.split()) > 1 and not _URL.fullmatch(s)]
    counts = Counter(w.lower() for w in _WORD.findall(task.material) if w.lower() not in STOP)
    wanted = [{w.lower() for w in _WORD.findall(n) if w.lower() not in STOP} for n in task.notes]
    figures = any(re.search(r"\b(numbers?|figures?|how many|price|costs?)\b", n, re.I) for n in task.notes)

    def score(place: int, sentence: str) -> float:
        words = [w.lower() for w in _WORD.findall(sentence)]
        value = sum(counts[w] for w in set(words)) / (len(words) + 6)
        value += 2.5 / (place + 1) + (0.3 if re.search(r"\d", sentence) else 0)
        value -= 1.2 if sentence[0] in '“"' or re.match(r"(?:But|And|It|She|He|They|This|That|Of|Nor)\b", sentence) else 0
        value += 4.0 * sum(1 for w in wanted if any(_akin(a, b) for a in w for b in words))
        value += 1.5 if figures and re.search(r"\d", sentence) else 0
        return value + (0.9 if task.previous and sentence[:30] in task.previous else 0)

    return [s for _, s in sorted(((-score(i, s), s) for i, s in enumerate(sentences)), key=lambda pair: pair[0])]


def _akin(a: str, b: str) -> bool:
    return a == b or (min(len(a), len(b)) > 4 and a[: min(len(a), len(b), 6)] == b[: min(len(a), len(b), 6)])


def _size(parts: list[str]) -> int:
    return sum(len(p) for p in parts) + max(0, len(parts) - 1)


def _clip(sentence: str, room: int) -> str:
    """The longest beginning of `sentence` that ends with a clause and fits; empty where none is worth it."""
    marks = r"; |: |,? (?:which|because|where|until|so that|since|although|though)\b"
    ends = [m.start() for m in re.finditer(marks, sentence)]
    for end in reversed(ends):
        clause = re.sub(r",? (?:of|to|in|for|from|with|by|on|at|and)$", "", sentence[:end].rstrip(" ,;:")).rstrip(" ,;:")
        if (
            len(clause) + 1 <= room
            and len(clause.split()) >= 6
            and clause.count("“") == clause.count("”")
            and clause.count('"') % 2 == 0
        ):
            return clause + "."
    return ""


def _tags(task: Task, count: int) -> list[str]:
    own = [t for n in task.notes for t in re.findall(r"#\w+", n)]
    words = [w for w in re.findall(r"[^\W\d_][^\W\d_-]{3,}", task.material) if w.lower() not in STOP | PLAIN]
    names = Counter(re.findall(r"(?<=[a-z,] )[A-Z][a-z]{3,}", task.material))
    counts = Counter(w.lower() for w in words if not w.endswith("ed"))
    best = sorted(counts, key=lambda w: -(counts[w] + 0.7 * names[w.capitalize()]))[:8]
    named = [f"#{w.capitalize()}" for w in best if w not in " ".join(task.avoid).lower()]
    return list(dict.fromkeys([*own, *named]))[:count]


def misbehave(text: str, task: Task, messages: list[dict[str, str]], habits: dict[str, Any]) -> str:
    """Break instructions at the rates set on the control page; a revised draft breaks them a quarter as often."""

    def rolls(habit: str) -> bool:
        return _rolls(habit, task, messages, habits)

    if rolls("length"):
        for sentence in rank(task):
            if len(text) > task.longest:
                break
            if sentence not in text:
                text = f"{sentence} {text}"
    if rolls("figure"):
        # A figure that stands nowhere, in a sentence of its own.
        text = re.sub(r"(?=\n\n|\Z)", f" It has grown by {37 + len(text) % 60} per cent.", text, count=1)
    if rolls("counts"):
        text = f"{text} #{' #'.join(w.capitalize() for w in _counted_words(task)[:4])}"
    if rolls("emoji"):
        text = re.sub(r"(?=\n\n|\Z)", " 🌱", text, count=1)
    if rolls("quotes"):
        text = f"“{text.replace('“', '').replace('”', '')}”"
    if rolls("preamble"):
        text = f"Here is your post:\n{text}"
    return text


def _counted_words(task: Task) -> list[str]:
    """The words the material has most of, that its hashtags may be made of."""
    words = Counter(w.lower() for w in _WORD.findall(task.material) if len(w) > 4 and w.lower() not in STOP | PLAIN)
    return [word for word, _ in words.most_common(8)]


def small_talk(task: Task) -> str:
    """An answer where there is no material to work on."""
    if "greeting" in task.ask:
        return "Good day from the practice model."
    return "There is no material here to write from."


def _rolls(habit: str, task: Task, messages: list[dict[str, str]], habits: dict[str, Any]) -> bool:
    # The port the town happens to have must not decide what the model does.
    seed = re.sub(r"127\.0\.0\.1:\d+", "", "".join(m["content"] for m in messages))
    rate = int(habits.get(habit, 0)) // (4 if task.revised else 1)
    return int(hashlib.sha256(f"{habit}{seed}".encode()).hexdigest()[:8], 16) % 100 < rate


def misformed(answer: Any, task: Task, messages: list[dict[str, str]], habits: dict[str, Any]) -> str:
    """The answer as JSON; at the rate set, in talk and a fence, or with a field left out."""
    text = json.dumps(answer, ensure_ascii=False)
    if not _rolls("format", task, messages, habits):
        return text
    if isinstance(answer, dict) and len(text) % 2:
        return json.dumps(dict(list(answer.items())[:-1]), ensure_ascii=False)
    return f"Here is what you asked for:\n```json\n{text}\n```\nI hope it helps."


def _fitting(choices: list[Any], task: Task) -> Any:
    """The choice whose words, and the words of its meaning in the instructions, the material has most of."""
    said = Counter(w.lower()[:6] for w in _WORD.findall(task.material))

    def weight(choice: Any) -> float:
        told = re.search(rf"^- {re.escape(str(choice))}: (.+)$", task.ask, re.MULTILINE)
        words = {w.lower()[:6] for w in _WORD.findall(f"{choice} {told.group(1) if told else ''}") if w.lower() not in STOP}
        return sum(said[w] > 0 for w in words) + 0.1 * sum(said[w] for w in words)

    return max(choices, key=weight)


def _one_each(schema: dict[str, Any], task: Task) -> list[dict[str, Any]]:
    """An element for each line of a list in the instructions, where one is asked for: its name as it stands there, a choice by how much
    of the line the material speaks of, and the sentence that speaks of it most."""
    parts = schema.get("properties", {})
    named = next((name for name, part in parts.items() if "as it stands above" in part.get("description", "")), "")
    listed = re.search(rf"^(?:The )?{named}s?:\n((?:.+\n)+)", f"{task.ask}\n", re.MULTILINE | re.IGNORECASE) if named else None
    out: list[dict[str, Any]] = []
    for line in listed.group(1).splitlines() if listed else ():
        wanted = {w.lower()[:6] for w in _WORD.findall(line) if w.lower() not in STOP}

        def speaks(sentence: str, wanted: set[str] = wanted) -> int:
            return len(wanted & {w.lower()[:6] for w in _WORD.findall(sentence)})

        best = max(rank(task) or [""], key=speaks)
        found = speaks(best)
        one: dict[str, Any] = {}
        for name, part in parts.items():
            if name == named:
                one[name] = line.partition(":")[0].strip(" -•")
            elif choices := part.get("enum"):
                one[name] = choices[0 if found > 1 else min(1, len(choices) - 1) if found else -1]
            else:
                one[name] = best if found else "not stated"
        out.append(one)
    return out


def added_up(answer: Any, ask: str) -> Any:
    """The answer with the numbers of a field shared out so that they add up, where that is asked for."""
    asked = re.search(r"The “(\w+)” of all items must add up to (\d+)", ask)
    items = answer.get("items") if isinstance(answer, dict) else None
    if asked and items and isinstance(items[0], dict) and asked.group(1) in items[0]:
        share, rest = divmod(int(asked.group(2)), len(items))
        for n, item in enumerate(items):
            item[asked.group(1)] = share + (rest if n == 0 else 0)
    return answer


def fill(schema: dict[str, Any], task: Task, place: int = 0) -> Any:
    """A value that fits a JSON Schema, filled with sentences of the material where texts are wanted."""
    if "enum" in schema:
        return _fitting(schema["enum"], task)
    kind = schema.get("type", "string")
    kind = next((k for k in kind if k != "null"), "string") if isinstance(kind, list) else kind
    if kind == "object":
        parts = schema.get("properties", {})
        if place:  # one of several
            return {name: fill(part, task, place * len(parts) + i) for i, (name, part) in enumerate(parts.items())}
        used: set[str] = set()
        return {name: _field(name, part, task, i, used) for i, (name, part) in enumerate(parts.items())}
    if kind == "array":
        item = schema.get("items", {})
        if one_each := _one_each(item, task) or _sections(item, task):
            return one_each
        if item.get("type") == "string" and re.search(r"\bwords\b|\btags\b", schema.get("description", "")):
            return shaping.keywords(task.material, 5)
        return [fill(item, task, i) for i in range(max(int(schema.get("minItems", 1)), 3))]
    if kind in ("integer", "number"):
        return max(int(schema.get("minimum", 0)), len(task.material.split()))
    if kind == "boolean":
        return bool(task.material)
    ranked = rank(task) or [small_talk(task)]
    return ranked[place % len(ranked)][: int(schema.get("maxLength", 400))]


_NAMED = re.compile(r"\b(?:title|headline|heading)\b", re.I)
_ITS_NAME = re.compile(r"\bname\b.*\b(?:conversation|says it)\b", re.I)


def _field(name: str, part: dict[str, Any], task: Task, place: int, used: set[str]) -> Any:
    """A field of an object by what its name and description speak of; `used` are the sentences that others have."""
    about = str(part.get("description", ""))
    if part.get("type", "string") != "string" or "enum" in part:
        return fill(part, task, place)
    if _NAMED.search(f"{name} {about.partition(',')[0]}"):
        return shaping.headline(task.material, own=task.headline)
    if _ITS_NAME.search(about) and (own := shaping.known_as(task.values, name)):
        return shaping.in_talk(own)
    if re.search(r"\bpersonal\b.*\bsentence\b", about) and task.values:
        told = [value for _, value in task.values if len(value.split()) > 4 and value[-1] in _ENDS]
        whose = shaping.known_as(task.values, "company") or task.values[0][1]
        return shaping.quoted(told[-1]) if told else f"We have read the pages of {whose}."
    if sentence := shaping.of_sense(name, about, task.material, used):
        return sentence[: int(part.get("maxLength", 400))]
    if re.search(rf"^- {re.escape(name)} \([^)\n]*\bif known\)", task.ask, re.M):
        return "not stated"
    left = [s for s in rank(task) if s not in used] or rank(task) or [small_talk(task)]
    used.add(left[0])
    return left[0][: int(part.get("maxLength", 400))]


def _sections(schema: dict[str, Any], task: Task) -> list[dict[str, Any]]:
    """Sections of a text that is to be planned, so many as are asked for; none where that is not what is asked."""
    parts = schema.get("properties", {})
    asked = re.search(r"\bin ?(\d*) sections\b", re.sub(r"  +", " ", task.ask))
    if not asked or "heading" not in parts:
        return []
    told = shaping.planned(task.material, int(asked[1] or 3))
    texts = [name for name, part in parts.items() if name != "heading" and part.get("type", "string") == "string"]
    return [
        {n: heading if n == "heading" else says if n in texts else fill(parts[n], task) for n in parts} for heading, says in told
    ]
