"""Publishing tasks: to a queue that is the house's own, so that two houses on one broker never meet."""

from __future__ import annotations

from collections.abc import Callable

from celery import Celery
from kombu.exceptions import KombuError

from .. import __version__
from ..runtime.elsewhere import LONGEST, BrokerAway

TASK = "ulmus.carry_out"
AGAIN_AFTER = LONGEST + 600
"""Seconds after which a broker gives out again what was not acknowledged."""


def queue_of(house: str) -> str:
    """The queue of a house, for workers of this version alone."""
    return f"ulmus.{house}.{__version__}"


def application(url: str) -> Celery:
    """The Celery application, the same on both sides."""
    app = Celery("ulmus", broker=url, set_as_current=False)
    app.conf.update(
        task_ignore_result=True,
        # A worker has in hand what it is at, and no more; the next goes to whoever is free.
        task_acks_late=True,
        task_serializer="json",
        accept_content=["json"],
        worker_prefetch_multiplier=1,
        worker_hijack_root_logger=False,
        broker_connection_retry_on_startup=True,
        broker_connection_timeout=4,
        broker_transport_options={"visibility_timeout": int(AGAIN_AFTER), "socket_connect_timeout": 4, "socket_timeout": 10},
        enable_utc=True,
    )
    return app


class CeleryBroker:
    """See `runtime.elsewhere.Broker`."""

    def __init__(self, url: str, house: Callable[[], str]) -> None:
        self._app = application(url)
        self._house = house  # asked each time: a copy that is let go becomes a house of its own

    def publish(self, task: str) -> None:
        """Offer a task, by its id."""
        try:
            # It never expires by itself: clocks differ. Whoever takes what is over is told so.
            self._app.send_task(TASK, (task,), queue=queue_of(self._house()), retry=False)
        except (KombuError, OSError) as error:
            raise BrokerAway(str(error)[:200]) from None


def checked(url: str) -> None:
    """Connect to the broker once. Raises `BrokerAway`, also where it would give out a task again that is still carried out."""
    app = application(url)
    try:
        with app.connection_for_write() as line:
            line.ensure_connection(max_retries=1, timeout=5)
            again = getattr(line.default_channel, "visibility_timeout", None)
            if again is not None and float(again) <= LONGEST:
                raise BrokerAway(f"it gives out again after {again} s what was not acknowledged; a step may take {LONGEST:.0f} s")
    except (KombuError, OSError, ValueError, KeyError, TypeError, ImportError) as error:
        raise BrokerAway(str(error)[:200] or type(error).__name__) from None
    finally:
        app.close()
