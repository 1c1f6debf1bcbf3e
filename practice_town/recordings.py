"""The valley's radio: a media feed (RSS with enclosures) of episodes, each with its transcript in WebVTT and SRT.

An episode is made of articles that two voices talk through, in the order they were written.
"""

from __future__ import annotations

import io
import re
from dataclasses import dataclass, replace
from functools import lru_cache

from flask import Blueprint, Response, abort, render_template, request, url_for

from . import faults
from .sites import state
from .world import Article, articles

bp = Blueprint("recordings", __name__, url_prefix="/radio")
PACE = 2.5
HOSTS = ("Nell Farraday", "Marten Quill")


@dataclass(frozen=True)
class Episode:
    """One episode: what is said, as (from, to, speaker, text) in seconds, and where its subjects begin."""

    slug: str
    title: str
    summary: str
    said: tuple[tuple[float, float, str, str], ...]
    begins: tuple[float, ...]


@lru_cache
def episodes() -> dict[str, Episode]:
    """All episodes, the newest first."""
    plan = [
        ("seeds-and-seasons", "Seeds and seasons", "furrow-letter", 0, 6),
        ("on-the-cut", "A week on the Cut", "cutside-courier", 0, 5),
        ("what-keeps", "What keeps, and what does not", "furrow-letter", 6, 11),
        ("boats-and-bread", "Boats, bridges and bread", "cutside-courier", 5, 9),
    ]
    return {slug: _episode(slug, title, articles(site)[a:b]) for slug, title, site, a, b in plan}


def aired() -> dict[str, Episode]:
    """Every episode that is out, those somebody had read on the control page first."""
    own = {one["slug"]: _read_out(one["slug"], one["title"], tuple(one["paragraphs"])) for one in reversed(state().spoken)}
    return {**own, **{slug: one for slug, one in episodes().items() if slug not in own}}


@lru_cache(64)
def _read_out(slug: str, title: str, paragraphs: tuple[str, ...]) -> Episode:
    told = Article("radio", 0, slug, title, HOSTS[0], (), paragraphs)
    return replace(_episode(slug, title, (told,)), summary=paragraphs[0])


def _episode(slug: str, title: str, chosen: tuple[Article, ...]) -> Episode:
    at, said, begins = 0.0, [], []
    lines = [(HOSTS[0], f"Good morning. You are listening to the valley’s radio, and this is {title}.")]
    for n, article in enumerate(chosen):
        lines.append((HOSTS[n % 2], f"Now to this: {article.title}."))
        for i, paragraph in enumerate(article.paragraphs):
            lines += [(HOSTS[(n + i) % 2], s) for s in re.split(r"(?<=[.!?])[”\"]?\s+", paragraph) if s]
    lines.append((HOSTS[1], "That was the valley’s radio. Until next week."))
    for speaker, text in lines:
        if text.startswith("Now to this: "):
            begins.append(at)
        length = max(1.2, len(text.split()) / PACE)
        said.append((at, at + length, speaker, text))
        at += length + 0.3
    summary = "With " + "; ".join(a.title for a in chosen[:3]) + "."
    return Episode(slug, title, summary, tuple(said), tuple(begins))


@bp.get("/feed.rss")
def feed() -> Response:
    early = faults.common(state().fault("feed"))
    if early is not None:
        return early
    listed = [(e, url_for("recordings.episode", slug=e.slug, _external=True), _length(e)) for e in aired().values()]
    return Response(
        render_template("radio.rss.xml", episodes=listed, home=url_for("recordings.index", _external=True)),
        mimetype="application/rss+xml",
    )


@bp.get("/")
def index() -> str:
    return render_template("radio.html", episodes=aired().values())


@bp.get("/<slug>")
def episode(slug: str) -> Response | str:
    name, _, ending = slug.partition(".")
    found = aired().get(name) or abort(404)
    if ending in ("vtt", "srt"):
        mode = state().fault("recording")
        early = faults.common(mode)
        if early is not None:
            return early
        text = vtt(found) if ending == "vtt" else srt(found)
        if mode == "cut":
            text = text[: len(text) // 2]
        if mode == "damaged":
            text = text.replace(" --> ", " -> ")
        return Response(text, content_type=f"text/{'vtt' if ending == 'vtt' else 'plain'}; charset=utf-8")
    if ending == "png":
        width = request.args.get("width", "640")
        return Response(_cover(found, min(max(int(width) if width.isdecimal() else 640, 40), 2000)), mimetype="image/png")
    if ending:
        abort(404)
    return render_template("episode.html", episode=found)


def _cover(found: Episode, width: int) -> bytes:
    """An episode's picture: its title on the colours of the valley."""
    from PIL import Image, ImageDraw, ImageFont

    hue = sum(found.slug.encode()) % 60
    picture = Image.new("RGB", (width, width * 9 // 16), (40 + hue, 84, 66))
    draw, font = ImageDraw.Draw(picture), ImageFont.load_default(width / 20)
    draw.ellipse((width * 0.72, width * 0.06, width * 0.94, width * 0.28), fill=(232, 196, 110))
    words, lines = found.title.split(), [""]
    for word in words:
        if len(lines[-1]) + len(word) > 24:
            lines.append("")
        lines[-1] = f"{lines[-1]} {word}".strip()
    for n, line in enumerate(lines[:4]):
        draw.text((width * 0.06, width * (0.2 + 0.07 * n)), line, fill=(246, 240, 224), font=font)
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def vtt(found: Episode) -> str:
    """The transcript in WebVTT, with voices."""
    cues = [f"{_clock(a)} --> {_clock(b)}\n<v {who}>{text}" for a, b, who, text in found.said]
    return "WEBVTT\n\n" + "\n\n".join(cues) + "\n"


def srt(found: Episode) -> str:
    """The transcript in SRT."""
    cues = [
        f"{n}\n{_clock(a).replace('.', ',')} --> {_clock(b).replace('.', ',')}\n{who}: {text}"
        for n, (a, b, who, text) in enumerate(found.said, start=1)
    ]
    return "\n\n".join(cues) + "\n"


def _clock(seconds: float) -> str:
    minutes, rest = divmod(seconds, 60)
    return f"{int(minutes // 60):02}:{int(minutes % 60):02}:{rest:06.3f}"


def _length(found: Episode) -> str:
    return _clock(found.said[-1][1])[:8]
