"""The interpreter: it decides what should happen next and never does it.

    state = begin(plan(workflow, kinds), events[0])
    decisions = decide(state)          # Perform, Wait, Ask, Send, Write, Open, Finish …
    state = apply(state, event)        # Done, Failed, TimerFired, Answered, Sent, Opened …

The journal is the list of events. Replaying it gives the same state and the same open decisions.
"""

from .address import Address
from .blocks import FlowError
from .decisions import (
    Ask,
    Call,
    Check,
    Decision,
    Finish,
    Hold,
    Judge,
    Listen,
    Open,
    Outcome,
    Perform,
    Rest,
    Rewrite,
    Send,
    Set,
    Stop,
    Wait,
    Write,
)
from .events import (
    Answered,
    Asked,
    Begun,
    Called,
    Cancelled,
    Checked,
    Done,
    Ended,
    Event,
    Failed,
    Heard,
    Held,
    Judged,
    Opened,
    Queued,
    Released,
    Resting,
    Sent,
    Stopped,
    TakenUp,
    TimerFired,
    Unsure,
    dump_event,
    load_event,
    read_event,
    write_event,
)
from .machine import apply, begin, decide, replay
from .plan import Plan, PlannedLane, PlannedStep, plan
from .state import Block, Phase, Sequence, State

__all__ = [name for name in dir() if name[0].isupper()] + [
    "apply",
    "begin",
    "decide",
    "dump_event",
    "load_event",
    "plan",
    "read_event",
    "replay",
    "write_event",
]
