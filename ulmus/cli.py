"""The command line. With ``--json`` a command prints one JSON document on standard output and nothing else;
errors go to standard error, and the exit status is not zero."""

from __future__ import annotations

import dataclasses
import json
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import click

from . import __version__
from .protocols.errors import OutsideError

DATA = click.option(
    "--data",
    type=click.Path(path_type=Path),
    default=lambda: os.environ.get("ULMUS_DATA", "ulmus-data"),
    help="Data folder (or ULMUS_DATA). Default: ulmus-data.",
)
JSON = click.option("--json", "as_json", is_flag=True, help="Print one JSON document and nothing else.")
ALLOW = click.option("--allow", multiple=True, metavar="HOST:PORT", help="Let this private host be fetched. May be repeated.")


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="ulmus")
def main() -> None:
    """Ulmus: workflows written as a page and proved on real items.

    Start with `ulmus demo` (an invented agency with an invented outside world) or `ulmus serve` (your own).
    """


@main.command()
@DATA
@ALLOW
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8420, show_default=True)
@click.option("--public-url", default="", help="How others reach this server; stands in links in mails.")
def serve(data: Path, allow: tuple[str, ...], host: str, port: int, public_url: str) -> None:
    """Serve the app and carry out live workflows.

    Add the first account with `ulmus user add`.
    """
    from .server import Config

    _serve(Config(data, host, port, public_url, frozenset(allow)), open_words="Ulmus is open at")


@main.command()
@click.option("--data", type=click.Path(path_type=Path), default=Path(".demo"), show_default=True)
@click.option("--port", default=8420, show_default=True)
@click.option("--town-port", default=8421, show_default=True)
@click.option("--smtp-port", default=8425, show_default=True)
@click.option("--reset", is_flag=True, help="Begin again with fresh demo data.")
def demo(data: Path, port: int, town_port: int, smtp_port: int, reset: bool) -> None:
    """Start Ulmus with demo data, and the practice town around it.

    The data is kept in the folder, so that stopping (even with kill -9) and starting again loses nothing.
    """
    import shutil

    from . import demo as demonstration
    from .runtime.services import Services
    from .server import Config

    if reset and data.exists():
        shutil.rmtree(data)
    town = _start_town(data / "town", town_port, smtp_port)
    try:
        url = f"http://127.0.0.1:{town_port}"
        allowed = frozenset({f"127.0.0.1:{town_port}"})
        services = Services.open(data / "ulmus", allowed, public_url=f"http://127.0.0.1:{port}")
        if not demonstration.is_made(services):
            demonstration.make(services, url, smtp_port, lambda text: click.echo(f"  {text}"))
        accounts = tuple(demonstration.accounts())
        config = Config(data / "ulmus", "127.0.0.1", port, "", allowed, accounts, url)
        click.echo(f"\n  Practice town   {url}  (control page: {url}/control)")
        click.echo(f"  Sign in as      {accounts[0]['email']}, password “{accounts[0]['password']}”")
        _serve(config, open_words="  Ulmus          ", services=services)
    finally:
        town.terminate()
        town.wait(5)


