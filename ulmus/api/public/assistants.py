"""Workflows for assistants outside: tools of the Model Context Protocol (streamable HTTP, one exchange a call), for who has a key.

Each live workflow that is offered and begins with fields is a tool of its name; one more tells how a run gets on that such a tool
began. The protocol's library is an extra of the distribution (``assistants``).
"""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Callable, Sequence
from typing import Any

from flask import Blueprint, Response, g, request
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ... import __version__
from ...runtime import offers
from ...runtime.calls import Answers
from ...runtime.services import audit
from ...steps.shared.fields import FormField
from ...store import sight, tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security import members
from ..security.auth import needs, room

bp = Part(
    "assistants", __name__, url_prefix="/api", abp_tags=[Tag(name="assistants", description="Workflows for assistants outside")]
)
outside = Blueprint("assistants_outside", __name__)
WAIT = 20.0
"""Seconds a call waits for its run; then the assistant asks later how it got on."""
A_MINUTE = 120
LARGEST = 1_000_000
RESULT = "result_of_run"
EXTRA = "Assistants need a part of Ulmus that is not installed here: pip install 'ulmus[assistants]'."
WORDS = {
    "asking": "It waits for a person to decide.",
    "held": "It pauses.",
    "stuck": "It failed at a step, and waits for a person.",
    "unsure": "It waits for a person to say whether something went out.",
    "queued": "It waits for its turn.",
}


class OfferedView(BaseModel):
    """A workflow that assistants may run: the name of the tool, and its fields."""

    workflow: int
    name: str
    title: str
    purpose: str
    fields: list[str]


class AssistantKeyView(BaseModel):
    """A key. Its `token` is shown once, when it is made."""

    id: str
    name: str
    brand: str
    made_at: float
    made_by: str
    used_at: float | None
    token: str = ""


class AssistantsView(BaseModel):
    """Where assistants speak to this house, what they are offered, and who has a key. `ready`: whether the library is here."""

    address: str
    ready: bool
    offers: list[OfferedView]
    keys: list[AssistantKeyView]


class NewAssistantKey(Body):
    """A key: whose it is, and the brand whose workflows it is for; all of the house's where that is empty."""

    name: str = Field(min_length=1, max_length=80)
    brand: str = Field("", max_length=60)


class AssistantKeyPath(BaseModel):
    id: str = Field(min_length=12, max_length=64, pattern="^[0-9a-f]+$")


# -- keys -------------------------------------------------------------------------------------------------


@bp.get("/assistants", responses={200: AssistantsView})
@needs("owner")
def show() -> Reply:
    """What is offered to assistants outside, and to whom."""
    services = house().services
    with services.store.read() as session:
        found = offers.offered(session)
        keys = [_view(one) for one in session.scalars(select(tables.AssistantKey).order_by(tables.AssistantKey.made_at))]
    views = [OfferedView(**{**vars(one), "fields": [field.label for field in one.fields]}) for one in found]
    return send(AssistantsView(address=f"{services.public_url}/assistants", ready=_library() is not None, offers=views, keys=keys))


@bp.post("/assistants/keys", responses={201: AssistantKeyView, 422: Problem})
@needs("owner")
def make(body: NewAssistantKey) -> Reply:
    """Make a key; it is shown this once."""
    services, token = house().services, secrets.token_urlsafe(32)
    with services.store.write() as session:
        key = tables.AssistantKey(
            digest=_digest(token),
            name=body.name.strip(),
            brand=members.whose(session, body.brand),
            made_at=services.clock(),
            made_by=g.user.name,
        )
        session.add(key)
        audit(session, services.clock(), g.user.email, "made a key for an assistant", key.name)
    view = _view(key)
    view.token = token
    return send(view, 201)


@bp.delete("/assistants/keys/<id>", responses={200: Fine, 404: Problem})
@needs("owner")
def take_away(path: AssistantKeyPath) -> Reply:
    """Take a key away; whoever has it reaches nothing from now on."""
    services = house().services
    with services.store.write() as session:
        key = session.scalars(select(tables.AssistantKey).where(tables.AssistantKey.digest.startswith(path.id))).first()
        if key is None:
            raise Refusal("There is no such key (any more).", 404)
        audit(session, services.clock(), g.user.email, "took a key of an assistant away", key.name)
        session.delete(key)
    return send(Fine())


