"""Publish: an article on a blog, by Micropub or the Atom Publishing Protocol, or in the place of one that is there."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Article
from ...protocols import atompub, letters, markup, micropub, pictures
from ...protocols.errors import NothingToDo
from ...protocols.net import Web, check_url
from ..api import Connection, Context, Outgoing, Pending, Sends, Sighting, Sought, Timely, setting
from ..connections.blog import BlogSettings, blog
from ..connections.posting import endpoint
from ..shared.pieces import attached, shown, words_of

ELEMENTS = (*letters.ELEMENTS, "h4", "figure", "figcaption", "del", "sub", "sup")


class ArticleSettings(Timely):
    channel: str = setting("Where to", control="connection", needs="posting blog")
    title: str = setting("Title", control="slots", takes="title@draft|title", min_length=1, max_length=500)
    text: str = setting(
        "Text",
        "The article, usually the approved draft.",
        control="slots",
        takes="html@draft|text@draft|text",
        min_length=1,
        max_length=500_000,
    )
    written: Literal["markdown", "html"] = setting(
        "The text is", control="choice", default="markdown", labels={"markdown": "Markdown", "html": "HTML"}
    )
    state: Literal["public", "draft"] = setting(
        "It is there",
        "As a draft it waits on the blog until somebody there lets it out.",
        control="choice",
        default="public",
        labels={"public": "for everybody", "draft": "as a draft"},
    )
    summary: str = setting("Summary", control="slots", default="", takes="summary@draft|teaser@draft", max_length=2000, more=True)
    categories: str = setting("Categories", "Parted by commas or lines.", control="slots", default="", max_length=1000, more=True)
    picture: str = setting(
        "Picture",
        "The link of a picture made or kept here, or an address. It stands above the text.",
        control="slots",
        default="",
        max_length=2000,
        more=True,
    )
    picture_words: str = setting(
        "What the picture shows", "For those who cannot see it.", control="slots", default="", max_length=1000, more=True
    )
    changes: str = setting(
        "In the place of",
        "The address of an article that was published before, such as <<row.Link>>. Empty: a new one.",
        control="slots",
        default="",
        max_length=2000,
        more=True,
    )


class ArticleOutput(BaseModel):
    link: str = Field("", description="The article’s address.")
    title: str = Field("", description="Its title.")
    html: str = Field("", description="Its text as HTML.")
    summary: str = Field("", description="Its summary.")


def piece(settings: ArticleSettings, context: Context) -> Outgoing:
    """The article as it will stand on the blog. Raises `OutsideError` where it could not."""
    context.connect(settings.channel, "posting blog")
    title, text, place = " ".join(settings.title.split()), settings.text.strip(), settings.changes.strip()
    if not title or not text:
        raise NothingToDo(f"The article has no {'text' if title else 'title'}.")
    if place:
        check_url(place)
    page = markup.from_markdown(text, ELEMENTS) if settings.written == "markdown" else markup.cleaned(text, ELEMENTS)
    if not page:
        raise NothingToDo("Nothing of the article’s HTML can be shown.")
    above = settings.picture.strip()
    along = (attached(above, context, settings.picture_words.strip()),) if above else ()
    if (kept := context.workspace.file(above) if above else None) is not None:
        pictures.inspect(kept[2])
    article = Article(
        title=title,
        html=page,
        summary=" ".join(settings.summary.split()),
        categories=words_of(settings.categories),
        pictures=(*along, *shown(letters.pictures(page), context)),
        held_back=settings.state == "draft",
        changes=place,
    )
    return Outgoing(settings.channel, article.model_dump(mode="json"))


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any] | Pending:
    """Publish under `key`, or put in the place of the one that is there."""
    article = pieces.read("article", content)
    assert isinstance(article, Article)
    if isinstance(connection.settings, BlogSettings):
        place = blog(connection)
        entry = _entry(article, key, lambda link: atompub.upload(web, place, content["opened"][link]))
        link = atompub.update(web, place, article.changes, entry) if article.changes else atompub.create(web, place, entry)
        return {**foretold(content), "link": link}
    network = endpoint(connection)
    page = _with_places(article, lambda link: micropub.keep(web, network, content["opened"][link]))
    above = [
        micropub.Picture(content["opened"][one.link] if one.kept else one.link, one.words)
        for one in article.pictures
        if not one.inside
    ]
    post = micropub.Post(
        page, key, article.categories, tuple(above), article.title, True, article.summary, held_back=article.held_back
    )
    made = micropub.update(web, network, article.changes, post) if article.changes else micropub.create(web, network, post)
    output = {**foretold(content), "link": made.link}
    return output if made.there else Pending(output)


def _with_places(article: Article, keep: Callable[[str], str]) -> str:
    """The article's HTML with the pictures that are kept here at places where its readers can see them."""
    page = article.html
    for picture in article.pictures:
        if picture.inside:
            page = page.replace(picture.link, keep(picture.link))
    return page


def _entry(article: Article, key: str, keep: Callable[[str], str]) -> atompub.Article:
    """The article as an entry: there the picture is a part of the text."""
    page = _with_places(article, keep)
    for picture in (one for one in article.pictures if not one.inside):
        page = markup.picture(keep(picture.link) if picture.kept else picture.link, picture.words) + page
    return atompub.Article(article.title, page, key, article.summary, article.categories, article.held_back)


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the article tells it."""
    article = pieces.read("article", content)
    assert isinstance(article, Article)
    return {"link": article.changes, "title": article.title, "html": article.html, "summary": article.summary}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """Ask the blog whether it has the article. One that takes another's place is simply put there again."""
    article = pieces.read("article", sought.content)
    assert isinstance(article, Article)
    if article.changes:
        return Sighting(again=True)
    if isinstance(connection.settings, BlogSettings):
        # Pictures have other addresses there; what an article says is what it is known by.
        entry = _entry(article, sought.key, lambda link: "")
        link, tells = atompub.find(web, blog(connection), entry, sought.since)
        return Sighting({"link": link} if link is not None else None, tells)
    looked = micropub.find(web, endpoint(connection), sought.key, sought.since, sought.earlier)
    return Sighting({"link": looked.link} if looked.link is not None else None, looked.tells, looked.why)


KIND = Sends(
    name="publish_article",
    stage="publish",
    title="Publish an article",
    about="Publishes an article with a title on a blog, for everybody or as a draft there, or changes one that was published before.",
    sentence="Publish the article “{title}” on {channel}",
    offer="Publish an article on {channel}",
    words="article blog publish site essay story cms website page",
    called="article",
    common=0.15,
    settings=ArticleSettings,
    output=ArticleOutput,
    form="article",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    lists_within=lambda connection: connection.settings.lists_within,
    brief="{title}",
)