@main.command()
@click.option("--data", type=click.Path(path_type=Path), default=None, help="Folder to keep posts and mail in.")
@click.option("--port", default=8421, show_default=True)
@click.option("--smtp-port", default=8425, show_default=True)
def town(data: Path | None, port: int, smtp_port: int) -> None:
    """Run the practice town alone: news sites, a network, a model, mailboxes."""
    arguments = [sys.executable, "-m", "practice_town", "--port", str(port), "--smtp-port", str(smtp_port)]
    raise SystemExit(subprocess.call(arguments + (["--data", str(data)] if data else [])))


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@JSON
def check(file: Path, as_json: bool) -> None:
    """Check a workflow FILE: its format, kinds, settings, slots and rules.

    Connections and sheets are not looked for, since they differ from place to place.
    Exit status 1 where something keeps it from going live.
    """
    from .core.workflow import WorkflowFileError, read_file
    from .core.workflow import check as check_page
    from .steps import kinds

    try:
        workflow = read_file(_bytes(file))
    except WorkflowFileError as error:
        found = [{"where": p.where, "message": p.message, "severity": "error"} for p in error.problems]
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
    from .runtime import once

    def ask(text: str) -> tuple[str, str]:
        if approve != "ask":
            return ("approve" if approve == "yes" else "decline"), ""
        click.echo(f"\n{text}\n", err=True)
        if click.confirm("Approve this draft?", err=True):
            return "approve", ""
        note = click.prompt("Note for a rewrite (empty declines)", default="", show_default=False, err=True)
        return ("back", note) if note else ("decline", "")

    try:
        told = once.run(data, frozenset(allow), _bytes(file), _json_file(item) if item else None, ask, wait)
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
@click.argument("source")
@ALLOW
@JSON
def feed(source: str, allow: tuple[str, ...], as_json: bool) -> None:
    """Read the feed at SOURCE (an address or a file): RSS 2.0, RSS 1.0, Atom or JSON Feed."""
    from .protocols import feeds

    found = _outside(allow, lambda web: feeds.look(web, source).feed if _is_url(source) else feeds.parse(_bytes(Path(source))))
    if as_json:
        click.echo(json.dumps(dataclasses.asdict(found), ensure_ascii=False))
        return
    click.echo(found.title)
    for one in found.items:
        click.echo(f"  {one.published[:10] or '----------'}  {one.title}\n              {one.link}")
    for problem in found.problems:
        click.echo(problem, err=True)


@main.command()
@click.argument("source")
@ALLOW
@JSON
def read(source: str, allow: tuple[str, ...], as_json: bool) -> None:
    """Read SOURCE: a page or file by its address, or a file here. Web pages give their main text; PDF, DOCX, ODT, HTML,
    Markdown and text theirs; CSV, XLSX and ODS their rows.
    """
    from .protocols import documents, pages
    from .protocols.net import Web, status_error

    def fetched(web: Web) -> Any:
        if not _is_url(source):
            return documents.read(_bytes(Path(source)), source)
        try:
            return pages.read(web, source)
        except OutsideError:
            got = web.fetch(source, max_bytes=documents.LARGEST, max_seconds=120)
            if got.status != 200:
                raise status_error(got, "The server") from None
            if got.content_type in ("text/html", "application/xhtml+xml"):
                raise
            return documents.read(got.body, got.url, got.content_type, got.charset)

    found = _outside(allow, fetched)
    if as_json:
        click.echo(json.dumps(dataclasses.asdict(found) | {"words": len(found.text.split())}, ensure_ascii=False))
        return
    head = " ".join([found.author, getattr(found, "date", "")]).strip()
    click.echo("\n".join(part for part in (found.title, head, "", found.text) if part is not None))
    for note in getattr(found, "notes", []):
        click.echo(note, err=True)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--fineness", type=click.Choice(["few", "some", "many"]), default="some", show_default=True)
@JSON
def chapters(file: Path, fineness: Any, as_json: bool) -> None:
    """Find the chapters of the recording whose transcript (WebVTT or SRT) is FILE; - for standard input."""
    from .core.gather.chapters import chapters as found_in
    from .protocols import transcripts
    from .protocols.text import decode

    try:
        cues = transcripts.parse(sys.stdin.read() if str(file) == "-" else decode(_bytes(file)))
    except OutsideError as error:
        raise click.ClickException(error.message) from None
    found = found_in(cues, fineness)
    if as_json:
        told = [{"at": transcripts.stamp(one.start), **dataclasses.asdict(one)} for one in found]
        click.echo(json.dumps({"chapters": told, "minutes": round((cues[-1].end - cues[0].start) / 60, 1)}, ensure_ascii=False))
        return
    for one in found:
        click.echo(f"{transcripts.stamp(one.start):>8}  {', '.join(one.words[:4])}: {one.opening} …")


