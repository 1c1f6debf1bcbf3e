"""What a tool of an assignment may read: hosts the maker named, and what a search gave. Nothing goes to an address a model
made up: not a request, not a key, not a word of material in a query."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from ..core import flow, slots
from ..core.flow import GIVEN
from ..core.workflow import Workflow
from ..core.workflow.kinds import PerformSpec, StepSpec
from ..core.workflow.plans import AssignmentPlan
from ..protocols.errors import OutsideError, Refused
from ..steps import kinds
from ..steps.api import Assigns
from . import execution

MOST_LINKS = 5000
DEEPEST = 8


@dataclass(frozen=True)
class Reach:
    """`hosts` were named by the maker and are open with what stands under them; `links` are addresses a search gave, whose
    hosts may be read further, without a query of the model's own."""

    hosts: frozenset[str]
    links: frozenset[str]

    def check(self, address: str) -> None:
        """Raise `OutsideError` where `address` may not be read."""
        host = host_of(address)
        if any(host == named or host.endswith(f".{named}") for named in self.hosts) or address in self.links:
            return
        if host and host in {host_of(link) for link in self.links}:
            parts = urlsplit(address)
            if not parts.query and not parts.username:
                return
            raise Refused(f"An assignment may not put a query of its own to “{host}”; only addresses that a search gave.")
        raise OutsideError(
            f"An assignment may not read “{host or address[:80]}”: no search gave it, and it is none of the sites named."
        )


def host_of(address: str) -> str:
    """The host (with its port) of an address, in small letters; empty where it has none."""
    try:
        return urlsplit(address.strip()).netloc.rpartition("@")[2].lower()
    except ValueError:
        return ""


def reach_of(state: flow.State, workflow: Workflow, address: str) -> Reach | None:
    """What may be read at an address; ``None`` where it is no tool of an assignment, and may read what the maker wrote."""
    seq = state.at.get(address)
    parent = seq.parent if seq else None
    step = parent.current if parent else None
    if seq is None or parent is None or step is None or not isinstance(step.how, AssignmentPlan) or parent.block is None:
        return None
    known = kinds()
    line = workflow.line(step.id)
    kind = known.get(line.kind) if line is not None else None
    hosts = kind.names_hosts(execution.read(line)) if isinstance(kind, Assigns) and line is not None else ()
    searches = {one.id for one in workflow.lines if isinstance(of := known.get(one.kind), PerformSpec) and of.finds_links}
    links: set[str] = set()
    for turn in parent.block.turns:
        if turn.tool in searches:
            links.update(_links(turn.result))
    scope = parent.scope()
    for name in searches & scope.keys():
        links.update(_links(scope[name]))
    return Reach(frozenset(map(_host, hosts)), frozenset(sorted(links)[:MOST_LINKS]))


def check_reads(line: Any, values: Any, reach: Reach) -> None:
    """Check every address a line is about to read that a model had a hand in. Raises `OutsideError`."""
    kind = kinds()[line.kind]
    reaches = kind.reaches if isinstance(kind, StepSpec) else ""
    text = line.settings.get(reaches) if reaches else None
    if not isinstance(text, str) or not any(path.root == GIVEN for path in slots.parse(text).reads):
        return
    for address in re.split(r"[\s,]+", slots.render(slots.parse(text), values).text.strip()):
        reach.check(address)


def _host(named: str) -> str:
    return host_of(named) if "//" in named else named.strip().strip("/").split("/")[0].lower()


def _links(value: Any, depth: int = 0) -> Iterator[str]:
    if isinstance(value, str):
        if value.startswith(("http://", "https://")) and not re.search(r"\s", value):
            yield value
    elif depth < DEEPEST and isinstance(value, dict | list):
        for one in value.values() if isinstance(value, dict) else value:
            yield from _links(one, depth + 1)
