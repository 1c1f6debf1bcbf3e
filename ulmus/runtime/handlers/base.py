"""What a handler is: up to three parts, for one type of decision.

`prepare` runs a kind's code, outside any transaction, and gives plain data. `commit` turns that into events, with what they
change in the database, inside the writer's transaction; it computes nothing but that. `play` says, in proofs, what a line
would have done.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from ...core import flow
from ...core.cost import Usage
from ...core.workflow import Line, Workflow
from ...protocols.errors import OutsideError
from ...steps.api import Context
from ..dispatcher import Task
from ..journal import Live
from ..services import connection_name
from ..transaction import Transaction

PLAYED_BY = "the editor (played)"
Gave = tuple[dict[str, Any], dict[str, Any], Usage]
"""Output, detail and usage."""
NameOf = Callable[[str], str]
"""What a connection is called, by its key."""


class Handler:
    """What becomes of one type of decision. The default is a decision the database alone can answer."""

    outside = False

    def prepare(self, task: Task, context: Context) -> Any:
        """What is to be committed; on the executor."""
        return None

    def commit(self, tx: Transaction, live: Live, decision: Any, prepared: Any) -> list[flow.Event]:
        """The events that answer the decision."""
        raise NotImplementedError

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        """Output, detail and usage in rehearsal."""
        raise OutsideError("This line is carried out as a block.")


class FromValues(Handler):
    """A decision that is worked out from the line and the values alone, the same live and in proofs."""

    def commit(self, tx: Transaction, live: Live, decision: Any, prepared: None) -> list[flow.Event]:
        line = live.line(decision.step)
        names = partial(connection_name, tx.session)
        return [self.event(line, live.state.scope(decision.address), decision.address, tx.now, names)]

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float, names: NameOf) -> flow.Event:
        """What it comes to; `names` says what a connection is called. Raises `OutsideError`."""
        raise NotImplementedError
