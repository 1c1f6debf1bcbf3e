"""Connection: language model."""

from __future__ import annotations

from pydantic import Field

from ...core.cost import Prices
from ...protocols import chat
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted, Metered


class ModelSettings(Granted, Metered):
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


def probe(web: Web, connection: Connection) -> str:
    s = connection.settings
    server = chat.Server(s.base_url, connection.secrets.get("key", ""), s.model, s.max_seconds)
    answer = chat.complete(web, server, [{"role": "user", "content": "Answer with one short greeting."}], max_tokens=30)
    return f"Answered in {answer.seconds:.1f} s: “{answer.text[:60].strip().rstrip('.')}”."


KIND = ConnectionKind(
    name="model",
    title="Language model",
    about="Any server of the chat-completions JSON protocol.",
    tool=True,
    settings=ModelSettings,
    secrets={"key": "API key"},
    leads=("base_url",),
    probe=probe,
    bearer="key",
    common=3.0,
    summary=lambda s: f"{s.base_url}, {s.model}",
)
