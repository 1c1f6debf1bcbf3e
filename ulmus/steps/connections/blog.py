"""Connection: a blog that takes articles by the Atom Publishing Protocol."""

from __future__ import annotations

import base64

from pydantic import Field

from ...core.pieces import Takes
from ...protocols import atompub
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted, Numbered
from .numbers import asked


class BlogSettings(Granted, Numbered):
    url: str = Field(
        title="Address", description="Of the service document, or of the collection itself.", min_length=1, max_length=500
    )
    collection: str = Field(
        "", title="Collection", description="By its title. Empty: the first that takes articles.", max_length=200
    )
    lists_within: float | None = Field(
        None,
        title="Lists new articles within (seconds)",
        description="How late its list of articles may be. Empty: it is seen from the articles that go out.",
        ge=0,
        le=86_400,
    )
    user: str = Field("", title="User", description="Empty where a token is enough.", max_length=200)


def blog(connection: Connection) -> atompub.Blog:
    """The client's view of a blog connection."""
    s, secret = connection.settings, connection.secrets.get("password", "")
    told = f"Basic {base64.b64encode(f'{s.user}:{secret}'.encode()).decode()}" if s.user else f"Bearer {secret}"
    return atompub.Blog(s.url, {"Authorization": told} if secret or s.user else {}, s.collection)


def numbers(web: Web, connection: Connection, link: str) -> dict[str, float]:
    """What the blog says of an article."""
    place = blog(connection)
    return asked(web, connection.settings, link, place.headers, place.url)


def probe(web: Web, connection: Connection) -> str:
    place = blog(connection)
    pictures = any(one.takes_pictures for one in atompub.collections(web, place))
    name = atompub.entries_of(web, place).title
    return f"Ready to publish{f' in “{name}”' if name else ''}{', pictures too' if pictures else ''}. Nothing was published."


KIND = ConnectionKind(
    name="blog",
    title="Blog (Atom)",
    about="A blog or a site that takes articles by the Atom Publishing Protocol (RFC 5023).",
    settings=BlogSettings,
    secrets={"password": "Password or token"},
    leads=("url",),
    probe=probe,
    bearer="password",
    common=0.5,
    summary=lambda s: s.url,
    takes=lambda s: Takes(),
    numbers=numbers,
)
