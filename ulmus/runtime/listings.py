"""How soon a channel lists what it took, as seen: what tells whether *it is not there* can be believed.

After a break a channel is asked for the piece. That it is not in the list proves nothing while the list may be late, or the
request may still be on its way. How late a channel's lists are is stated by its owner, or learned: each piece that went out
well is looked for in the list, and how long it took to appear is remembered, the longest of all.
"""

from __future__ import annotations

from ..store import tables
from .services import Services

NEVER = 1e9
ENOUGH = 3
FRESH = 6 * 3600.0


class Listings:
    """What is known of the lists of channels. Thread-safe: the database has one writer at a time."""

    def __init__(self, services: Services) -> None:
        self.services = services

    def lag(self, connection: str, stated: float | None) -> float | None:
        """The longest it takes, in seconds, until a piece is listed: as stated, or as seen; ``None`` where nobody knows."""
        if stated is not None:
            return stated
        with self.services.store.read() as session:
            listing = session.get(tables.Listing, connection)
        return None if listing is None or listing.lag >= NEVER else listing.lag

    def wanted(self, connection: str) -> bool:
        """Whether another observation would tell more."""
        with self.services.store.read() as session:
            listing = session.get(tables.Listing, connection)
        return listing is None or listing.seen < ENOUGH or self.services.clock() - listing.at > FRESH

    def saw(self, connection: str, seconds: float, exact: bool = True) -> None:
        """A piece was listed `seconds` after it was taken; without `exact`, at the latest so long after."""
        with self.services.store.write() as session:
            listing = session.get(tables.Listing, connection)
            if listing is None:
                session.add(tables.Listing(connection=connection, lag=seconds, seen=1, at=self.services.clock()))
            elif exact:
                listing.lag, listing.seen, listing.at = max(listing.lag, seconds), listing.seen + 1, self.services.clock()