@main.command()
@click.argument("draft", type=click.Path(path_type=Path))
@click.option("--rules", "rules_file", type=click.Path(path_type=Path), required=True, help="JSON file with a list of rules.")
@JSON
def rules(draft: Path, rules_file: Path, as_json: bool) -> None:
    """Measure the text in DRAFT (- for standard input) by rules; the exit status is 1 where a must-rule is broken.

    A rule is written as in a workflow file, such as {"rule": "length", "most": 280}.
    """
    from pydantic import TypeAdapter, ValidationError

    from .core.drafting.rules import Rule, broken, contradictions, measure
    from .core.workflow.file import plain_errors

    try:
        read: list[Any] = TypeAdapter(list[Rule]).validate_python(_json_file(rules_file))
    except ValidationError as error:
        words = "; ".join(f"{where}: {what}" for where, what in plain_errors(error)[:5])
        raise click.ClickException(f"{rules_file} holds no list of rules: {words}") from None
    found = measure(_said(draft), read)
    if as_json:
        click.echo(
            json.dumps({"findings": [f.model_dump() for f in found], "contradictions": contradictions(read)}, ensure_ascii=False)
        )
    else:
        for one in found:
            click.echo(f"  {'kept  ' if one.kept else 'BROKEN'}  {one.strength:<6}  {one.says}")
        for words in contradictions(read):
            click.echo(words, err=True)
    raise SystemExit(1 if broken(found) else 0)


@main.command()
@click.argument("draft", type=click.Path(path_type=Path))
@click.option(
    "--source", "sources", multiple=True, required=True, type=click.Path(path_type=Path), help="A source; may be repeated."
)
@JSON
def evidence(draft: Path, sources: tuple[Path, ...], as_json: bool) -> None:
    """For each sentence of DRAFT (- for standard input), the passage of the sources that supports it best, and what stands
    in no source."""
    from .core.drafting.evidence import evidence as found_in
    from .protocols import documents

    texts = {}
    for one in sources:
        try:
            texts[str(one)] = documents.read(_bytes(one), str(one)).text
        except OutsideError as error:
            raise click.ClickException(f"{one}: {error.message}") from None
    found = found_in(_said(draft), texts)
    if as_json:
        click.echo(
            json.dumps(
                {"sentences": [dataclasses.asdict(s) for s in found.sentences], "unsupported": len(found.unsupported)},
                ensure_ascii=False,
            )
        )
        return
    for one in found.sentences:
        missing = "; not in the sources: " + ", ".join(claim.text for claim in one.missing) if one.missing else ""
        click.echo(f"{one.level:<12} {one.score:4.2f}  {one.text}{missing}")
        if one.passage:
            click.echo(f"                   {one.source}: {one.passage[:160]}")


