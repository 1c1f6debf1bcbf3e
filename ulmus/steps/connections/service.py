"""Connection: data service."""

from __future__ import annotations

from pydantic import Field

from ...protocols import services
from ...protocols.net import Web
from ..api import Asked, Connection, ConnectionKind, Granted


class ServiceSettings(Granted, Asked):
    base_url: str = Field(title="Address", description="What all its addresses begin with.", min_length=1, max_length=500)
    header: str = Field("Authorization", title="Header for the key", max_length=60)
    before: str = Field("Bearer ", title="Words before the key", description="Such as “Bearer ”; may be empty.", max_length=40)
    shows_within: float | None = Field(
        None,
        title="Shows changes within (seconds)",
        description="How late what it shows may be. Empty: a person is asked where it does not show a change whose answer was lost.",
        ge=0,
        le=86_400,
    )


def service_headers(connection: Connection) -> dict[str, str]:
    """The headers that let one into a data service."""
    s, key = connection.settings, connection.secrets.get("key", "")
    return {s.header: f"{s.before}{key}"} if key and s.header else {}


def probe(web: Web, connection: Connection) -> str:
    said = services.ask(web, services.Question(connection.settings.base_url, headers=service_headers(connection)))
    return f"Answered with {said.status}."


KIND = ConnectionKind(
    name="service",
    title="Data service",
    about="Any service that is asked over HTTP: contacts, customers, products, render jobs.",
    settings=ServiceSettings,
    secrets={"key": "API key"},
    leads=("base_url",),
    probe=probe,
    bearer="key",
    summary=lambda s: s.base_url,
)
