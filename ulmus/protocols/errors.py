"""How an outside fails, in words a person can act on."""

from __future__ import annotations

from ..core.values import text


class OutsideError(Exception):
    """The outside did not do what was asked.

    `retryable`: a later try may do. `retry_after`: seconds the outside asked for.
    `ambiguous`: the request may have taken effect although no answer came.
    """

    def __init__(self, message: str, *, retryable: bool = False, retry_after: float | None = None, ambiguous: bool = False) -> None:
        # It may hold words of the other side.
        self.message = text(message)
        super().__init__(self.message)
        self.retryable = retryable
        self.retry_after = retry_after
        self.ambiguous = ambiguous


class RefusedAddress(OutsideError):
    """The address is private, loopback or link-local, and no owner has allowed it."""
