"""Gather: a question to a data service."""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...protocols import services
from ...protocols.errors import OutsideError
from ...protocols.jsonpath import check
from ..api import Context, Performs, Result, Settings, setting
from ..shared.questions import question_of

ACT = "A question with a body may change something there. Say that this one changes nothing, or hand it in as a job."


class ServiceStepSettings(Settings):
    service: str = setting("Service", control="connection", needs="service")
    path: str = setting(
        "Address",
        "What follows the service’s own address, such as /contacts/<<row.id>>.",
        control="slots",
        default="",
        max_length=2000,
    )
    method: Literal["GET", "POST"] = setting(
        "How it is asked",
        "Runs and proofs ask, so the question must change nothing there.",
        control="choice",
        default="GET",
        labels={"GET": "GET: fetch", "POST": "POST: ask with a body"},
    )
    harmless: bool = setting(
        "This question changes nothing there",
        "Only then is it asked with a body. What changes something is an act, and no research.",
        control="switch",
        default=False,
        when="method=POST",
    )
    query: dict[str, str] = setting(
        "In the address", "Names with values, put behind the question mark.", control="fields", default={}, max_length=50
    )
    body: str = setting(
        "Body",
        "JSON; a slot stands for its value, without quotation marks of its own.",
        control="longslots",
        default="",
        max_length=100_000,
        when="method=POST",
    )
    form: bool = setting("Send the body as a form", control="switch", default=False, when="method=POST", more=True)
    headers: dict[str, str] = setting("Headers", control="fields", default={}, max_length=30, more=True)
    path_in: str = setting(
        "Take",
        "A JSONPath (RFC 9535), such as $.contacts[*]. Empty takes all of the answer.",
        control="text",
        default="",
        max_length=500,
    )
    paging: Literal["no", "link", "field", "number"] = setting(
        "Further pages",
        control="choice",
        default="no",
        labels={
            "no": "there are none",
            "link": "a Link header names the next",
            "field": "a field names the next",
            "number": "a page number counts up",
        },
        more=True,
    )
    next_in: str = setting(
        "Where the next stands", "A JSONPath.", control="text", default="$.next", max_length=300, when="paging=field", more=True
    )
    page_name: str = setting(
        "Name of the page number or mark", control="text", default="page", max_length=60, when="paging=field|number", more=True
    )
    pages: int = setting("Pages at most", control="number", default=10, ge=1, le=50, when="paging=link|field|number", more=True)
    seconds: float = setting("Wait at most", control="duration", default=30, ge=1, le=120, more=True)


class ServiceOutput(BaseModel):
    value: Any = Field("", description="What was taken: one value, or a list.")
    items: list[Any] = Field([], description="What was taken, as a list.")
    count: int = Field(0, description="How many values were taken.")
    status: int = Field(0, description="The status of the answer.")
    text: str = Field("", description="What was taken, as text.")


def perform(settings: ServiceStepSettings, context: Context) -> Result:
    """Ask the service."""
    if settings.method != "GET" and not settings.harmless:
        raise OutsideError(ACT)
    question = question_of(
        settings.service,
        settings.path,
        settings.method,
        settings.query,
        settings.body,
        settings.form,
        settings.headers,
        settings.seconds,
        context,
    )
    paging = services.Paging(settings.paging, settings.next_in, settings.page_name, settings.pages)
    found, first = services.ask_all(context.web, question, settings.path_in.strip(), paging)
    value = found[0] if len(found) == 1 else found
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, indent=1)
    return Result({"value": value, "items": found, "count": len(found), "status": first.status, "text": text})


def faults(settings: ServiceStepSettings) -> list[tuple[str, str]]:
    """Paths that cannot be read."""
    wrong = [("harmless", ACT)] if settings.method != "GET" and not settings.harmless else []
    return wrong + [
        (name, words) for name in ("path_in", "next_in") if (path := getattr(settings, name).strip()) and (words := check(path))
    ]


KIND = Performs(
    name="ask_service",
    stage="gather",
    title="Ask a data service",
    about="Asks any service over HTTP and takes the values you point at: contacts, customers, products, anything in JSON.",
    sentence="Ask {service}[ for {path}]",
    offer="Ask {service}",
    words="api http call data contact customer crm json request fetch lookup record",
    called="service",
    settings=ServiceStepSettings,
    output=ServiceOutput,
    perform=perform,
    faults=faults,
    gives_outside=True,
    within_base=("path",),
    fixed_as_tool=("path", "headers"),
    brief="{count} values",
)
