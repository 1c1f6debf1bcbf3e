"""Publishing tasks: to a queue that is the house's own, so that two houses on one broker never meet."""

from __future__ import annotations

from celery import Celery
from kombu.exceptions import KombuError

from .. import __version__
from ..runtime.elsewhere import BrokerAway

TASK = "ulmus.carry_out"
LONGEST = 3600
"""Seconds a step takes at most elsewhere; a broker that gives out again what was not acknowledged waits longer than that."""


def queue_of(house: str) -> str:
    """The queue of a house, for workers of this version alone."""
    return f"ulmus.{house}.{__version__}"


def application(url: str) -> Celery:
    """The Celery application, the same on both sides."""
    app = Celery("ulmus", broker=url, set_as_current=False)
    app.conf.update(
        task_ignore_result=True,
        task_acks_late=False,
        task_serializer="json",
        accept_content=["json"],
        worker_prefetch_multiplier=1,
        worker_hijack_root_logger=False,
        broker_connection_retry_on_startup=True,
        broker_connection_timeout=4,
        broker_transport_options={"visibility_timeout": LONGEST + 600, "socket_connect_timeout": 4, "socket_timeout": 10},
        enable_utc=True,
    )
    return app


class CeleryBroker:
    """See `runtime.elsewhere.Broker`."""

    def __init__(self, url: str, house: str) -> None:
        self._app = application(url)
        self._queue = queue_of(house)

    def publish(self, task: str) -> None:
        """Offer a task, by its id."""
        try:
            self._app.send_task(TASK, (task,), queue=self._queue, retry=False, expires=LONGEST)
        except (KombuError, OSError) as error:
            raise BrokerAway(str(error)[:200]) from None


def checked(url: str) -> None:
    """Connect to the broker once. Raises `BrokerAway`."""
    app = application(url)
    try:
        with app.connection_for_write() as line:
            line.ensure_connection(max_retries=1, timeout=5)
    except (KombuError, OSError, ValueError, KeyError, ImportError) as error:
        raise BrokerAway(str(error)[:200] or type(error).__name__) from None
    finally:
        app.close()
