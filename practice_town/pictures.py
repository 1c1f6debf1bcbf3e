"""The picture maker: real PNGs after a prompt, its palette and an uploaded photo, by the images JSON protocol."""

from __future__ import annotations

import base64
import hashlib
import io
import random
import re
from functools import lru_cache
from typing import Any

from flask import Blueprint, Response, jsonify, request, url_for
from PIL import Image, ImageColor, ImageDraw, ImageFilter, ImageFont, ImageOps

from . import faults
from .sites import state

bp = Blueprint("pictures", __name__, url_prefix="/pictures/v1")
KEY = "brushes-key"
SIZES = ("1024x1024", "1536x1024", "1024x1536", "1792x1024", "1024x1792", "512x512", "256x256")
_COLOURS = re.compile(
    r"#[0-9a-f]{6}\b|\b(?:white|black|grey|red|brick|orange|ochre|gold|yellow|green|olive|teal|blue|navy|purple|pink|brown|cream)\b",
    re.I,
)
_NAMED = {"brick": "#9c3b2e", "ochre": "#c78a2c", "cream": "#f4ecd8", "leaf": "#3d6b35"}


@bp.post("/images/generations")
def generations() -> Response:
    body = request.get_json(silent=True) or {}
    return _answer(str(body.get("prompt") or ""), str(body.get("size") or "1024x1024"), None, body)


@bp.post("/images/edits")
def edits() -> Response:
    photo = request.files.get("image")
    content = photo.read() if photo else b""
    return _answer(request.form.get("prompt", ""), request.form.get("size", "1024x1024"), content, request.form)


@bp.get("/made/<name>.png")
def made(name: str) -> Response:
    found = _MADE.get(name)
    return Response(found, mimetype="image/png") if found else Response("Gone.", 404)


_MADE: dict[str, bytes] = {}


def _answer(prompt: str, size: str, photo: bytes | None, body: Any) -> Response:
    mode = state().fault("pictures")
    early = faults.common(mode)
    if early is not None:
        return early
    if request.headers.get("Authorization") != f"Bearer {KEY}":
        return _error("This key may not draw here.", 401)
    if mode == "garbage":
        return Response("<p>Our brushes are being washed.</p>", mimetype="text/html")
    if mode == "refuse":
        return _error("This prompt is against our rules for pictures.", 400)
    if mode == "links" and body.get("response_format"):
        return _error("Unknown parameter: response_format.", 400)
    if not prompt.strip():
        return _error("A picture needs a prompt.", 400)
    if size not in SIZES:
        return _error(f"The size must be one of {', '.join(SIZES)}.", 400)
    try:
        content = paint(prompt, size, photo)
    except OSError:
        return _error("The uploaded image cannot be read.", 400)
    if mode == "links":
        name = hashlib.sha256(content).hexdigest()[:20]
        _MADE[name] = content
        return jsonify({"created": 0, "data": [{"url": url_for("pictures.made", name=name, _external=True)}]})
    return jsonify({"created": 0, "data": [{"b64_json": base64.b64encode(content).decode()}]})


def _error(words: str, status: int) -> Response:
    response = jsonify({"error": {"message": words, "type": "invalid_request_error"}})
    response.status_code = status
    return response


@lru_cache(maxsize=32)
def paint(prompt: str, size: str, photo: bytes | None) -> bytes:
    """A landscape in the prompt's colours, with its first words; on the photo where there is one. PNG."""
    width, height = map(int, size.split("x"))
    chance = random.Random(hashlib.sha256(f"{prompt}{size}".encode()).hexdigest())
    colours = _palette(prompt, chance)
    if photo:
        with Image.open(io.BytesIO(photo)) as given:
            picture = ImageOps.fit(given.convert("RGB"), (width, height)).filter(ImageFilter.SMOOTH_MORE)
        picture = Image.blend(picture, Image.new("RGB", picture.size, colours[0]), 0.25)
    else:
        picture = Image.new("RGB", (width, height), colours[0])
        draw = ImageDraw.Draw(picture)
        radius = chance.randint(height // 10, height // 5)
        x, y = chance.randint(radius, width - radius), chance.randint(radius, height // 2)
        draw.ellipse((x - radius, y - radius, x + radius, y + radius), fill=colours[1])
        for layer, colour in enumerate(colours[2:], start=1):
            base = height * (0.45 + 0.16 * layer)
            points = [(0.0, float(height))]
            points += [(width * i / 8, base + chance.uniform(-0.09, 0.05) * height) for i in range(9)]
            draw.polygon([*points, (float(width), float(height))], fill=colour)
    _caption(picture, prompt, colours[-1])
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def _palette(prompt: str, chance: random.Random) -> list[tuple[int, int, int]]:
    named = [ImageColor.getrgb(_NAMED.get(c.lower(), c))[:3] for c in _COLOURS.findall(prompt)]
    usual = [(244, 236, 216), (199, 138, 44), (118, 145, 92), (61, 107, 53), (40, 58, 44)]
    chance.shuffle(named)
    found = [*named, *usual][:5]
    return sorted(((c[0], c[1], c[2]) for c in found), key=lambda c: -sum(c))


def _caption(picture: Image.Image, prompt: str, ink: tuple[int, int, int]) -> None:
    quoted = re.search(r"[“\"]([^”\"]{2,60})[”\"]", prompt)
    words = quoted.group(1) if quoted else " ".join(prompt.split()[:5])
    draw = ImageDraw.Draw(picture)
    font = ImageFont.load_default(size=max(18, picture.width // 24))
    left, top, right, bottom = draw.textbbox((0, 0), words, font=font)
    x, y = (picture.width - (right - left)) / 2, picture.height * 0.9 - (bottom - top)
    draw.rectangle((x - 20, y - 12, x + right - left + 20, y + bottom - top + 26), fill=(250, 246, 236))
    draw.text((x, y), words, fill=ink if sum(ink) < 380 else (40, 40, 36), font=font)
