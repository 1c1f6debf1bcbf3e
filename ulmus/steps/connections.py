"""The kinds of connection: what each needs, and how it is tested with one press."""

from __future__ import annotations

import base64
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from pydantic import BaseModel, Field

from ..core.cost import Prices
from ..protocols import chat, filestore, mail, mailbox, micropub, pictures, searches, services
from ..protocols.net import Web
from .base import Connection, Settings


class Limited(Settings):
    """What every connection can be told about going easy on the other side."""

    at_once: int = Field(64, title="At most at a time", description="Calls under way; more wait their turn.", ge=1, le=64)
    a_minute: int | None = Field(None, title="At most a minute", description="Empty where there is no limit.", ge=1, le=100_000)


class ModelSettings(Limited):
    base_url: str = Field(title="Address", description="Ends before /chat/completions.", min_length=1, max_length=500)
    model: str = Field(title="Model name", min_length=1, max_length=120)
    prices: Prices = Field(Prices(), title="Price per million tokens (€)")
    max_seconds: float = Field(
        120,
        title="Longest silence (seconds)",
        description="An answer that keeps coming may take ten times as long.",
        ge=1,
        le=900,
    )
    context: int | None = Field(
        None,
        title="Greatest length of prompt and answer (tokens)",
        description="Longer material is shortened, and the step says so. Empty where there is no limit.",
        ge=500,
        le=10_000_000,
    )
    meanings: str = Field(
        "",
        title="Model for meanings",
        description="The name of the server’s model for embeddings, for finding what is near in meaning. Empty where there is none.",
        max_length=120,
    )


class PicturesSettings(Limited):
    base_url: str = Field(title="Address", description="Ends before /images.", min_length=1, max_length=500)
    model: str = Field("", title="Model name", description="May be empty.", max_length=120)
    price: float = Field(0.0, title="Price of a picture (€)", ge=0, le=100)
    max_seconds: float = Field(180, title="Longest wait (seconds)", ge=1, le=900)


class PostingSettings(Limited):
    endpoint: str = Field(
        title="Micropub address", description="Or the address of the site, which names it.", min_length=1, max_length=500
    )
    limit: int | None = Field(
        None, title="Greatest length (characters)", description="Empty where there is none.", ge=1, le=1_000_000
    )
    lists_within: float | None = Field(
        None,
        title="Lists new posts within (seconds)",
        description="How late its list of posts may be. Empty: it is seen from the posts that go out.",
        ge=0,
        le=86_400,
    )


class MailSettings(Limited):
    host: str = Field(title="Mail server", min_length=1, max_length=200)
    port: int = Field(587, title="Port", ge=1, le=65535)
    starttls: bool = Field(True, title="Encrypt with STARTTLS")
    user: str = Field("", title="User", max_length=200)
    sender: str = Field(title="Sender’s address", pattern=r"^[^@\s]+@[^@\s]+$", max_length=200)
    sender_name: str = Field("", title="Sender’s name", max_length=120)


class MailboxSettings(Settings):
    host: str = Field(title="Mail server", min_length=1, max_length=200)
    port: int = Field(993, title="Port", ge=1, le=65535)
    tls: bool = Field(True, title="Encrypted from the start (TLS)")
    user: str = Field(title="User", min_length=1, max_length=200)


class SearchSettings(Limited):
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


class ServiceSettings(Limited):
    base_url: str = Field(title="Address", description="What all its addresses begin with.", min_length=1, max_length=500)
    header: str = Field("Authorization", title="Header for the key", max_length=60)
    before: str = Field("Bearer ", title="Words before the key", description="Such as “Bearer ”; may be empty.", max_length=40)


class FilesSettings(Limited):
    url: str = Field(title="WebDAV address", description="Of the folder everything stands in.", min_length=1, max_length=500)
    user: str = Field("", title="User", max_length=200)


@dataclass(frozen=True)
class ConnectionKind:
    """A kind of connection: settings, the names of its secrets, and a test that gives a sentence or raises `OutsideError`."""

    name: str
    title: str
    about: str
    settings: type[BaseModel]
    secrets: dict[str, str]
    test: Callable[[Web, Connection], str]


LEADS = ("base_url", "endpoint", "host", "port", "starttls", "tls", "description", "address", "url")
"""Settings that say where a connection leads, and how safely: its secrets are for that place only."""


def leads_elsewhere(before: Mapping[str, object], after: Mapping[str, object]) -> bool:
    """Whether changed settings lead to another place than before."""
    return any(before.get(name) != after.get(name) for name in LEADS if name in before or name in after)


def mailer(web: Web, connection: Connection) -> mail.Mailer:
    """The mail client's view of a mail connection."""
    s = connection.settings
    return mail.Mailer(
        s.host, s.port, s.starttls, s.user, connection.secrets.get("password", ""), s.sender, s.sender_name, web.reach
    )


