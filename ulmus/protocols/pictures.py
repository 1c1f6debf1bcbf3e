"""Pictures by the images JSON protocol that many picture servers speak, and pictures looked at.

Its common core: ``POST …/images/generations`` with ``model``, ``prompt``, ``n``, ``size`` and ``response_format``; and
``POST …/images/edits`` as a form with the picture to start from. Answers hold ``b64_json`` or a ``url``.
"""

from __future__ import annotations

import base64
import binascii
import io
import json
import warnings
from dataclasses import dataclass

from urllib3 import encode_multipart_formdata

from .errors import BadAnswer, OutsideError, Refused, TooLarge
from .net import Fetched, Web, status_error

LARGEST = 40_000_000
MOST_PIXELS = 60_000_000
TYPES = {"PNG": "image/png", "JPEG": "image/jpeg", "WEBP": "image/webp", "GIF": "image/gif"}


@dataclass(frozen=True)
class Maker:
    """A picture server: base address (ending before ``/images``), key, model name (may be empty), time limit in seconds."""

    base_url: str
    key: str
    model: str = ""
    max_seconds: float = 180.0


@dataclass(frozen=True)
class Picture:
    """A picture: its bytes, media type, and size in pixels."""

    content: bytes
    type: str
    width: int
    height: int


def make(web: Web, maker: Maker, prompt: str, size: str, photo: Picture | None = None) -> Picture:
    """A picture of `size` (such as ``1024x1024``) after `prompt`, begun from `photo` where there is one. Raises `OutsideError`."""
    asked = {"prompt": prompt, "n": 1, "size": size, "response_format": "b64_json"}
    if maker.model:
        asked["model"] = maker.model
    got = _ask(web, maker, asked, photo)
    if got.status in (400, 422):
        # Some servers give one form of answer only and refuse to be told which.
        got = _ask(web, maker, {name: value for name, value in asked.items() if name != "response_format"}, photo)
    if got.status != 200:
        raise _refusal(got)
    try:
        one = json.loads(got.body)["data"][0]
        packed, link = one.get("b64_json"), one.get("url")
        content = base64.b64decode(packed, validate=True) if packed else b""
    except (ValueError, LookupError, TypeError, AttributeError, binascii.Error, RecursionError):
        raise BadAnswer("The picture maker sent something that is no picture.", retryable=True) from None
    if not content and isinstance(link, str):
        fetched = web.fetch(link, max_bytes=LARGEST, max_seconds=60)
        if fetched.status != 200:
            raise status_error(fetched, "The picture maker")
        content = fetched.body
    return inspect(content)


def inspect(content: bytes) -> Picture:
    """What a picture is, without unpacking it whole. Raises `OutsideError` for what is no picture, or too large a one."""
    from PIL import Image, UnidentifiedImageError  # loaded on first use: it is large

    if len(content) > LARGEST:
        raise TooLarge("The picture is larger than 40 MB.")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(content)) as image_file:
                kind, (width, height) = image_file.format or "", image_file.size
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        raise BadAnswer("This is no picture that can be read (PNG, JPEG, WebP or GIF).") from None
    if kind not in TYPES:
        raise BadAnswer("This is no picture that can be read (PNG, JPEG, WebP or GIF).")
    if width * height > MOST_PIXELS:
        raise TooLarge(f"The picture is too large: {width} × {height} pixels.")
    return Picture(content, TYPES[kind], width, height)


def _ask(web: Web, maker: Maker, asked: dict[str, object], photo: Picture | None) -> Fetched:
    url = f"{maker.base_url.rstrip('/')}/images/{'edits' if photo else 'generations'}"
    headers = {"Authorization": f"Bearer {maker.key}"} if maker.key else {}
    limits = {"max_bytes": 2 * LARGEST, "max_seconds": maker.max_seconds}
    if photo is None:
        return web.fetch(url, method="POST", json=asked, headers=headers, **limits)  # type: ignore[arg-type]
    name = f"photo.{photo.type.rsplit('/', 1)[-1]}"
    parts = {**{name: str(value) for name, value in asked.items()}, "image": (name, photo.content, photo.type)}
    body, kind = encode_multipart_formdata(parts)  # type: ignore[arg-type]
    return web.fetch(url, method="POST", content=body, headers={**headers, "Content-Type": kind}, **limits)  # type: ignore[arg-type]


def _refusal(got: Fetched) -> OutsideError:
    error = status_error(got, "The picture maker")
    try:
        said = str(json.loads(got.body)["error"]["message"])[:300]
    except (ValueError, LookupError, TypeError):
        said = ""
    return Refused(f"The picture maker refused: {said}") if said and not error.retryable else error
