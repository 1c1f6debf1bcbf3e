"""Publish: an act at a service: a record changed, a lead handed over. No text for readers; it changes something there.

It goes through the outbox. After a lost answer it is sent again only where that is sure to do no harm: the service knows a call
by its Idempotency-Key, or the method puts the same in the same place (PUT, RFC 9110 section 9.2.2). Else the service is asked
whether it happened, where the line says how; and where nobody can tell, a person decides.
"""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.pieces import Act
from ...core.values import NotPlain, read_json
from ...protocols import services
from ...protocols.jsonpath import check, pick
from ...protocols.net import Web
from ..api import Connection, Context, Outgoing, Sends, Sighting, Sought, Timely, setting
from ..connections.service import service_headers
from ..shared.questions import question_of


class ActSettings(Timely):
    service: str = setting("Service", control="connection", needs="service")
    method: Literal["POST", "PUT", "PATCH", "DELETE"] = setting(
        "What it does",
        control="choice",
        default="POST",
        labels={
            "POST": "hand in (POST)",
            "PUT": "put in its place (PUT)",
            "PATCH": "change (PATCH)",
            "DELETE": "take away (DELETE)",
        },
    )
    path: str = setting(
        "Address",
        "What follows the service’s own address, such as /leads or /customers/<<call.body.id>>.",
        control="slots",
        default="",
        max_length=2000,
    )
    body: str = setting(
        "Body",
        "JSON; a slot stands for its value, without quotation marks of its own.",
        control="longslots",
        default="",
        max_length=100_000,
        when="method=POST|PUT|PATCH",
    )
    unasked: bool = setting(
        "Nobody need be asked first",
        "Else a line above must put a draft or a question before a person.",
        control="switch",
        default=False,
    )
    knows_key: bool = setting(
        "The service takes an Idempotency-Key",
        "It knows the same call again, so that it may safely be sent once more after a lost answer.",
        control="switch",
        default=False,
        more=True,
    )
    seen_at: str = setting(
        "To find out whether it happened, ask",
        "An address of the service that shows it, asked by GET after a lost answer, such as /leads?email=<<row.Email>>.",
        control="slots",
        default="",
        max_length=2000,
        more=True,
    )
    seen_in: str = setting(
        "There take",
        "A JSONPath (RFC 9535), such as $.leads[*].email.",
        control="text",
        default="",
        max_length=500,
        when="seen_at",
        more=True,
    )
    seen_is: str = setting(
        "It happened where this is among it",
        "Empty: where there is anything.",
        control="slots",
        default="",
        max_length=2000,
        when="seen_at",
        more=True,
    )
    query: dict[str, str] = setting(
        "In the address", "Names with values, put behind the question mark.", control="fields", default={}, max_length=50, more=True
    )
    form: bool = setting("Send the body as a form", control="switch", default=False, more=True)
    headers: dict[str, str] = setting("Headers", control="fields", default={}, max_length=30, more=True)
    take: str = setting(
        "Take", "A JSONPath into the answer. Empty takes all of it.", control="text", default="", max_length=500, more=True
    )
    played: str = setting(
        "In proofs it gives",
        "What stands for the answer in proofs, as text or JSON. A proof sends nothing.",
        control="longtext",
        default="",
        max_length=10_000,
        more=True,
    )


class ActOutput(BaseModel):
    value: Any = Field("", description="What was taken of the answer.")
    status: int = Field(0, description="The status of the answer.")
    link: str = Field("", description="Where what was made stands, where the service says so.")


def piece(settings: ActSettings, context: Context) -> Outgoing:
    """The call as it will be made. Raises `OutsideError` where its body is no JSON."""
    body = "" if settings.method == "DELETE" else settings.body
    asked = question_of(
        settings.service, settings.path, settings.method, settings.query, body, settings.form, settings.headers, 60, context
    )
    act = Act(
        method=settings.method,
        url=services.with_query(asked.url, asked.query),
        headers=dict(settings.headers),
        body=None if settings.method == "DELETE" else asked.body,
    )
    seen = ""
    if settings.seen_at.strip():
        seen = question_of(settings.service, settings.seen_at, "GET", {}, "", False, {}, 60, context).url
    how = {
        "form": settings.form,
        "key": settings.knows_key,
        "take": settings.take.strip(),
        "seen_at": seen,
        "seen_in": settings.seen_in.strip(),
        "seen_is": settings.seen_is.strip(),
    }
    return Outgoing(settings.service, {**act.model_dump(mode="json"), "how": how, "played": settings.played})


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Make the call, once."""
    how = content["how"]
    headers = {**_headers(connection, content["url"]), **content["headers"]}
    if how["key"]:
        headers["Idempotency-Key"] = f'"{key}"'
    question = services.Question(content["url"], content["method"], headers, body=content["body"], form=how["form"], seconds=60)
    said = services.act(web, question)
    values = pick(said.data, how["take"]) if how["take"] else [said.data]
    return {
        "value": values[0] if len(values) == 1 else values,
        "status": said.status,
        "link": services.place_of(said, question),
    }


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """After a lost answer: send it again where that is sure to do no harm, or ask whether it happened."""
    content = sought.content
    how = content.get("how", {})
    if how.get("key") or content.get("method") == "PUT":
        return Sighting(again=True)
    if not how.get("seen_at"):
        return Sighting(why="The line does not say how to find out whether it happened.")
    said = services.ask(web, services.Question(how["seen_at"], headers=_headers(connection, how["seen_at"])))
    values = pick(said.data, how["seen_in"]) if how["seen_in"] else [said.data]
    values = values[0] if len(values) == 1 and isinstance(values[0], list) else values
    wanted = str(how["seen_is"])
    there = any(_text(value) == wanted for value in values) if wanted else any(value not in (None, "", [], {}) for value in values)
    if there:
        return Sighting({"value": "", "status": said.status, "link": ""}, True)
    return Sighting(tells=True)


def _headers(connection: Connection, url: str) -> dict[str, str]:
    return service_headers(connection) if services.same_host(url, connection.settings.base_url) else {}


def _text(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """What proofs go on with: what was typed in."""
    text = str(content.get("played", "")).strip()
    try:
        value = read_json(text) if text else ""
    except NotPlain:
        value = text
    return {"value": value, "status": 0, "link": ""}


def faults(settings: ActSettings) -> list[tuple[str, str]]:
    """Paths that cannot be read."""
    paths = ((name, getattr(settings, name).strip()) for name in ("take", "seen_in"))
    return [(name, words) for name, path in paths if path and (words := check(path))]


KIND = Sends(
    name="act_at_service",
    stage="publish",
    title="Act at a service",
    about="Changes something at a service: a record, a lead handed over, an entry made. Done once; a proof only shows it.",
    sentence="At {service}, {method} {path}",
    offer="Change something at {service}",
    words="act change update record customer database crm hand over lead webhook http post put patch delete call notify service",
    called="act",
    settings=ActSettings,
    output=ActOutput,
    form="act",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    lists_within=lambda connection: connection.settings.shows_within,
    faults=faults,
    gives_outside=True,
    within_base=("path", "seen_at"),
    fixed_as_tool=("method", "path", "unasked", "seen_at"),
    lets_go="unasked",
    brief="{status} {value}",
)
