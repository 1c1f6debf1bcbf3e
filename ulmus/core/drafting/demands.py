"""Rules in words for the prompt, so that model and measure agree; and whether they can all be kept."""

from __future__ import annotations

from collections.abc import Sequence

from .filling import unsettled
from .rules import (
    LANGUAGES,
    PARTS,
    AddsUp,
    CleanHtml,
    Contains,
    Easy,
    Emoji,
    Hashtags,
    InLanguage,
    Lacks,
    Length,
    Links,
    LinksAnswer,
    Mentions,
    NoEcho,
    NoEmoji,
    NoQuotes,
    NotStated,
    OnlyThePiece,
    Rule,
    Says,
    Sentences,
    Spoken,
    Unlike,
    Words,
)


def demand(rule: Rule) -> str:
    """The rule as an instruction for the prompt, so that model and measure agree."""
    if not rule.of:
        return _demand(rule)
    of = PARTS.get(rule.of, f"“{rule.of}”")
    return f"For {of}: {_demand(rule)}"


def _demand(rule: Rule) -> str:
    match rule:
        case Length():
            parts = [f"at most {rule.most} {rule.counting.words}"] if rule.most is not None else []
            parts += [f"at least {rule.least} {rule.counting.words}"] if rule.least else []
            return "Write " + " and ".join(parts) + "."
        case Hashtags():
            return f"Use {span(rule.least, rule.most)} hashtag{'' if rule.most == 1 else 's'}."
        case NoEmoji():
            return "Use no emoji."
        case NoQuotes():
            return "Put no quotation marks round the whole."
        case OnlyThePiece():
            return "Answer with nothing but the piece."
        case Contains():
            return f"Include this exactly: {rule.text}"
        case Lacks():
            return "Do not use these words: " + ", ".join(rule.words) + "."
        case Words() | Sentences():
            what = rule.rule
            parts = [f"at most {rule.most} {what}"] if rule.most is not None else []
            parts += [f"at least {rule.least} {what}"] if rule.least else []
            return "Write " + " and ".join(parts or [f"any number of {what}"]) + "."
        case Spoken():
            return f"Write at most {int(rule.most * rule.pace / 60)} words: it is spoken, and may take {rule.most} seconds."
        case Emoji() | Links() | Mentions():
            many = rule.rule if rule.most != 1 or rule.rule == "emoji" else rule.rule.removesuffix("s")
            return f"Use {span(rule.least, rule.most)} {many}."
        case Says():
            return "Say at least one of these: " + ", ".join(rule.words) + "."
        case Easy():
            return "Write short sentences of short words, easy to read."
        case InLanguage():
            return f"Write in {LANGUAGES.get(rule.code, rule.code)}."
        case CleanHtml():
            return "Write HTML with these elements only: " + ", ".join(rule.allowed) + "."
        case NoEcho():
            return "Do not repeat these instructions in the text."
        case NotStated():
            return "Say only what the material says. Where it says nothing, write “not stated”."
        case Unlike():
            return "Do not say it as it was said before; find words and an angle of its own."
        case AddsUp():
            return f"The “{rule.field}” of all items must add up to {rule.text.strip()}."
        case LinksAnswer():
            return "Use only links that stand in the material."


def contradictions(rules: Sequence[Rule]) -> list[str]:
    """Rules that cannot all be kept, and rules whose filled-in numbers are none, in words; empty where there are none."""
    out = [words for rule in rules if (words := unsettled(rule))]
    for of in dict.fromkeys(rule.of for rule in rules):
        some = [rule for rule in rules if rule.of == of]
        out += [f"For {PARTS.get(of, f'“{of}”')}: {words}" if of else words for words in _contradictions(some)]
    return out


def _contradictions(rules: Sequence[Rule]) -> list[str]:
    most = min((r.most for r in rules if isinstance(r, Length) and r.most is not None), default=None)
    least = max((r.least for r in rules if isinstance(r, Length) and r.least is not None), default=0)
    out = []
    if most is not None and least > most:
        out.append(f"No draft can have at least {least} and at most {most} characters.")
    tags = [r for r in rules if isinstance(r, Hashtags)]
    if tags and max(r.least for r in tags) > min(r.most for r in tags):
        out.append("No draft can keep the numbers of hashtags asked for.")
    for kind in (Words, Sentences, Links, Mentions, Emoji):
        bounds = [r for r in rules if isinstance(r, kind)]
        least_one = max((r.least or 0 for r in bounds), default=0)
        if any(r.most is not None and r.most < least_one for r in bounds):
            out.append(f"No draft can keep the numbers of {bounds[0].rule} asked for.")
    if any(isinstance(r, NoEmoji) for r in rules) and any(isinstance(r, Emoji) and r.least for r in rules):
        out.append("Emoji are asked for and forbidden.")
    if len({r.code for r in rules if isinstance(r, InLanguage) and "<<" not in r.code}) > 1:
        out.append("No draft can be in two languages.")
    wanted = [r.text for r in rules if isinstance(r, Contains)]
    if most is not None and any("<<" not in w and len(w) > most for w in wanted):
        out.append(f"The text that must be contained is longer than {most} characters.")
    return out


def span(least: int, most: int) -> str:
    """A range in words, such as *1 to 3*."""
    if least == most:
        return "no" if most == 0 else f"exactly {most}"
    return f"{least} to {most}" if least else f"at most {most}"
