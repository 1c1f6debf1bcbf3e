"""How an outside fails: a tree of errors with codes that callers can tell apart, in words a person can act on.

``failed`` and below it: ``unreachable`` (no answer came), ``refused`` (it does not want to), ``address`` (it takes nothing for this address), ``rate_limited`` (not so often),
``not_found`` (there is no such thing there), ``bad_answer`` (what came cannot be used), ``too_large`` (it is more than is taken),
``misconfigured`` (the line or its connection is not set up for this), ``nothing_to_do`` (what it was given is empty or does not fit),
``stopped`` (somebody stopped it), ``worker`` (the worker elsewhere was lost), ``refused_address`` (no owner has allowed this private address). Whether a request may have taken
effect although no answer came is said beside the code, for it can be so with several.
"""

from __future__ import annotations

from ..core.values import text


class OutsideError(Exception):
    """The outside did not do what was asked.

    `retryable`: a later try may do. `retry_after`: seconds the outside asked for.
    `ambiguous`: the request may have taken effect although no answer came.
    """

    code: str = "failed"

    def __init__(self, message: str, *, retryable: bool = False, retry_after: float | None = None, ambiguous: bool = False) -> None:
        # It may hold words of the other side.
        self.message = text(message)
        super().__init__(self.message)
        self.retryable = retryable
        self.retry_after = retry_after
        self.ambiguous = ambiguous


class Unreachable(OutsideError):
    """No answer came, or none that was complete."""

    code = "unreachable"


class Refused(OutsideError):
    """The other side answered that it will not."""

    code = "refused"


class AddressRefused(Refused):
    """The other side takes nothing for one address; what goes to others is not concerned."""

    code = "address"


class RateLimited(Refused):
    """The other side asks to be asked less often."""

    code = "rate_limited"


class NotFound(OutsideError):
    """What was asked for is not there."""

    code = "not_found"


class BadAnswer(OutsideError):
    """What came is not what was expected, is damaged, or holds nothing that can be used."""

    code = "bad_answer"


class TooLarge(OutsideError):
    """It is more than is taken: bytes, pixels, cells, characters."""

    code = "too_large"


class Misconfigured(OutsideError):
    """The line, or its connection, is not set up for this."""

    code = "misconfigured"


class NothingToDo(OutsideError):
    """What it was given is empty, or does not fit what it is to do."""

    code = "nothing_to_do"


class Stopped(OutsideError):
    """Somebody stopped it."""

    code = "stopped"


class WorkerLost(OutsideError):
    """Nobody carried it out to its end: it says nothing of the outside."""

    code = "worker"


class RefusedAddress(Refused):
    """The address is private, loopback or link-local, and no owner has allowed it."""

    code = "refused_address"