def reader(web: Web, connection: Connection) -> mailbox.Mailbox:
    """The mailbox reader's view of a mailbox connection."""
    s = connection.settings
    return mailbox.Mailbox(s.host, s.port, s.tls, s.user, connection.secrets.get("password", ""), web.reach)


def searcher(connection: Connection) -> searches.Service:
    """The search client's view of a search connection."""
    s = connection.settings
    return searches.Service(
        s.description, s.address, s.results, s.title, s.link, s.summary, s.date, s.header, connection.secrets.get("key", "")
    )


def service_headers(connection: Connection) -> dict[str, str]:
    """The headers that let one into a data service."""
    s, key = connection.settings, connection.secrets.get("key", "")
    return {s.header: f"{s.before}{key}"} if key and s.header else {}


def folder(connection: Connection) -> filestore.Folder:
    """The file client's view of a file store connection."""
    s, password = connection.settings, connection.secrets.get("password", "")
    told = base64.b64encode(f"{s.user}:{password}".encode()).decode()
    return filestore.Folder(s.url, {"Authorization": f"Basic {told}"} if s.user or password else {})


def _test_search(web: Web, connection: Connection) -> str:
    return searches.probe(web, searcher(connection))


def _test_service(web: Web, connection: Connection) -> str:
    said = services.ask(web, services.Question(connection.settings.base_url, headers=service_headers(connection)))
    return f"Answered with {said.status}."


def _test_files(web: Web, connection: Connection) -> str:
    return filestore.probe(web, folder(connection))


def _test_mailbox(web: Web, connection: Connection) -> str:
    return mailbox.probe(reader(web, connection))


def _test_model(web: Web, connection: Connection) -> str:
    s = connection.settings
    server = chat.Server(s.base_url, connection.secrets.get("key", ""), s.model, s.max_seconds)
    answer = chat.complete(web, server, [{"role": "user", "content": "Answer with one short greeting."}], max_tokens=30)
    return f"Answered in {answer.seconds:.1f} s: “{answer.text[:60]}”."


def _test_pictures(web: Web, connection: Connection) -> str:
    s = connection.settings
    maker = pictures.Maker(s.base_url, connection.secrets.get("key", ""), s.model, s.max_seconds)
    made = pictures.make(web, maker, "A green leaf on cream paper.", "1024x1024")
    return f"Drew a leaf of {made.width} × {made.height} pixels."


def _test_posting(web: Web, connection: Connection) -> str:
    endpoint = micropub.Endpoint(connection.settings.endpoint, connection.secrets.get("token", ""))
    found = micropub.config(web, endpoint)
    destinations = found.get("destination")
    name = destinations[0].get("name", "") if isinstance(destinations, list) and destinations else ""
    return f"Ready to post{f' as {name}' if name else ''}. Nothing was posted."


def _test_mail(web: Web, connection: Connection) -> str:
    return f"{mail.probe(mailer(web, connection))} is ready. No mail was sent."


CONNECTION_KINDS: dict[str, ConnectionKind] = {
    kind.name: kind
    for kind in (
        ConnectionKind(
            "model",
            "Language model",
            "Any server of the chat-completions JSON protocol.",
            ModelSettings,
            {"key": "API key"},
            _test_model,
        ),
        ConnectionKind(
            "posting",
            "Network or blog",
            "Anything that takes posts by Micropub (W3C).",
            PostingSettings,
            {"token": "Access token"},
            _test_posting,
        ),
        ConnectionKind(
            "mail",
            "Outgoing mail",
            "A mail server that takes mail by SMTP.",
            MailSettings,
            {"password": "Password"},
            _test_mail,
        ),
        ConnectionKind(
            "mailbox",
            "Mailbox",
            "A mailbox that can be read by IMAP.",
            MailboxSettings,
            {"password": "Password"},
            _test_mailbox,
        ),
        ConnectionKind(
            "search",
            "Search service",
            "News or web search: by OpenSearch, or any service that answers in JSON.",
            SearchSettings,
            {"key": "API key"},
            _test_search,
        ),
        ConnectionKind(
            "service",
            "Data service",
            "Any service that is asked over HTTP: contacts, customers, products, render jobs.",
            ServiceSettings,
            {"key": "API key"},
            _test_service,
        ),
        ConnectionKind(
            "pictures",
            "Picture maker",
            "Any server of the images JSON protocol.",
            PicturesSettings,
            {"key": "API key"},
            _test_pictures,
        ),
        ConnectionKind(
            "files",
            "File store",
            "Folders and files that can be reached by WebDAV.",
            FilesSettings,
            {"password": "Password"},
            _test_files,
        ),
    )
}
