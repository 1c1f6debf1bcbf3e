"""What model calls cost. Prices are per million tokens, in the currency the owner keeps books in."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field


class Prices(BaseModel):
    """Price of a million tokens going in and coming out."""

    model_config = ConfigDict(frozen=True)

    input: float = Field(0, ge=0)
    output: float = Field(0, ge=0)


class Usage(BaseModel):
    """What was used: calls, tokens in and out, cost, and seconds taken by the outside."""

    model_config = ConfigDict(frozen=True)

    calls: int = 0
    tokens_in: int = 0
    tokens_out: int = 0
    cost: float = 0.0
    seconds: float = 0.0

    def __add__(self, other: Usage) -> Usage:
        return Usage(
            calls=self.calls + other.calls,
            tokens_in=self.tokens_in + other.tokens_in,
            tokens_out=self.tokens_out + other.tokens_out,
            cost=self.cost + other.cost,
            seconds=self.seconds + other.seconds,
        )


def price(tokens_in: int, tokens_out: int, prices: Prices) -> float:
    """The cost of one call."""
    return (tokens_in * prices.input + tokens_out * prices.output) / 1_000_000
