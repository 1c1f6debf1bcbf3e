"""Connection: search service."""

from __future__ import annotations

from pydantic import Field

from ...protocols import searches
from ...protocols.net import Web
from ..api import Asked, Connection, ConnectionKind, Limited


class SearchSettings(Limited, Asked):
    description: str = Field(
        "",
        title="OpenSearch description",
        description="Its address, where the service has one; nothing else is needed then.",
        max_length=500,
    )
    address: str = Field(
        "",
        title="Address with {words}",
        description="For a plain JSON service, such as https://search.example/api?q={words}&n={most}&lang={language}.",
        max_length=1000,
    )
    results: str = Field("$.results", title="Where the results stand", description="A JSONPath (RFC 9535).", max_length=300)
    title: str = Field("title", title="Name of the title", max_length=100)
    link: str = Field("link", title="Name of the link", max_length=100)
    summary: str = Field("summary", title="Name of the summary", max_length=100)
    date: str = Field("date", title="Name of the date", max_length=100)
    header: str = Field("", title="Header for the key", description="Such as X-API-Key; empty where none is needed.", max_length=60)


def searcher(connection: Connection) -> searches.Service:
    """The search client's view of a search connection."""
    s = connection.settings
    return searches.Service(
        s.description, s.address, s.results, s.title, s.link, s.summary, s.date, s.header, connection.secrets.get("key", "")
    )


def probe(web: Web, connection: Connection) -> str:
    return searches.probe(web, searcher(connection))


KIND = ConnectionKind(
    name="search",
    title="Search service",
    about="News or web search: by OpenSearch, or any service that answers in JSON.",
    tool=True,
    settings=SearchSettings,
    secrets={"key": "API key"},
    leads=(
        "description",
        "address",
    ),
    probe=probe,
    summary=lambda s: s.description or s.address,
)
