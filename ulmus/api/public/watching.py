"""For whoever runs the house: whether it lives and is ready, and its measures as OpenMetrics text, read with a key.

Without a key only yes or no is told. The key is made by ``ulmus metrics-key`` and goes in the header ``Authorization: Bearer …`` (RFC 6750);
of it the house keeps a digest.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterator

from flask import Blueprint, Response, request
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

from ...readmodels.watching import Measure, measures, not_ready
from ...store import Store
from ..http.base import house

outside = Blueprint("watching", __name__)
FACT = "metrics key"


def make_key(store: Store) -> str:
    """A new key; one made before is void."""
    key = secrets.token_urlsafe(24)
    store.note(FACT, _digest(key))
    return key


@outside.get("/healthz")
def healthz() -> Response:
    """Whether the process answers."""
    return _said("ok")


@outside.get("/readyz")
def readyz() -> Response:
    """Whether it can do its work: the database answers, time is looked at, nothing is wrong with the data folder."""
    try:
        why = not_ready(house().engine)
    except Exception as error:
        why = [f"The database does not answer: {error}"]
    told = "\n".join(why) if _may() else "not ready"
    return _said(told, 503) if why else _said("ready")


@outside.get("/metrics")
def metrics() -> Response:
    """The measures in the OpenMetrics text format."""
    if not _may():
        return Response("A key is needed.", 401, {"WWW-Authenticate": "Bearer"}, mimetype="text/plain")
    registry = CollectorRegistry()
    registry.register(_Told(measures(house().engine)))
    told: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return Response(told, content_type=CONTENT_TYPE_LATEST, headers={"Cache-Control": "no-store"})


class _Told(Collector):
    """Measures as the library takes them."""

    def __init__(self, some: list[Measure]) -> None:
        self.some = some

    def collect(self) -> Iterator[Metric]:
        for one in self.some:
            family = (CounterMetricFamily if one.kind == "counter" else GaugeMetricFamily)(one.name, one.about, labels=one.labels)
            for labels, value in one.values:
                family.add_metric(labels, value)
            yield family


def _may() -> bool:
    known = house().services.store.fact(FACT)
    given = request.authorization
    token = given.token if given is not None and given.type == "bearer" else None
    return bool(known and token) and secrets.compare_digest(_digest(str(token)), str(known))


def _digest(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()


def _said(words: str, status: int = 200) -> Response:
    return Response(f"{words}\n", status, {"Cache-Control": "no-store"}, mimetype="text/plain")
