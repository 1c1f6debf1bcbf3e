"""Feeds that name a hub are told of as they change (WebSub), where the house can be reached: the hub is asked to, again before its word
runs out, and asked to stop once nothing listens. Looks go on as ever; a hub that forgets costs only time."""

from __future__ import annotations

from functools import partial
from math import isfinite
from urllib.parse import urlsplit

from sqlalchemy import delete, func, select, update

from ..protocols import websub
from ..protocols.errors import OutsideError
from ..protocols.guard import is_inner
from ..steps.api import HUB
from ..store import tables
from . import links
from .ports import Gate
from .services import Services

EVERY = 15.0
"""Seconds between looks whether a hub is to be asked."""
AGAIN = 3600.0
"""Seconds after which a hub that did not ask back is asked again."""
SHORTEST, LONGEST = 60.0, 30 * 86_400.0
"""Seconds of a hub's word that are believed."""
APART = 2.0
"""Seconds between looks that a hub can bring about."""
EARLY = 0.2
"""The share of its word that is left when it is asked again."""


class Hubs:
    """Asks hubs to tell of feeds that live workflows begin with."""

    def __init__(self, services: Services, gate: Gate) -> None:
        self.services, self.gate = services, gate
        self._next = 0.0

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        if now < self._next:
            return
        self._next = now + EVERY
        line = tables.HubLine
        with self.services.store.read() as session:
            wanted = {
                id_: (str(hub), str(topic))
                for id_, hub, topic in session.execute(
                    select(
                        tables.Start.workflow_id,
                        func.json_extract(tables.Start.memory, f"$.look.{HUB}[0]").label("hub"),
                        func.json_extract(tables.Start.memory, f"$.look.{HUB}[1]").label("topic"),
                    )
                    .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
                    .where(
                        tables.WorkflowRecord.state == "live",
                        func.json_extract(tables.Start.memory, f"$.look.{HUB}[1]").is_not(None),
                    )
                )
            }
            known = {one.workflow_id: one for one in session.scalars(select(line))}
        for id_, one in known.items():
            if wanted.get(id_) != (one.hub, one.topic):
                with self.services.store.write() as session:
                    session.execute(delete(line).where(line.workflow_id == id_))
                self._submit(id_, "unsubscribe", one.hub, one.topic)
        for id_, (hub, topic) in wanted.items():
            before = known.get(id_)
            same = before is not None and (before.hub, before.topic) == (hub, topic)
            if (before is not None and same and not self._is_due(before, now)) or not self._is_reached_by(hub):
                continue
            until = before.until if before is not None and same else None
            with self.services.store.write() as session:
                session.merge(line(workflow_id=id_, hub=hub, topic=topic, asked_at=now, until=until, says=""))
            self._submit(id_, "subscribe", hub, topic)

    def _is_due(self, line: tables.HubLine, now: float) -> bool:
        if line.until is None or line.until <= now:
            return now >= line.asked_at + AGAIN
        # Asked again early, and not more often than so.
        return now >= line.until - EARLY * (line.until - line.asked_at) and now >= line.asked_at + SHORTEST / 2

    def _is_reached_by(self, hub: str) -> bool:
        """Whether a hub could call this house: at its own address on the open network, or as one of the owner's own."""
        own, there = urlsplit(self.services.public_url), urlsplit(hub)
        if there.netloc in self.services.web.allowed:
            return True
        host = own.hostname or ""
        numbers = host.replace(".", "").isdigit() or ":" in host
        return bool(host) and host != "localhost" and "." in host and not (numbers and is_inner(host))

    def callback(self, workflow_id: int) -> str:
        """Where the hub of a workflow's feed calls."""
        return f"{self.services.public_url}/hub/{links.sign_key(self.services.sealer.key, 'hub', workflow_id)}"

    def _submit(self, workflow_id: int, mode: str, hub: str, topic: str) -> None:
        host = urlsplit(hub).hostname or ""
        self.gate.submit(f"host:{host}", partial(self._ask, workflow_id, mode, hub, topic))

    def _ask(self, workflow_id: int, mode: str, hub: str, topic: str, refused: OutsideError | None) -> OutsideError | None:
        met = refused
        if met is None:
            secret = links.hub_secret(self.services.sealer.key, workflow_id)
            try:
                websub.ask(self.services.web, hub, mode, topic, self.callback(workflow_id), secret)
            except OutsideError as error:
                met = error
        if met is not None and mode == "subscribe":
            line = tables.HubLine
            with self.services.store.write() as session:
                session.execute(update(line).where(line.workflow_id == workflow_id).values(says=met.message[:500]))
        # What a hub does is no trouble of the house: its feeds are looked at all the same.
        return None

    def agrees(self, workflow_id: int, mode: str, topic: str, lease: str) -> bool:
        """Whether what a hub asks back was meant; notes for how long it will tell, or that it will not."""
        now, line = self.services.clock(), tables.HubLine
        with self.services.store.write() as session:
            known = session.get(line, workflow_id)
            if known is None or known.topic != topic:
                return mode == "unsubscribe"
            if mode == "denied":
                known.until, known.says = None, "The hub will not tell of it."
                return True
            if mode != "subscribe":
                return False
            try:
                seconds = float(lease)
            except ValueError:
                seconds = float(websub.WANTED)
            seconds = seconds if isfinite(seconds) and seconds > 0 else float(websub.WANTED)
            known.until, known.says = now + min(max(seconds, SHORTEST), LONGEST), ""
            known.asked_at = now
        self.services.bus.publish("workflow", id=workflow_id)
        return True

    def told(self, workflow_id: int, signature: str, body: bytes) -> bool:
        """A hub says that there is something new: the feed is looked at at once. Gives whether it was for us, and signed."""
        if not websub.is_signed(links.hub_secret(self.services.sealer.key, workflow_id), signature, body):
            return False
        now = self.services.clock()
        with self.services.store.write() as session:
            known = session.get(tables.HubLine, workflow_id)
            record = session.get(tables.WorkflowRecord, workflow_id)
            if known is None or record is None or record.state != "live":
                return False
            known.told_at = now
            start = session.get_one(tables.Start, workflow_id)
            # Said five times in a row, it is looked at once, and once more a little later.
            start.next_at = min(start.next_at, max(now, (start.looked_at or 0.0) + APART))
        return True
