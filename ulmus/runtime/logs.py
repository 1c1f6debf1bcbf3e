"""What the log says: each line with the run and the step it is about, where it is about one; as words, or as JSON to be read by a
program. And what of a text has to be left out before it is given to others."""

from __future__ import annotations

import json
import logging
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import UTC, datetime

_AT: ContextVar[tuple[int, str] | None] = ContextVar("at", default=None)
_MAIL = re.compile(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+")
_GIVEN = re.compile(
    r"(?i)\b((?:authorization:\s*)?(?:bearer|basic)\s+|authorization:\s*|(?:token|key|password|secret|code)=\s*)\S+"
)
SHORTEST_SECRET = 4


@contextmanager
def at(run: int, step: str) -> Iterator[None]:
    """What is logged meanwhile is about this step (its address) of this run."""
    before = _AT.set((run, step))
    try:
        yield
    finally:
        _AT.reset(before)


class Placed(logging.Filter):
    """Gives each line its run and step."""

    def filter(self, record: logging.LogRecord) -> bool:
        run, step = _AT.get() or (None, "")
        vars(record).update(run=run, step=step, where=f" [run {run}, {step}]" if run is not None else "")
        return True


class Words(logging.Formatter):
    """Lines to be read by people."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s %(levelname)s %(name)s%(where)s: %(message)s")


class Json(logging.Formatter):
    """An object a line: ``time`` (ISO 8601, UTC), ``level``, ``logger``, ``message``, and where there are some ``run`` (number), ``step``
    (address) and ``error`` (with its trace)."""

    def format(self, record: logging.LogRecord) -> str:
        told = {
            "time": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "message": record.getMessage(),
            "run": getattr(record, "run", None),
            "step": getattr(record, "step", ""),
            "error": self.formatException(record.exc_info) if record.exc_info else "",
        }
        return json.dumps({name: value for name, value in told.items() if value not in (None, "")}, ensure_ascii=False)


def without(text: str, secrets: Iterable[str]) -> str:
    """A text without these secrets, without what is given with keys and passwords, and without mail addresses."""
    for secret in sorted({one for one in secrets if len(one) >= SHORTEST_SECRET}, key=len, reverse=True):
        text = text.replace(secret, "•••")
    text = _GIVEN.sub(r"\1•••", text)
    return _MAIL.sub("(mail address)", text)
