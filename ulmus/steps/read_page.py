"""Gather: the main text of a web page."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..protocols import pages
from .base import Context, Kind, Result, Settings, setting


class PageSettings(Settings):
    url: str = setting(
        "Page address",
        "Usually a slot, such as the link of a feed item.",
        control="slots",
        takes="link|url|site",
        min_length=1,
        max_length=2000,
    )


class PageOutput(BaseModel):
    title: str = Field("", description="The page’s title.")
    text: str = Field("", description="The main text, without menus and advertisements.")
    author: str = Field("", description="Who wrote it, where the page says so.")
    date: str = Field("", description="When it was published, where the page says so.")
    link: str = Field("", description="The address after redirects.")
    words: int = Field(0, description="How many words the text has.")


def perform(settings: PageSettings, context: Context) -> Result:
    """Read the page."""
    page = pages.read(context.web, settings.url.strip())
    return Result(
        {"title": page.title, "text": page.text, "author": page.author, "date": page.date, "link": page.url, "words": page.words}
    )


KIND = Kind(
    name="read_page",
    stage="gather",
    manner="perform",
    title="Read a page",
    about="Fetches a web page and gives its main text, title, author and date.",
    sentence="Read the page at {url}",
    words="web site article fetch get text from link",
    called="page",
    settings=PageSettings,
    output=PageOutput,
    perform=perform,
    gives_outside=True,
    reaches="url",
    brief="{words} words · {title}",
)
