"""The interpreter: it decides what should happen next and never does it.

    state = begin(plan(workflow, kinds), events[0])
    decisions = decide(state)          # Perform, Wait, Ask, Send, Write, Finish
    state = apply(state, event)        # Done, Failed, TimerFired, Answered, Sent …

The journal is the list of events. Replaying it gives the same state and the same open decisions.
"""

from .address import Address
from .decisions import Ask, Decision, Finish, Perform, Rewrite, Send, Wait, Write
from .events import (
    Answered,
    Asked,
    Begun,
    Cancelled,
    Done,
    Ended,
    Event,
    Failed,
    Queued,
    Sent,
    TakenUp,
    TimerFired,
    Unsure,
    dump_event,
    load_event,
)
from .machine import FlowError, apply, begin, decide, replay
from .plan import Plan, PlannedStep, plan
from .state import Phase, State

__all__ = [
    "Address",
    "Answered",
    "Ask",
    "Asked",
    "Begun",
    "Cancelled",
    "Decision",
    "Done",
    "Ended",
    "Event",
    "Failed",
    "Finish",
    "FlowError",
    "Perform",
    "Phase",
    "Plan",
    "PlannedStep",
    "Queued",
    "Rewrite",
    "Send",
    "Sent",
    "State",
    "TakenUp",
    "TimerFired",
    "Unsure",
    "Wait",
    "Write",
    "apply",
    "begin",
    "decide",
    "dump_event",
    "load_event",
    "plan",
    "replay",
]
