"""The workflow file: JSON, versioned. `docs/workflow.schema.json` is generated from here (JSON Schema 2020-12)."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from .kinds import Kinds
from .model import FailurePolicy, Limits, Workflow
from .settings import plain_words

LARGEST_FILE = 2_000_000
VERSION = 1


@dataclass(frozen=True)
class FileProblem:
    """One thing wrong in a file: where (a JSON Pointer, RFC 6901) and what, in plain words."""

    where: str
    message: str


class WorkflowFileError(ValueError):
    """The file is not a workflow; `problems` lists why."""

    def __init__(self, problems: list[FileProblem]) -> None:
        self.problems = problems
        super().__init__("; ".join(f"{p.where or '/'}: {p.message}" for p in problems))


def read_file(source: str | bytes | dict[str, Any]) -> Workflow:
    """Read a workflow file. Raises `WorkflowFileError` with every problem found."""
    data = source if isinstance(source, dict) else _json(source)
    if data.get("format") != "ulmus-workflow":
        raise WorkflowFileError([FileProblem("/format", "This is not a workflow file: its “format” is not “ulmus-workflow”.")])
    version = data.get("version")
    if isinstance(version, int) and version > VERSION:
        message = f"This file was written by a newer Ulmus (version {version}; this one reads up to {VERSION})."
        raise WorkflowFileError([FileProblem("/version", message)])
    if _depth(data) > 60:
        raise WorkflowFileError([FileProblem("", "The file is nested too deep to be a workflow.")])
    try:
        return Workflow.model_validate({name: value for name, value in data.items() if name != "needs"})
    except ValidationError as error:
        raise WorkflowFileError([FileProblem(p, m) for p, m in plain_errors(error)]) from None


def read_needs(data: dict[str, Any]) -> dict[str, Any]:
    """What a file says the page needs around it; empty where it says nothing that can be used."""
    needs = data.get("needs")
    if not isinstance(needs, dict):
        return {}
    return {name: value for name, value in needs.items() if name in ("connections", "sheets", "brand") and isinstance(value, dict)}


def write_file(workflow: Workflow, needs: dict[str, Any] | None = None) -> str:
    """The file's text: two spaces of indent, fields in the order of the model, defaults left out; `needs` at its end."""
    data = workflow.model_dump(mode="json")
    if data["limits"] == Limits().model_dump(mode="json"):
        del data["limits"]
    else:
        data["limits"] = workflow.limits.model_dump(mode="json", exclude_defaults=True)
    if not data["zone"]:
        del data["zone"]
    for line in [data["start"], *data["steps"]]:
        _lean(line)
    if needs:
        data["needs"] = needs
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _lean(line: dict[str, Any]) -> None:
    """Leave out what is as it always is."""
    policy = FailurePolicy(**line["on_failure"]).model_dump(mode="json", exclude_defaults=True)
    for name, value in (("on_failure", policy), ("muted", line["muted"]), ("steps", line["steps"]), ("lanes", line["lanes"])):
        if value:
            line[name] = value
        else:
            del line[name]
    for lane in line.get("lanes", []):
        if not lane["muted"]:
            del lane["muted"]
        for inner in lane["steps"]:
            _lean(inner)
    for inner in line.get("steps", []):
        _lean(inner)


def file_schema(kinds: Kinds) -> dict[str, Any]:
    """The JSON Schema of the file, with the settings of every kind."""
    schema = Workflow.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Ulmus workflow file"
    schema["properties"]["needs"] = {
        "title": "Needs",
        "description": "What stood around the page where it was written: connections, sheets and the brand, without secrets.",
        "type": "object",
    }
    cases = []
    for spec in sorted(kinds.values(), key=lambda s: s.name):
        settings = spec.settings.model_json_schema(ref_template=f"#/$defs/{spec.name}_{{model}}")
        for name, definition in settings.pop("$defs", {}).items():
            schema["$defs"][f"{spec.name}_{name}"] = definition
        cases.append({"if": {"properties": {"kind": {"const": spec.name}}}, "then": {"properties": {"settings": settings}}})
    schema["$defs"]["Line"]["allOf"] = cases
    schema["$defs"]["Line"]["properties"]["kind"]["enum"] = sorted(kinds)
    return schema


def _depth(value: Any, deep: int = 0) -> int:
    if deep > 60 or not isinstance(value, dict | list):
        return deep
    inside = value.values() if isinstance(value, dict) else value
    return max((_depth(one, deep + 1) for one in inside), default=deep)


def plain_errors(error: ValidationError) -> list[tuple[str, str]]:
    """Pydantic's errors as (JSON Pointer, words a maker understands)."""
    return [("/" + "/".join(str(p) for p in e["loc"]) if e["loc"] else "", plain_words(e["type"], e)) for e in error.errors()]


def _json(source: str | bytes) -> dict[str, Any]:
    if len(source) > LARGEST_FILE:
        raise WorkflowFileError([FileProblem("", f"The file is larger than {LARGEST_FILE // 1_000_000} MB.")])
    try:
        data = json.loads(source)
    except (ValueError, RecursionError) as error:
        where = f"line {error.lineno}, column {error.colno}" if isinstance(error, json.JSONDecodeError) else "somewhere"
        raise WorkflowFileError([FileProblem("", f"This is not JSON ({where}).")]) from None
    if not isinstance(data, dict):
        raise WorkflowFileError([FileProblem("", "A workflow file holds one JSON object.")])
    return data
