"""The kinds that are here: loaded from the folders of this package and from other distributions, each told apart by name.

Another distribution brings kinds of start and step through the entry point group ``ulmus.steps``, and kinds of connection
through ``ulmus.connections``; an entry point gives a `Kind`, or a `ConnectionKind`. What fails to load, is something else,
clashes with a name that is taken or was written for another version of `ulmus.steps.api` is left out and reported by
`troubles`; it stops nothing.
"""

from __future__ import annotations

import importlib
import logging
import pkgutil
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any, Generic, TypeVar

from ..core.workflow import KindSpec
from . import api
from .api import ConnectionKind, Kind

log = logging.getLogger("ulmus")
STEPS, CONNECTIONS = "ulmus.steps", "ulmus.connections"
FOLDERS = ("starts", "gather", "draft", "ask", "publish", "record", "flow")


@dataclass(frozen=True)
class Trouble:
    """Something another distribution brings that was left out: what it is called, whose it is, and why it was left out."""

    name: str
    distribution: str
    why: str


T = TypeVar("T", KindSpec[Any], ConnectionKind[Any])


@dataclass(frozen=True)
class _Loaded(Generic[T]):
    kinds: dict[str, T]
    troubles: tuple[Trouble, ...]
    brought_by: dict[str, str]


def kinds() -> dict[str, Kind]:
    """Every kind of start and step, by name."""
    return _steps().kinds


def connection_kinds() -> dict[str, ConnectionKind[Any]]:
    """Every kind of connection, by name."""
    return _connections().kinds


def troubles() -> tuple[Trouble, ...]:
    """What was left out, and why."""
    return (*_steps().troubles, *_connections().troubles)


def here() -> dict[str, str]:
    """All kinds of step and of connection that are here, by name, with the distribution that brings them (empty: this one)."""
    some: tuple[_Loaded[Any], ...] = (_steps(), _connections())
    return {name: loaded.brought_by.get(name, "") for loaded in some for name in loaded.kinds}


def reload() -> None:
    """Forget what was loaded; the next call looks again (for tests, and after something was installed)."""
    _steps.cache_clear()
    _connections.cache_clear()


@lru_cache(maxsize=1)
def _steps() -> _Loaded[Kind]:
    own = (kind for folder in FOLDERS for kind in _in_folder(folder))
    return _with_brought({kind.name: kind for kind in own}, KindSpec, STEPS)


@lru_cache(maxsize=1)
def _connections() -> _Loaded[ConnectionKind[Any]]:
    own = sorted(_in_folder("connections"), key=lambda kind: (-kind.common, kind.title))
    return _with_brought({kind.name: kind for kind in own}, ConnectionKind, CONNECTIONS)


def _in_folder(folder: str) -> Iterator[Any]:
    package = importlib.import_module(f".{folder}", __package__)
    for module in pkgutil.iter_modules(package.__path__):
        kind = getattr(importlib.import_module(f"{package.__name__}.{module.name}"), "KIND", None)
        if kind is not None:
            yield kind


def _with_brought(own: dict[str, T], type_: type[T], group: str) -> _Loaded[T]:
    found, left_out, brought_by = dict(own), list[Trouble](), dict[str, str]()
    for entry in sorted(entry_points(group=group), key=lambda entry: entry.name):
        distribution = entry.dist.name if entry.dist is not None else ""
        try:
            kind = _loaded(entry, type_)
            if kind.name in found:
                raise api.NotUsable(f"the name “{kind.name}” is taken")
        except Exception as error:
            why = str(error) if isinstance(error, api.NotUsable) else f"it could not be loaded ({type(error).__name__}: {error})"
            left_out.append(Trouble(entry.name, distribution, why))
            log.warning("“%s” of %s is left out: %s", entry.name, distribution or "an unknown distribution", why)
        else:
            found[kind.name] = kind
            brought_by[kind.name] = distribution
    return _Loaded(found, tuple(left_out), brought_by)


def _loaded(entry: EntryPoint, type_: type[T]) -> T:
    kind = entry.load()
    if not isinstance(kind, type_):
        raise api.NotUsable(f"it is no {type_.__name__} of this Ulmus")
    if kind.contract != api.VERSION:
        raise api.NotUsable(f"it was written for version {kind.contract} of the contract; this is version {api.VERSION}")
    return kind