def _view(key: tables.AssistantKey) -> AssistantKeyView:
    id_ = key.digest[:16]
    return AssistantKeyView(
        id=id_, name=key.name, brand=key.brand or "", made_at=key.made_at, made_by=key.made_by, used_at=key.used_at
    )


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


# -- speaking -----------------------------------------------------------------------------------------------


@outside.route("/assistants", methods=["POST"])
@room(LARGEST)
def spoken() -> Response:
    """One exchange of the protocol."""
    services = house().services
    if _library() is None:
        return _said({"message": EXTRA}, 501)
    key = _key()
    if key is None:
        answer = _said({"message": "This needs a key: Authorization: Bearer …"}, 401)
        answer.headers["WWW-Authenticate"] = "Bearer"
        return answer
    now = services.clock()
    if not house().crowd.allows(f"assistant:{key.digest}", A_MINUTE, 60, now):
        return _said({"message": f"Too many calls; at most {A_MINUTE} a minute."}, 429)
    if key.used_at is None or key.used_at < now - 60:
        with services.store.write() as session:
            session.get_one(tables.AssistantKey, key.digest).used_at = now
    with sight.only(frozenset({key.brand}) if key.brand else None):
        return _exchange(_Speaker(key))


@outside.route("/assistants", methods=["GET", "DELETE"])
def silent() -> Response:
    """There is no line on which this house would speak by itself, and none to be closed."""
    answer = _said({"message": "Assistants speak by POST here."}, 405)
    answer.headers["Allow"] = "POST"
    return answer


def _said(words: dict[str, str], status: int) -> Response:
    return Response(json.dumps(words), status, mimetype="application/json")


def _key() -> tables.AssistantKey | None:
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token.strip():
        return None
    with house().services.store.read() as session:
        return session.get(tables.AssistantKey, _digest(token.strip()))


def _library() -> Any:
    """The protocol's library; ``None`` where it is not installed."""
    try:
        import mcp.server.lowlevel
    except ImportError:
        return None
    return mcp


class _Speaker:
    """What one assistant may do, and its answers."""

    def __init__(self, key: tables.AssistantKey) -> None:
        # Two may be called alike; each knows only its own runs.
        self.who = f"assistant {key.name}, {key.digest[:8]}"
        with house().services.store.read() as session:
            self.offers: Sequence[offers.Offer] = offers.offered(session)

    def use(self, tool: str, given: dict[str, Any]) -> tuple[dict[str, Any], str]:
        """Use a tool: what came of it as values, and in words. Raises `offers.NotTaken`."""
        parts = house()
        if tool == RESULT:
            run = self._begun(given.get("run"))
        else:
            offer = next((one for one in self.offers if one.name == tool), None)
            if offer is None:
                raise offers.NotTaken(f"There is no tool “{tool[:80]}” here (any more).")
            run = offers.begin(parts.engine.runs, offer, given, self.who)
            with parts.services.store.write() as session:
                audit(session, parts.services.clock(), self.who, "started a run", offer.title)
        state, result = Answers(parts.services, parts.engine.writer).result(run, "", WAIT if tool != RESULT else 0.2)
        return self._told(run, state, str(result.get("text") or ""))

    def _begun(self, number: Any) -> int:
        """A run that a tool of these began, by who asks. Raises `offers.NotTaken`."""
        plain = isinstance(number, int) or (isinstance(number, float) and number.is_integer())
        wanted = int(number) if plain or (isinstance(number, str) and number.isdecimal() and len(number) < 19) else 0
        with house().services.store.read() as session:
            run = session.get(tables.Run, wanted) if 0 < wanted < 2**62 else None
            known = run is not None and any(run.workflow_id == one.workflow for one in self.offers)
            begun = session.get(tables.JournalEntry, (wanted, 0)) if known else None
        if begun is None or begun.event.get("item", {}).get("by") != self.who:
            raise offers.NotTaken(f"You have begun no run {wanted}.")
        return wanted

    def _told(self, run: int, state: str, text: str) -> tuple[dict[str, Any], str]:
        with house().services.store.read() as session:
            record = session.get_one(tables.Run, run)
        link = f"{house().services.public_url}/runs/{run}"
        if state == "running":
            stands = WORDS.get(record.state, "It is under way.")
            words = f"Run {run} has begun and has not ended yet. {stands} Ask {RESULT} later."
            return {"run": run, "state": record.state, "text": "", "link": link}, words
        words = text or {"done": "Done.", "skipped": "Passed over."}.get(state, record.message or state)
        return {"run": run, "state": state, "text": text, "link": link}, words

    def tools(self) -> list[dict[str, Any]]:
        """What is offered, as the protocol describes tools."""
        out = [
            {"name": one.name, "title": one.title, "description": _about(one), "inputSchema": schema_of(one.fields)}
            for one in self.offers
        ]
        if out:
            run = {"type": "integer", "description": "The number of the run."}
            out.append(
                {
                    "name": RESULT,
                    "title": "How a run gets on",
                    "description": "Tells how a run that you began stands, and what it gave.",
                    "inputSchema": {"type": "object", "properties": {"run": run}, "required": ["run"]},
                    "annotations": {"readOnlyHint": True},
                }
            )
        return out


