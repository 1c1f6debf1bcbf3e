"""Draft: a picture made after a prompt, or from a photo; kept in the house."""

from __future__ import annotations

import re
import time
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core import slots
from ...core.cost import Usage
from ...protocols import pictures
from ...protocols.errors import NothingToDo
from ..api import Connection, Context, Performs, Result, Settings, setting
from ..shared.files import fetch

SIZES = {"square": "1024x1024", "wide": "1536x1024", "tall": "1024x1536", "banner": "1792x1024", "story": "1024x1792"}


class PictureSettings(Settings):
    title: str = setting(
        "What it is", "A short name, such as “Square picture”.", control="text", default="Picture", min_length=1, max_length=80
    )
    maker: str = setting("Made by", control="connection", needs="pictures")
    prompt: str = setting(
        "Prompt",
        "What is to be seen, in which style and colours.",
        control="longslots",
        takes="prompt|text@draft|text|title",
        min_length=1,
        max_length=20_000,
    )
    format: Literal["square", "wide", "tall", "banner", "story"] = setting(
        "Format",
        control="choice",
        default="square",
        labels={"square": "square", "wide": "wide (3:2)", "tall": "tall (2:3)", "banner": "banner (7:4)", "story": "story (4:7)"},
    )
    photo: str = setting(
        "Begin from a photo",
        "The link of a photo from a form, or its address. Empty: from the prompt alone.",
        control="slots",
        default="",
        max_length=2000,
        more=True,
    )
    name: str = setting("File name", "Without an ending.", control="slots", default="", max_length=200, more=True)


class PictureOutput(BaseModel):
    link: str = Field("", description="Where the picture is kept.")
    name: str = Field("", description="Its file name.")
    type: str = Field("", description="Its media type, such as image/png.")
    width: int = Field(0, description="Its width in pixels.")
    height: int = Field(0, description="Its height in pixels.")
    size: int = Field(0, description="Its size in bytes.")
    prompt: str = Field("", description="The prompt it was made after.")


def maker_of(connection: Connection) -> pictures.Maker:
    """The picture client's view of a picture connection."""
    s = connection.settings
    return pictures.Maker(s.base_url, connection.secrets.get("key", ""), s.model, s.max_seconds)


def perform(settings: PictureSettings, context: Context) -> Result:
    """Make the picture and keep it."""
    connection = context.connect(settings.maker, "pictures")
    prompt = slots.render(slots.parse(settings.prompt), context.values).text.strip()
    if not prompt:
        raise NothingToDo("The prompt is empty here: nothing says what is to be seen.")
    photo = None
    if settings.photo.strip():
        photo = pictures.inspect(fetch(settings.photo.strip(), "", context)[3])
    began = time.monotonic()
    made = pictures.make(context.web, maker_of(connection), prompt, SIZES[settings.format], photo)
    stem = re.sub(r"[^\w-]+", "-", settings.name.strip() or f"{settings.title} {settings.format}").strip("-").lower()[:80]
    kept = context.workspace.keep(f"{stem or 'picture'}.{made.type.rsplit('/', 1)[-1]}", made.type, made.content)
    output: dict[str, Any] = {**kept, "width": made.width, "height": made.height, "prompt": prompt}
    usage = Usage(calls=1, cost=connection.settings.price, seconds=time.monotonic() - began)
    return Result(output, {"messages": [{"role": "user", "content": prompt}], "asked": SIZES[settings.format]}, usage)


KIND = Performs(
    name="picture",
    stage="draft",
    title="Make a picture",
    about="Has a picture maker draw after a prompt, or rework a photo, in one of five formats. The picture is kept here and can be saved, posted or mailed.",
    sentence="Make a {format} picture “{title}” with {maker}",
    offer="Make a picture with {maker}",
    words="image draw illustration photo graphic banner thumbnail visual ai generate",
    called="picture",
    settings=PictureSettings,
    output=PictureOutput,
    perform=perform,
    brief="{name} · {width} × {height}",
)
