"""Where a step is being carried out: its place in the page and the iterations it stands in.

Written as ``post``, or ``editor:2/post`` for the draft made again within the second round of *ask*.
Iterations count from 1; the first round of a step that asks is written without a number.
"""

from __future__ import annotations

from typing import NamedTuple


class AddressError(ValueError):
    """A text that is no address."""


class Address(NamedTuple):
    """`within` is the chain of enclosing (step, iteration); `step` the step itself, in its `round`."""

    step: str
    round: int = 1
    within: tuple[tuple[str, int], ...] = ()

    def __str__(self) -> str:
        own = self.step if self.round == 1 else f"{self.step}:{self.round}"
        return "/".join([*(f"{s}:{n}" for s, n in self.within), own])

    @classmethod
    def parse(cls, text: str) -> Address:
        """Read an address as `str` writes it. Raises `AddressError` on anything else.

        >>> Address.parse("pages:3/draft:2")
        Address(step='draft', round=2, within=(('pages', 3),))
        """
        parts = []
        for piece in text.split("/"):
            step, _, number = piece.partition(":")
            if not step or (number and not number.isdigit()):
                raise AddressError(f"not an address: {text!r}")
            parts.append((step, int(number) if number else 1))
        *within, (step, round_) = parts
        return cls(step, round_, tuple(within))
