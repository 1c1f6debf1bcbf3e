"""Runs that wait for a mail: their mailboxes are looked into until one comes that fits.

Nothing is remembered but which runs wait: a mail fits when it arrived after the wait began, so that a restart in
between loses none.
"""

from __future__ import annotations

import dataclasses
import logging
import threading
from dataclasses import dataclass

from ..core import flow
from ..core.slots import parse, render
from ..core.values import plain_object
from ..core.workflow.plans import ForMail, WaitPlan
from ..protocols import mailbox
from ..protocols.errors import OutsideError
from ..steps.connections import mailbox as connected
from .execution import plan_of
from .journal import Live
from .outsides import STARTS
from .ports import Events, Gate
from .services import Services

log = logging.getLogger("ulmus")
EVERY = 5.0


@dataclass(frozen=True)
class _Watch:
    """A run that waits for a mail: where, since when, from whom and about what."""

    run_id: int
    address: str
    box: str
    since: float
    sender: str
    subject: str


class Replies:
    """Looks into the mailboxes of runs that wait for a mail."""

    def __init__(self, services: Services, events: Events, gate: Gate) -> None:
        self.services = services
        self.events = events
        self.gate = gate
        self._watched: set[_Watch] = set()
        self._lock = threading.Lock()
        self._next = 0.0
        self._looking = False

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def watch(self, live: Live, decision: flow.Listen) -> None:
        """Look for a mail for this wait, where it is for one that it waits."""
        plan = plan_of(live.line(decision.step))
        if not isinstance(plan, WaitPlan) or not isinstance(plan.awaited, ForMail) or decision.due is None:
            return
        values, awaited = live.state.scope(decision.address), plan.awaited
        sender, subject = (render(parse(text), values).text.strip() for text in (awaited.sender, awaited.subject))
        since = decision.due - (plan.seconds or 0.0)
        found = _Watch(live.run_id, decision.address, awaited.box, since, sender, subject)
        with self._lock:
            self._watched.add(found)

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        with self._lock:
            if self._looking or not self._watched or now < self._next:
                return
            self._looking, self._next = True, now + EVERY
        self.gate.submit(STARTS, self._look)

    def _look(self, refused: OutsideError | None) -> None:
        try:
            with self._lock:
                watched = list(self._watched)
            for key in {w.box for w in watched}:
                mine = [w for w in watched if w.box == key]
                try:
                    box = connected.reader(self.services.web, self.services.connect(key, connected.KIND.name))
                    letters = mailbox.since(box, "INBOX", min(w.since for w in mine))
                except OutsideError as error:
                    log.warning("mailbox %s: %s", key, error.message)
                    continue
                for watch in mine:
                    self._hand_over(watch, letters)
        except Exception:
            log.exception("looking for replies met a fault and goes on")
        finally:
            self._looking = False

    def _hand_over(self, watch: _Watch, letters: list[mailbox.Letter]) -> None:
        seq = self.events.live(watch.run_id).state.at.get(watch.address)
        waits = seq is not None and isinstance(seq.phase, flow.phases.Listening)
        fitting = next((letter for letter in letters if self._fits(watch, letter)), None)
        if waits and fitting is not None:
            item = plain_object({k: v for k, v in dataclasses.asdict(fitting).items() if k not in ("uid", "arrived")})
            event = flow.Heard(at=self.services.clock(), address=watch.address, item=item)
            self.events.record(watch.run_id, event, strict=False)
        if not waits or fitting is not None:
            with self._lock:
                self._watched.discard(watch)

    @staticmethod
    def _fits(watch: _Watch, letter: mailbox.Letter) -> bool:
        # Several runs may share a look; each hears only what came after its own wait began.
        if letter.arrived < int(watch.since) or not mailbox.is_from(letter.sender, watch.sender):
            return False
        return watch.subject.casefold() in letter.subject.casefold()
