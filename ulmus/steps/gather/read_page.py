"""Gather: the main text of a web page, and what else it tells."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...protocols import pages
from ..api import Context, Performs, Result, Settings, setting


class PageSettings(Settings):
    url: str = setting(
        "Page address",
        "Usually a slot, such as the link of a feed item.",
        control="slots",
        takes="link|url|site",
        told="address",
        min_length=1,
        max_length=2000,
    )


class PageLink(BaseModel):
    link: str = Field("", description="Where it leads.")
    words: str = Field("", description="Its words.")
    same_site: bool = Field(False, description="Whether it stays on this site.")


class PageOutput(BaseModel):
    title: str = Field("", description="The page’s title.")
    text: str = Field("", description="The main text, without menus and advertisements.")
    author: str = Field("", description="Who wrote it, where the page says so.")
    date: str = Field("", description="When it was published, where the page says so.")
    link: str = Field("", description="The address after redirects.")
    words: int = Field(0, description="How many words the text has.")
    language: str = Field("", description="Its language, such as en.")
    description: str = Field("", description="What the page says it is about.")
    image: str = Field("", description="The address of its main picture.")
    links: list[PageLink] = Field([], description="Its links, with their words.")
    images: list[Any] = Field([], description="Its pictures: link and words.")
    data: list[Any] = Field([], description="What it tells programs: JSON-LD and Open Graph.")


def perform(settings: PageSettings, context: Context) -> Result:
    """Read the page."""
    page = pages.read(context.web, settings.url.strip())
    told = {
        name: getattr(page, name) for name in ("title", "text", "author", "date", "words", "description", "image", "images", "data")
    }
    language = page.language.split("-")[0].lower()
    links = [dict(vars(link)) for link in page.links]
    return Result({**told, "link": page.url, "language": language, "links": links})


KIND = Performs(
    name="read_page",
    stage="gather",
    title="Read a page",
    about="Fetches a web page and gives its main text, title, author and date, its links and pictures, and what it tells programs.",
    sentence="Read the page at {url}",
    words="web site article fetch get text from link website url scrape crawl extract blog",
    called="page",
    common=0.5,
    settings=PageSettings,
    output=PageOutput,
    perform=perform,
    gives_outside=True,
    reaches="url",
    brief="{words} words · {title}",
)
