"""The commands on workflow files, values and schedules."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import click

from ..protocols.errors import OutsideError
from .common import ALLOW, DATA, JSON, bytes_of, json_file, main


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@JSON
def check(file: Path, as_json: bool) -> None:
    """Check a workflow FILE: its format, kinds, settings, slots and rules.

    Connections and sheets are not looked for, since they differ from place to place.
    Exit status 1 where something keeps it from going live.
    """
    from ..core.workflow import WorkflowFileError, read_file
    from ..core.workflow import check as check_page
    from ..steps import kinds

    try:
        workflow = read_file(bytes_of(file))
    except WorkflowFileError as error:
        found: list[dict[str, Any]] = [{"where": p.where, "message": p.message, "severity": "error"} for p in error.problems]
    else:
        found = [
            {"where": "/".join([p.step, *p.place]), "message": p.message, "severity": p.severity, "start": p.start, "end": p.end}
            for p in check_page(workflow, kinds())
        ]
    bad = any(p["severity"] == "error" for p in found)
    if as_json:
        click.echo(json.dumps({"ok": not bad, "problems": found}, ensure_ascii=False))
    for p in () if as_json else found:
        click.echo(f"{p['severity']}: {p['where'] or 'file'}: {p['message']}", err=True)
    if not as_json and not found:
        click.echo("Nothing is wrong with this workflow.")
    raise SystemExit(1 if bad else 0)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--item", type=click.Path(path_type=Path), help="JSON file with the starting item; else the start's latest.")
@click.option(
    "--approve", type=click.Choice(["yes", "ask", "no"]), default="ask", show_default=True, help="How to answer approvals."
)
@click.option("--wait", default=120.0, show_default=True, help="Seconds until giving up; the run can be taken up later.")
@DATA
@ALLOW
@JSON
def run(file: Path, item: Path | None, approve: str, wait: float, data: Path, allow: tuple[str, ...], as_json: bool) -> None:
    """Carry out a workflow FILE once, for real, with the connections of the data folder.

    Posts go out and rows are written. No server may be running on the same data folder.
    """
    from ..runtime import once

    def ask(text: str) -> tuple[str, str]:
        if approve != "ask":
            return ("approve" if approve == "yes" else "decline"), ""
        click.echo(f"\n{text}\n", err=True)
        if click.confirm("Approve this draft?", err=True):
            return "approve", ""
        note = click.prompt("Note for a rewrite (empty declines)", default="", show_default=False, err=True)
        return ("back", note) if note else ("decline", "")

    try:
        told = once.run(data, frozenset(allow), bytes_of(file), json_file(item) if item else None, ask, wait)
    except (ValueError, OutsideError, RuntimeError) as error:
        raise click.ClickException(str(error)) from None
    if as_json:
        click.echo(json.dumps(told, ensure_ascii=False))
    else:
        click.echo(f"Run {told['run']}: {told['state']}. {told['message']}".strip())
        for step in told["steps"]:
            click.echo(f"  {step['step']:<12} {step['state']:<9} {step['says']}"[:160])
        click.echo(f"  {told['tokens']} tokens, € {told['cost']:.4f}")
    raise SystemExit(0 if told["state"] in ("done", "declined") else 1)


@main.command()
@click.argument("text")
@click.option("--values", type=click.Path(path_type=Path), required=True, help="JSON file with an object of values.")
@click.option("--as", "place", type=click.Choice(["text", "html", "json", "url"]), default="text", show_default=True)
@JSON
def render(text: str, values: Path, place: Any, as_json: bool) -> None:
    """Fill the slots of TEXT in from a file of values. TEXT may be - for standard input.

    Example: ulmus render 'Hello <<lead.name | otherwise "there">>' --values lead.json
    """
    from ..core import slots

    source = sys.stdin.read() if text == "-" else text
    template = slots.parse(source)
    if template.errors:
        raise click.ClickException("; ".join(f"at {e.start}: {e.message}" for e in template.errors))
    data = json_file(values)
    if not isinstance(data, dict):
        raise click.ClickException(f"{values} must hold one JSON object.")
    done = slots.render(template, data, place)
    if as_json:
        click.echo(json.dumps({"text": done.text, "missing": list(done.missing)}, ensure_ascii=False))
    else:
        click.echo(done.text)


@main.command()
@click.argument("rule")
@click.option("--zone", default="UTC", show_default=True, help="Time zone, such as Europe/Paris.")
@click.option("--after", default="", help="Wall-clock time in the zone, such as 2026-03-02T09:00. Default: now.")
@click.option("--count", default=5, show_default=True, type=click.IntRange(1, 1000))
@click.option("--quiet", default="", help="Hours in which nothing is due, such as 22:00-07:00.")
@JSON
def due(rule: str, zone: str, after: str, count: int, quiet: str, as_json: bool) -> None:
    """The next times of a recurrence RULE (RFC 5545), such as FREQ=DAILY;BYHOUR=8;BYMINUTE=30;BYSECOND=0.

    A time that a change of the clocks leaves out comes an hour later; one that comes twice counts once.
    """
    import datetime as dt

    from ..core import recurrence

    try:
        place = recurrence.zone_of(zone)
        begin = dt.datetime.fromisoformat(after).replace(tzinfo=place) if after else dt.datetime.now(place)
        moments = recurrence.due(rule, zone, begin, count, recurrence.quiet_hours(quiet) if quiet else None)
    except recurrence.RecurrenceError as error:
        raise click.ClickException(str(error)) from None
    except ValueError:
        raise click.ClickException(f"“{after}” is not a time; write it like 2026-03-02T09:00.") from None
    if as_json:
        click.echo(json.dumps({"rule": rule, "zone": zone, "due": [d.isoformat() for d in moments]}))
    else:
        click.echo("\n".join(f"{d:%a %d %b %Y %H:%M %Z}" for d in moments) or "Never again.")
