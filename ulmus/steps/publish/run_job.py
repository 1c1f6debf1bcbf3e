"""Publish: a job handed to a service, an act, and waited for.

It is handed in once, through the outbox. Where its sending was cut off nobody can ask the service for it, so that it is
unsure, and a person decides. Looking how it gets on changes nothing, and is tried as often as it takes.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field

from ...core.pieces import Act
from ...core.values import NotPlain, read_json
from ...protocols import services
from ...protocols.jsonpath import check
from ...protocols.net import Web
from ..api import Connection, Context, Jobs, Outgoing, Progress, Settings, Taken, setting
from ..connections.service import service_headers
from ..shared.questions import question_of

DONE = "done, ready, completed, succeeded, finished"
FAILED = "failed, error, cancelled, rejected"


class JobSettings(Settings):
    service: str = setting("Service", control="connection", needs="service")
    path: str = setting("Address", "Where jobs are handed in, such as /jobs.", control="slots", default="", max_length=2000)
    body: str = setting("The job", "JSON, with slots in it.", control="longslots", default="", max_length=100_000)
    state: str = setting("Where its state stands", "A JSONPath.", control="text", default="$.status", max_length=300, more=True)
    done: str = setting("Words for ready", control="text", default=DONE, max_length=500, more=True)
    failed: str = setting("Words for failed", control="text", default=FAILED, max_length=500, more=True)
    place: str = setting(
        "Where to look",
        "A JSONPath to the address, where the service gives none in a Location header.",
        control="text",
        default="",
        max_length=300,
        more=True,
    )
    result: str = setting(
        "Take", "A JSONPath into the ready job, such as $.video. Empty takes all of it.", control="text", default="", max_length=300
    )
    every: float = setting(
        "Look every", "A service that says when to come back is obeyed.", control="duration", default=5, ge=1, le=600
    )
    longest: float = setting(
        "Give up after",
        "The step then fails, and its failure policy says what then.",
        control="duration",
        default=900,
        ge=5,
        le=7200,
    )
    played: str = setting(
        "In proofs it gives",
        "What stands for the result in proofs, as text or JSON. Empty: the last result this line had in a run.",
        control="longtext",
        default="",
        max_length=10_000,
        more=True,
    )


class JobOutput(BaseModel):
    result: Any = Field("", description="What was taken of the ready job.")
    state: str = Field("", description="How it ended.")
    place: str = Field("", description="Where the job can be looked at.")
    seconds: float = Field(0, description="How long it took.")


def piece(settings: JobSettings, context: Context) -> Outgoing:
    """The job as it will be handed in."""
    asked = question_of(settings.service, settings.path, "POST", {}, settings.body, False, {}, 60, context)
    how = settings.model_dump(include={"state", "done", "failed", "place", "result", "every", "longest"})
    text = json.dumps(asked.body, ensure_ascii=False, indent=1)
    act = Act(method="POST", url=asked.url, body=asked.body)
    return Outgoing(settings.service, {**act.model_dump(mode="json"), "text": text, "how": how})


def plays(settings: JobSettings, kept: Mapping[str, Any]) -> dict[str, Any]:
    """What proofs go on with: what was typed in, else what this line's last job gave. Nothing is handed in."""
    text = settings.played.strip()
    if not text and kept:
        return {**kept, "state": "kept"}
    try:
        result = read_json(text) if text else ""
    except NotPlain:
        result = text
    return {"result": result, "state": "played" if text else "", "place": "", "seconds": 0}


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any] | Taken:
    """Hand the job in under `key`. A job that is not over at once is followed from its receipt."""
    headers = {**service_headers(connection), "Idempotency-Key": key}
    question = services.Question(content["url"], "POST", headers, body=content["body"], seconds=60)
    looked = services.hand_in(web, question, _job(content["how"]))
    if looked.over:
        return _output(looked, 0)
    return Taken({"place": looked.place, "how": content["how"]}, looked.again_in)


def follow(web: Web, connection: Connection, settings: JobSettings, receipt: dict[str, Any], seconds: float) -> Progress:
    """Look at the job that was handed in so many seconds ago."""
    place = str(receipt["place"])
    headers = service_headers(connection) if services.same_host(place, connection.settings.base_url) else {}
    looked = services.look_after(web, place, headers, _job(receipt["how"]), seconds)
    return Progress(_output(looked, seconds)) if looked.over else Progress(None, looked.again_in)


def _output(looked: services.Looked, seconds: float) -> dict[str, Any]:
    return {"result": looked.result, "state": looked.state, "place": looked.place, "seconds": round(seconds, 1)}


def _job(how: Mapping[str, Any]) -> services.Job:
    return services.Job(
        str(how["state"]),
        _words(str(how["done"])),
        _words(str(how["failed"])),
        str(how["place"]),
        str(how["result"]),
        float(how["every"]),
        float(how["longest"]),
    )


def _words(text: str) -> tuple[str, ...]:
    return tuple(word.casefold() for word in re.split(r"[,;\s]+", text) if word)


def faults(settings: JobSettings) -> list[tuple[str, str]]:
    """Paths that cannot be read."""
    paths = ((name, getattr(settings, name).strip()) for name in ("state", "place", "result"))
    return [(name, words) for name, path in paths if path and (words := check(path))]


KIND = Jobs(
    name="run_job",
    stage="publish",
    title="Submit and wait",
    about="Hands a job to a service, such as rendering a video, and waits until it is ready, has failed, or takes too long. Handed in once; proofs only show it, and go on with its last result or one typed in.",
    sentence="Have {service} do a job at {path}, wait at most {longest}",
    offer="Have {service} do a job, and wait",
    words="render video submit poll wait job async picture audio convert",
    called="job",
    settings=JobSettings,
    output=JobOutput,
    piece=piece,
    plays=plays,
    send=send,
    follow=follow,
    faults=faults,
    gives_outside=True,
    within_base=("path",),
    fixed_as_tool=("path",),
    form="act",
    brief="{state} · {result}",
)
