"""Gather: a job handed to a service and waited for."""

from __future__ import annotations

import json
import re
from typing import Any

from pydantic import BaseModel, Field

from ..protocols import services
from ..protocols.jsonpath import check
from ..protocols.net import Web
from .ask_service import question_of
from .base import Connection, Context, Kind, Outgoing, Settings, setting
from .connections import service_headers

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
        "What stands for the result in proofs, as text or JSON, so that later lines have something to work on. Runs do the job.",
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
    return Outgoing(settings.service, {"url": asked.url, "body": asked.body, "text": text, "how": how})


def plays(settings: JobSettings) -> dict[str, Any]:
    """What proofs go on with: nothing is handed in."""
    text = settings.played.strip()
    try:
        result = json.loads(text) if text else ""
    except ValueError:
        result = text
    return {"result": result, "state": "played" if text else "", "place": "", "seconds": 0}


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Hand the job in under `key` and wait for it. The key makes handing it in again the same job."""
    headers = {**service_headers(connection), "Idempotency-Key": key}
    question = services.Question(content["url"], "POST", headers, body=content["body"], seconds=60)
    how = content["how"]
    job = services.Job(
        how["state"],
        _words(how["done"]),
        _words(how["failed"]),
        how["place"],
        how["result"],
        float(how["every"]),
        float(how["longest"]),
    )
    return services.carry_out(web, question, job)


def find(web: Web, connection: Connection, key: str) -> tuple[bool, dict[str, Any] | None]:
    """After a break: nothing is known to be there, so it is handed in again under the same key, which is the same job."""
    return True, None


def _words(text: str) -> tuple[str, ...]:
    return tuple(word.casefold() for word in re.split(r"[,;\s]+", text) if word)


def faults(settings: JobSettings) -> list[tuple[str, str]]:
    """Paths that cannot be read."""
    paths = ((name, getattr(settings, name).strip()) for name in ("state", "place", "result"))
    return [(name, words) for name, path in paths if path and (words := check(path))]


KIND = Kind(
    name="run_job",
    stage="gather",
    manner="send",
    title="Submit and wait",
    about="Hands a job to a service, such as rendering a video, and waits until it is ready, has failed, or takes too long. Handed in once where the service heeds an Idempotency-Key; proofs only show it.",
    sentence="Have {service} do a job at {path}, wait at most {longest}",
    offer="Have {service} do a job, and wait",
    words="render video submit poll wait job async picture audio convert",
    called="job",
    settings=JobSettings,
    output=JobOutput,
    piece=piece,
    plays=plays,
    send=send,
    find=find,
    faults=faults,
    gives_outside=True,
    brief="{state} · {result}",
)
