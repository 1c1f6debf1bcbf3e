"""Connection: picture maker."""

from __future__ import annotations

from pydantic import Field

from ...protocols import pictures
from ...protocols.net import Web
from ..api import Asked, Connection, ConnectionKind, Limited


class PicturesSettings(Limited, Asked):
    base_url: str = Field(title="Address", description="Ends before /images.", min_length=1, max_length=500)
    model: str = Field("", title="Model name", description="May be empty.", max_length=120)
    price: float = Field(0.0, title="Price of a picture (€)", ge=0, le=100)
    max_seconds: float = Field(180, title="Longest wait (seconds)", ge=1, le=900)


def probe(web: Web, connection: Connection) -> str:
    s = connection.settings
    maker = pictures.Maker(s.base_url, connection.secrets.get("key", ""), s.model, s.max_seconds)
    made = pictures.make(web, maker, "A green leaf on cream paper.", "1024x1024")
    return f"Drew a leaf of {made.width} × {made.height} pixels."


KIND = ConnectionKind(
    name="pictures",
    title="Picture maker",
    about="Any server of the images JSON protocol.",
    tool=True,
    settings=PicturesSettings,
    secrets={"key": "API key"},
    leads=("base_url",),
    probe=probe,
    summary=lambda s: ", ".join(part for part in (s.base_url, s.model) if part),
)
