"""Connection: a term base, an address that answers with the words agreed on."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import BaseModel, Field, TypeAdapter, ValidationError

from ulmus.protocols.errors import OutsideError
from ulmus.protocols.net import Web
from ulmus.steps.api import Connection, ConnectionKind, Limited


class TermbaseSettings(Limited):
    address: str = Field(title="Address", description="Of the list of terms, as JSON.", min_length=1, max_length=500)


class Term(BaseModel):
    """What is to be said, what not, and why."""

    say: str = Field(min_length=1, max_length=200)
    instead_of: list[str] = Field(alias="not", max_length=100)
    why: str = ""


_TERMS: TypeAdapter[list[Term]] = TypeAdapter(list[Term])


@dataclass(frozen=True)
class Termbase:
    """The words agreed on."""

    terms: list[Term]


def read(web: Web, connection: Connection) -> Termbase:
    """Fetch the terms. Raises `OutsideError` with words for the person."""
    key = connection.secrets.get("key", "")
    got = web.fetch(connection.settings.address, headers={"Authorization": f"Bearer {key}"} if key else {})
    if got.status != 200:
        raise OutsideError(f"The term base answered with {got.status}.", retryable=got.status >= 500)
    try:
        return Termbase(_TERMS.validate_json(got.body))
    except ValidationError:
        raise OutsideError("The term base did not answer with a list of terms.") from None


def probe(web: Web, connection: Connection) -> str:
    """What a press on *Test* says."""
    count = len(read(web, connection).terms)
    return f"Knows {count} term{'s' if count != 1 else ''}."


KIND = ConnectionKind(
    name="termbase",
    title="Term base",
    about="Words your house has agreed on, as JSON at an address.",
    settings=TermbaseSettings,
    secrets={"key": "API key"},
    leads=("address",),
    probe=probe,
    summary=lambda settings: settings.address,
)
