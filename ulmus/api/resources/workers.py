"""Workers elsewhere, for an owner: who is there, what waits for them, and their keys."""

from __future__ import annotations

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...runtime.services import audit
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security import workerkeys
from ..security.auth import needs

bp = Part(
    "workers", __name__, url_prefix="/api/house/workers", abp_tags=[Tag(name="workers", description="Workers on other machines")]
)


class WorkerView(BaseModel):
    """A worker process: where it runs (host and process), how many steps it carries out, at most how many, seconds since it was heard."""

    process: str
    at_work: int
    room: int
    heard: float


class WorkerKeyView(BaseModel):
    """A key by its name, and the workers that show it."""

    name: str
    workers: list[WorkerView]


class WorkersView(BaseModel):
    """Whether workers are wanted here at all; steps that wait in the house, are offered, and are with a worker; keys with their workers."""

    wanted: bool
    waiting: int = 0
    offered: int = 0
    begun: int = 0
    keys: list[WorkerKeyView] = []


class NewWorkerKey(Body):
    name: str = Field(min_length=1, max_length=60)


class MadeWorkerKey(BaseModel):
    """The key, shown now and never again, and where its worker reaches the house."""

    key: str
    house: str


class WorkerKeyPath(BaseModel):
    name: str = Field(max_length=60)


@bp.get("", responses={200: WorkersView})
@needs("owner")
def show() -> Reply:
    """Who is there, and what is out."""
    elsewhere = house().elsewhere
    if elsewhere is None:
        return send(WorkersView(wanted=False))
    waiting, offered, begun = elsewhere.counted()
    there: dict[str, list[WorkerView]] = {name: [] for name in workerkeys.names(house().services.store)}
    for one in elsewhere.workers():
        view = WorkerView(process=one.process, at_work=one.at_work, room=one.room, heard=one.heard)
        there.setdefault(one.name, []).append(view)
    keys = [WorkerKeyView(name=name, workers=some) for name, some in there.items()]
    return send(WorkersView(wanted=True, waiting=waiting, offered=offered, begun=begun, keys=keys))


@bp.post("/keys", responses={201: MadeWorkerKey, 409: Problem, 422: Problem})
@needs("owner")
def make(body: NewWorkerKey) -> Reply:
    """Make a key for a worker."""
    services = house().services
    name = workerkeys.called(body.name)
    if name in workerkeys.names(services.store):
        raise Refusal(f"There is a key called “{name}”. Take it away first, or choose another name.", 409)
    try:
        key = workerkeys.make_key(services.store, name)
    except ValueError as error:
        raise Refusal(str(error), 422) from None
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "made a worker's key", name)
    return send(MadeWorkerKey(key=key, house=services.public_url), 201)


@bp.delete("/keys/<name>", responses={200: Fine})
@needs("owner")
def take_away(path: WorkerKeyPath) -> Reply:
    """Take a worker's key away: what it is at is lost to it, and offered again."""
    services = house().services
    if workerkeys.take_away(services.store, path.name):
        with services.store.write() as session:
            audit(session, services.clock(), g.user.email, "took a worker's key away", path.name)
        if (elsewhere := house().elsewhere) is not None:
            elsewhere.dismiss(path.name)
    return send(Fine())