@main.command()
@click.argument("examples", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--against", type=click.Path(path_type=Path), help="A draft to set against the examples.")
@JSON
def voice(examples: tuple[Path, ...], against: Path | None, as_json: bool) -> None:
    """Measure the style of EXAMPLES, one piece in each file, and say how far a draft is from it."""
    from .core.drafting.voice import differences, style_of, verdict

    try:
        style = style_of([_said(one) for one in examples])
    except ValueError as error:
        raise click.ClickException(str(error)) from None
    found = differences(_said(against), style) if against else []
    if as_json:
        told = {"style": dataclasses.asdict(style), "differences": [dataclasses.asdict(d) for d in found]}
        click.echo(json.dumps(told | ({"verdict": verdict(found)} if against else {}), ensure_ascii=False))
        return
    for name, value in style.middle.items():
        click.echo(f"  {name.replace('_', ' '):<16} {value:g} (± {style.spread[name]:g})")
    click.echo(f"  {'speaks as':<16} {style.person}\n  {'begins with':<16} {style.opening}")
    if against:
        click.echo(f"The draft is {verdict(found)}.")
        for one in found:
            click.echo(f"  {one.says}")


@main.command()
@click.argument("text")
@click.option("--values", type=click.Path(path_type=Path), required=True, help="JSON file with an object of values.")
@click.option("--as", "place", type=click.Choice(["text", "html", "json", "url"]), default="text", show_default=True)
@JSON
def render(text: str, values: Path, place: Any, as_json: bool) -> None:
    """Fill the slots of TEXT in from a file of values. TEXT may be - for standard input.

    Example: ulmus render 'Hello <<lead.name | otherwise "there">>' --values lead.json
    """
    from .core import slots

    source = sys.stdin.read() if text == "-" else text
    template = slots.parse(source)
    if template.errors:
        raise click.ClickException("; ".join(f"at {e.start}: {e.message}" for e in template.errors))
    data = _json_file(values)
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

    from .core import recurrence

    try:
        place = recurrence.zone_of(zone)
        begin = dt.datetime.fromisoformat(after).replace(tzinfo=place) if after else dt.datetime.now(place)
        found = recurrence.due(rule, zone, begin, count, recurrence.quiet_hours(quiet) if quiet else None)
    except recurrence.RecurrenceError as error:
        raise click.ClickException(str(error)) from None
    except ValueError:
        raise click.ClickException(f"“{after}” is not a time; write it like 2026-03-02T09:00.") from None
    if as_json:
        click.echo(json.dumps({"rule": rule, "zone": zone, "due": [d.isoformat() for d in found]}))
    else:
        click.echo("\n".join(f"{d:%a %d %b %Y %H:%M %Z}" for d in found) or "Never again.")


@main.group()
def user() -> None:
    """Accounts."""


@user.command("add")
@click.argument("email")
@click.option("--name", prompt=True)
@click.option("--role", type=click.Choice(["owner", "maker", "reviewer", "reader"]), default="owner", show_default=True)
@click.password_option(help="Asked for where it is not given.")
@DATA
def add_user(email: str, name: str, role: str, password: str, data: Path) -> None:
    """Add an account."""
    from sqlalchemy.exc import IntegrityError

    from .api.auth import hash_password
    from .store import Store, tables

    if len(password) < 8:
        raise click.ClickException("A password has at least 8 characters.")
    try:
        with Store(data).write() as session:
            session.add(tables.User(email=email.strip().lower(), name=name, role=role, password=hash_password(password)))
    except IntegrityError:
        raise click.ClickException(f"{email} has an account already.") from None
    click.echo(f"{email} can sign in as {role}.")


@main.command()
@click.option("--out", type=click.Path(path_type=Path), default=Path("docs"), show_default=True)
@click.option("--openapi", type=click.Path(path_type=Path), help="Also write the API's OpenAPI document here.")
def docs(out: Path, openapi: Path | None) -> None:
    """Write the generated references: workflow file schema, kinds of step, filters."""
    from .reference import write

    write(out, openapi)


def _serve(config: Any, open_words: str, services: Any = None) -> None:
    from .runtime.engine import EngineBusy
    from .server import Server, set_up_logging

    set_up_logging(config.folder)
    try:
        server = Server(config, services)
    except EngineBusy as error:
        raise click.ClickException(str(error)) from None
    except OSError as error:
        raise click.ClickException(f"Port {config.port} cannot be used ({error.strerror}). Choose another with --port.") from None
    click.echo(f"{open_words} {server.url}\n")
    server.serve()


def _start_town(folder: Path, port: int, smtp_port: int) -> subprocess.Popen[str]:
    """Start the town as a process of its own that ends with this one."""
    folder.mkdir(parents=True, exist_ok=True)
    arguments = ["--data", str(folder), "--port", str(port), "--smtp-port", str(smtp_port), "--with-parent"]
    habits = ["--habits", "length=30,quotes=10,emoji=5"]
    for _ in range(20):
        process = subprocess.Popen(
            [sys.executable, "-m", "practice_town", *arguments, *habits], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert process.stdout is not None
        if "open at" in process.stdout.readline():
            return process
        process.wait(5)
        time.sleep(0.5)
    raise click.ClickException(
        f"The practice town cannot use port {port} or {smtp_port}. Choose others with --town-port and --smtp-port."
    )


def _outside(allow: tuple[str, ...], call: Any) -> Any:
    from .protocols.net import Web

    web = Web(allow)
    try:
        return call(web)
    except OutsideError as error:
        raise click.ClickException(error.message) from None
    finally:
        web.close()


def _is_url(source: str) -> bool:
    return source.startswith(("http://", "https://"))


def _said(file: Path) -> str:
    """The text in a file, or on standard input."""
    from .protocols.text import decode

    return sys.stdin.read() if str(file) == "-" else decode(_bytes(file))


def _bytes(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        raise click.ClickException(f"{file} cannot be read ({error.strerror}).") from None


def _json_file(file: Path) -> Any:
    try:
        return json.loads(_bytes(file))
    except ValueError:
        raise click.ClickException(f"{file} is not JSON.") from None


if __name__ == "__main__":
    main()
