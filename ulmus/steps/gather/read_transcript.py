"""Gather: a transcript, and the chapters of the recording."""

from __future__ import annotations

import re

from pydantic import BaseModel, Field

from ...core.cost import Usage
from ...core.drafting.prompts import as_material, material_note
from ...core.drafting.shapes import Shape
from ...core.gather.cues import Chapter, Cue, Fineness
from ...protocols import transcripts
from ...protocols.text import decode
from ..api import Context, Performs, Result, Settings, setting
from ..shared.files import fetch
from ..shared.models import ask

LONGEST_TOLD = 900


class TranscriptSettings(Settings):
    source: str = setting(
        "Transcript",
        "Its address (WebVTT or SRT), the link of a file from a form, or the transcript itself.",
        control="slots",
        takes="transcript|link|url|text",
        min_length=1,
        max_length=10_000_000,
    )
    fineness: Fineness = setting(
        "Chapters",
        "Few: one in about a quarter of an hour; some: in seven minutes; many: in four.",
        control="choice",
        default="some",
        labels={"few": "few", "some": "some", "many": "many"},
    )
    model: str = setting(
        "Titles by",
        "A model words the titles; without one they are made from the words that stand out.",
        control="connection",
        needs="model",
        default="",
    )
    store: str = setting("In the file store", "Empty for an address.", control="connection", needs="files", default="", more=True)


class ChapterValue(BaseModel):
    at: str = Field("", description="When it begins, such as 4:05.")
    title: str = Field("", description="Its title.")
    seconds: float = Field(0, description="When it begins, in seconds.")
    words: str = Field("", description="The words that set it apart.")
    text: str = Field("", description="All that is said in it.")


class TranscriptOutput(BaseModel):
    chapters: list[ChapterValue] = Field([], description="The chapters, in order.")
    lines: str = Field("", description="The chapters as lines: time and title.")
    text: str = Field("", description="All that is said.")
    speakers: list[str] = Field([], description="Who speaks.")
    minutes: float = Field(0, description="How long the recording is.")
    words: int = Field(0, description="How many words are said.")
    count: int = Field(0, description="How many chapters there are.")


def perform(settings: TranscriptSettings, context: Context) -> Result:
    """Read the transcript, find its chapters, and title them."""
    from ...core.gather.chapters import chapters  # loaded on first use: it is large

    cues = transcripts.parse(_source(settings, context))
    found = chapters(cues, settings.fineness)
    titles, usage, detail = [_plain_title(one) for one in found], Usage(), {}
    if settings.model and found:
        titles, usage, messages = _titles(found, settings.model, context, titles)
        detail = {"messages": messages}
    values = [
        {"at": transcripts.stamp(one.start), "title": title, "seconds": one.start, "words": ", ".join(one.words), "text": one.text}
        for one, title in zip(found, titles, strict=True)
    ]
    text = said(cues)
    output = {
        "chapters": values,
        "lines": "\n".join(f"{value['at']} {value['title']}" for value in values),
        "text": text,
        "speakers": list(dict.fromkeys(cue.speaker for cue in cues if cue.speaker)),
        "minutes": round((cues[-1].end - cues[0].start) / 60, 1),
        "words": len(text.split()),
        "count": len(values),
    }
    return Result(output, detail, usage)


def said(cues: list[Cue]) -> str:
    """All that is said, a paragraph for each turn of a speaker."""
    out: list[str] = []
    before: str | None = None
    for cue in cues:
        if cue.speaker != before or not out:
            out.append(f"{cue.speaker}: {cue.text}" if cue.speaker else cue.text)
        else:
            out[-1] += f" {cue.text}"
        before = cue.speaker
    return "\n\n".join(out)


def _source(settings: TranscriptSettings, context: Context) -> str:
    place = settings.source.strip()
    if "-->" in place:
        return place
    _, _, charset, body = fetch(place, settings.store, context)
    return decode(body, charset)


def _plain_title(chapter: Chapter) -> str:
    first = re.split(r"(?<=[.!?])\s", chapter.text, maxsplit=1)[0]
    words = ", ".join(chapter.words[:3])
    return (words[:1].upper() + words[1:]) or " ".join(first.split()[:8])


def _titles(found: list[Chapter], model: str, context: Context, plain: list[str]) -> tuple[list[str], Usage, list[dict[str, str]]]:
    """Titles worded by a model, in one call; where it leaves one out, the plain one stands."""
    told = "\n\n".join(f"Chapter {n}\n{one.text[:LONGEST_TOLD]}" for n, one in enumerate(found, start=1))
    system = f"You title the chapters of a recording: one title for each, of at most eight words, from what is said in it. {material_note()}"
    user = f"Give exactly {len(found)} titles, in order.\n\n{as_material('recording', told)}"
    values, usage, messages = ask(context, model, system, user, Shape("list"))
    titles = [
        re.sub(r"^\s*(?:chapter\s*)?\d+[.:)]?\s*", "", str(value), flags=re.I).strip(' ."“”')[:120] for value in values["items"]
    ]
    return [titles[i] if i < len(titles) and titles[i] else plain[i] for i in range(len(found))], usage, messages


KIND = Performs(
    name="read_transcript",
    stage="gather",
    title="Read a transcript",
    about="What is said in a recording, by whom, and its chapters: found where the subject changes, titled by a model.",
    sentence="Read the transcript {source} and find {fineness} chapters",
    offer="Read a transcript and find its chapters",
    words="recording podcast video episode audio chapters vtt srt subtitles speakers transcribe transcript captions",
    called="recording",
    settings=TranscriptSettings,
    output=TranscriptOutput,
    perform=perform,
    gives_outside=True,
    reaches="source",
    brief="{count} chapters · {minutes} minutes",
)
