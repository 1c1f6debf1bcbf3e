"""Transcripts in WebVTT (W3C) and SRT: who said what, from when to when."""

from __future__ import annotations

import html
import re
from io import StringIO

from ..core.gather.cues import Cue
from .errors import BadAnswer, TooLarge

LARGEST = 10_000_000
MOST_CUES = 60_000
_VOICE = re.compile(r"<v(?:\.[\w.-]+)?\s+([^<>]+)>")
_TAG = re.compile(r"</?[a-z][^<>]*>|<\d[\d:.]*>|\{\\[^{}]*\}", re.IGNORECASE)
_SPOKEN_BY = re.compile(r"^\s*(?:-\s*)?\[?([A-Z][\w.’'-]*(?: [A-Z][\w.’'-]*){0,2})\]?:\s+(?=\S)")


def parse(source: str) -> list[Cue]:
    """The cues of a transcript, in order of time. Raises `OutsideError` where it is none."""
    import webvtt  # loaded on first use
    from webvtt.errors import MalformedCaptionError, MalformedFileError

    text = source.lstrip("\ufeff").replace("\r\n", "\n").replace("\r", "\n").strip() + "\n"
    if len(text) > LARGEST:
        raise TooLarge("This transcript is too long.")
    kind = "vtt" if text.startswith("WEBVTT") else "srt"
    if kind == "srt" and not re.search(r"\d\d?:\d\d:\d\d[,.]\d+\s*-->", text[:20_000]):
        raise BadAnswer("This is no transcript: it is neither WebVTT nor SRT.")
    if kind == "srt":
        text = re.sub(r"(\d)\.(\d{3})(?=\s*-->|\s*$)", r"\1,\2", text, flags=re.MULTILINE)
        text = _numbered(text)
    try:
        track = webvtt.from_buffer(StringIO(text), format=kind)
    except (MalformedFileError, MalformedCaptionError, ValueError, IndexError):
        raise BadAnswer("This transcript is damaged and cannot be read.") from None
    cues = []
    for caption in track.captions[:MOST_CUES]:
        raw = getattr(caption, "raw_text", None) or caption.text
        voice = getattr(caption, "voice", None) or next(iter(_VOICE.findall(raw)), "")
        said = " ".join(html.unescape(_TAG.sub("", raw)).split())
        spoken = None if voice else _SPOKEN_BY.match(said)
        if spoken:
            voice, said = spoken.group(1), said[spoken.end() :]
        if said:
            cues.append(Cue(_seconds(caption.start), _seconds(caption.end), str(voice).strip(), said))
    if not cues:
        raise BadAnswer("Nothing is said in this transcript.")
    return sorted(cues, key=lambda cue: cue.start)


def _numbered(text: str) -> str:
    """An SRT file with its cues numbered: many leave the numbers out, and some the empty lines between cues."""
    lines = text.split("\n")
    out: list[str] = []
    n = 0
    for line in lines:
        if "-->" in line and re.match(r"\s*\d\d?:\d\d:\d\d", line):
            number = False
            while out and (not out[-1].strip() or (out[-1].strip().isdigit() and not number)):
                number = number or out[-1].strip().isdigit()
                out.pop()
            n += 1
            out += ["", str(n), line.strip()] if out else [str(n), line.strip()]
        else:
            out.append(line)
    return "\n".join(out) + "\n"


def stamp(seconds: float) -> str:
    """A moment of a recording: ``4:05``, or ``1:04:05`` from an hour on."""
    whole = int(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02}:{rest % 60:02}" if hours else f"{rest // 60}:{rest % 60:02}"


def _seconds(time: str) -> float:
    parts = [float(part) for part in time.replace(",", ".").split(":")]
    out = 0.0
    for part in parts:
        out = out * 60 + part
    return out
