"""One page for several clients: whose it is as well, what differs for each, and what is missing there."""

from __future__ import annotations

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ...core.workflow import Workflow
from ...protocols.errors import Misconfigured
from ...runtime import clients
from ...store import tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("clients", __name__, url_prefix="/api", abp_tags=[Tag(name="clients", description="One page for several clients")])


class WorkflowPath(BaseModel):
    id: int


class Choice(BaseModel):
    key: str
    name: str


class DiffersView(BaseModel):
    """Something a client may have of its own: what stands there now, on which lines, and what there is to choose from. With `same`
    it is everybody's where nothing is said."""

    what: clients.What
    key: str
    name: str
    kind: str
    same: bool
    lines: list[str]
    choices: list[Choice]


class ClientView(BaseModel):
    """A brand, and its page where it has one: its state, what is missing there, whether it says what the followed page says; what is
    the brand's own so far, by what it is and by key, and the facts the page uses."""

    brand: str
    name: str
    workflow: int | None = None
    state: str = ""
    missing: list[str] = []
    behind: bool = False
    own: dict[str, dict[str, str]] = {}
    facts: dict[str, str] = {}


class ClientsView(BaseModel):
    """The page that is followed, whose it is, and the clients there are or may be."""

    leading: int
    name: str
    brand: str
    differs: list[DiffersView]
    clients: list[ClientView]


class ClientBody(Body):
    """What a client has of its own, by what it is and by the key of what it stands in the place of; and facts of the brand."""

    own: dict[str, dict[str, str]] = {}
    facts: dict[str, str] = {}


class ClientPath(BaseModel):
    id: int
    brand: str = Field(max_length=60)


class ClientMade(BaseModel):
    workflow: int
    missing: list[str]


@bp.get("/workflows/<int:id>/clients", responses={200: ClientsView})
@needs("reader")
def listing(path: WorkflowPath) -> Reply:
    """All clients of a page, and of the page it follows where it follows one."""
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        leading = session.get_one(tables.WorkflowRecord, record.follows) if record.follows else record
        page = Workflow.model_validate(leading.document)
        brands = {brand.key: brand for brand in session.scalars(select(tables.Brand).order_by(tables.Brand.name))}
        connections = list(session.scalars(select(tables.Connection).order_by(tables.Connection.name)))
        sheets = [Choice(key=key, name=name) for key, name in session.execute(select(tables.Sheet.key, tables.Sheet.name))]
        there = {one.brand: one for one in clients.followers(session, leading.id)}
        facts, followed = clients.facts_of(page), clients.as_followed(session, leading)
        differs = [
            DiffersView(
                **vars(one),
                choices=[Choice(key=c.key, name=c.name) for c in connections if c.kind == one.kind]
                if one.what == "connection"
                else sheets
                if one.what == "sheet"
                else [],
            )
            for one in clients.differing(session, page)
        ]
        out = [
            ClientView(brand=key, name=brand.name, own=brand.own or {}, facts={n: str(brand.facts.get(n, "")) for n in facts})
            for key, brand in brands.items()
            if key != leading.brand
        ]
        for view in out:
            mine = there.get(view.brand)
            if mine is not None:
                view.workflow, view.state = mine.id, mine.state
                view.missing = [problem.message for problem in clients.missing(session, mine)]
                view.behind = mine.document != clients.derived(session, followed, brands[view.brand]).model_dump(mode="json")
        owner = brands.get(leading.brand or "")
        return send(
            ClientsView(
                leading=leading.id, name=leading.name, brand=owner.name if owner is not None else "", differs=differs, clients=out
            )
        )


@bp.put("/workflows/<int:id>/clients/<brand>", responses={200: ClientMade, 422: Problem})
@needs("maker")
def follow(path: ClientPath, body: ClientBody) -> Reply:
    """Let a client have the page as well, or say anew what is its own."""
    try:
        made = clients.follow(house().engine, path.id, path.brand, body.own, body.facts, g.user.email)
    except Misconfigured as error:
        raise Refusal(error.message, 422) from None
    with house().services.store.read() as session:
        found = clients.missing(session, session.get_one(tables.WorkflowRecord, made))
    return send(ClientMade(workflow=made, missing=[problem.message for problem in found]))


@bp.post("/workflows/<int:id>/apart", responses={200: Fine})
@needs("maker")
def apart(path: WorkflowPath) -> Reply:
    """Let a page go its own way: it follows no other from now on."""
    services = house().services
    with services.store.write() as session:
        clients.part(session, path.id, services.clock(), g.user.email)
    services.bus.publish("workflow", id=path.id)
    return send(Fine())