def _about(offer: offers.Offer) -> str:
    return offer.purpose.strip() or f"Runs the workflow “{offer.title}”."


def schema_of(fields: Sequence[FormField]) -> dict[str, Any]:
    """What a workflow begins with, as a JSON Schema (2020-12)."""
    parts: dict[str, Any] = {}
    for field in fields:
        part: dict[str, Any] = {"type": "number" if field.type == "number" else "string", "title": field.label}
        if field.help:
            part["description"] = field.help
        if field.type == "choice":
            part["enum"] = list(field.choices)
        if field.type == "date":
            part["format"] = "date"
        parts[field.name] = part
    needed = [field.name for field in fields if field.required]
    return {"type": "object", "properties": parts, "required": needed, "additionalProperties": False}


def _exchange(speaker: _Speaker) -> Response:
    """Have the library answer this request, within it: nothing is kept from one to the next."""
    import anyio
    import mcp_types as types
    from mcp.server.lowlevel import Server
    from mcp.server.streamable_http_manager import StreamableHTTPSessionManager

    async def listed(*_: Any) -> types.ListToolsResult:
        return types.ListToolsResult.model_validate({"tools": speaker.tools()})

    async def used(_: Any, params: types.CallToolRequestParams) -> types.CallToolResult:
        try:
            values, words = speaker.use(params.name, dict(params.arguments or {}))
        except offers.NotTaken as error:
            return types.CallToolResult(content=[types.TextContent(type="text", text=str(error))], is_error=True)
        return types.CallToolResult(content=[types.TextContent(type="text", text=words)], structured_content=values)

    server: Any = Server("Ulmus", version=__version__, on_list_tools=listed, on_call_tool=used)
    out: dict[str, Any] = {"status": 500, "headers": [], "body": b""}
    scope = {
        "type": "http",
        "method": "POST",
        "path": request.path,
        "raw_path": request.path.encode(),
        "root_path": "",
        "scheme": request.scheme,
        "query_string": b"",
        "headers": [(name.lower().encode("latin-1"), value.encode("latin-1", "replace")) for name, value in request.headers],
        "http_version": "1.1",
        "client": None,
        "server": None,
    }
    body = request.get_data()

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": body, "more_body": False}

    async def sent(message: Any) -> None:
        if message["type"] == "http.response.start":
            out["status"], out["headers"] = message["status"], message.get("headers", [])
        else:
            out["body"] += message.get("body", b"")

    async def one() -> None:
        manager = StreamableHTTPSessionManager(server, json_response=True, stateless=True, security_settings=None)
        async with manager.run():
            await manager.handle_request(scope, _once(receive), sent)

    anyio.run(one)
    kept = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in out["headers"]]
    return Response(out["body"], out["status"], [one for one in kept if one[0].lower() != "content-length"])


def _once(receive: Callable[[], Any]) -> Callable[[], Any]:
    """The body once; after that the caller stays where it is for as long as it takes."""
    import anyio

    given = False

    async def next_() -> Any:
        nonlocal given
        if given:
            await anyio.sleep_forever()
        given = True
        return await receive()

    return next_
