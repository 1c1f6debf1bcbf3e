"""The commands that keep a house's data: back up, restore, look through, make a new key."""

from __future__ import annotations

import datetime as dt
import json
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import click

from .common import DATA, JSON, main

T = TypeVar("T")


@main.command()
@click.argument("to", type=click.Path(path_type=Path))
@DATA
def backup(to: Path, data: Path) -> None:
    """Make a backup in the new folder TO: database, key and files. The house may be at work meanwhile.

    Keep it as safe as the house itself: it holds the key to the secrets of all connections.
    """
    from ..store import copies

    made = _plainly(lambda: copies.back_up(data, to))
    click.echo(f"{to} is a backup of {data}: {made.files} files, {made.size / 1e6:.1f} MB.")


@main.command()
@click.argument("backup", metavar="FROM", type=click.Path(path_type=Path, exists=True, file_okay=False))
@DATA
def restore(backup: Path, data: Path) -> None:
    """Put the backup FROM in place as the data of a house.

    The house is held until a person lets it go: it shows on Today what it would send, run and hand out again.
    """
    from ..store import copies

    about = _plainly(lambda: copies.restore(backup, data))
    click.echo(f"{data} holds what was there at {_moment(about.made_at)}.")
    click.echo("Start it with `ulmus serve`. It is held: sign in as an owner, read on Today what it would do, and start it there.")
    click.echo("Do not start it there while the house it was copied from is at work.")


@main.command()
@click.argument("folder", type=click.Path(path_type=Path), required=False)
@DATA
def verify(folder: Path | None, data: Path) -> None:
    """Look through a backup in FOLDER, or the house's own data, whole: database, key and files."""
    from ..store import copies

    place = folder or data
    began = time.monotonic()
    about = _plainly(lambda: copies.verify(place))
    words = f"a whole backup, made at {_moment(about.made_at)}" if about else "in order"
    click.echo(f"{place} is {words} (looked through in {time.monotonic() - began:.1f} s).")


@main.command("new-key")
@DATA
@click.confirmation_option(
    prompt="The secrets of all connections have to be typed again, and the addresses of calls, forms and letters change. Go on?"
)
def new_key(data: Path) -> None:
    """Make a new key for data that has lost its secret.key."""
    from ..store import Sealer, Store

    def make() -> None:
        store = Store(data)
        Sealer.anew(store)
        store.close()

    _plainly(make)
    click.echo(
        "There is a new key. Under Connections, type the secrets again; under each workflow, copy the addresses again. "
        "Second steps at sign-in are taken away."
    )


def _plainly(call: Callable[[], T]) -> T:
    """What `call` gives; what is wrong with the data ends the command with its words."""
    from ..store import DataTrouble

    try:
        return call()
    except DataTrouble as error:
        raise click.ClickException(str(error)) from None


def _moment(at: float) -> str:
    return f"{dt.datetime.fromtimestamp(at):%d %B %Y, %H:%M}"


@main.command("metrics-key")
@DATA
def metrics_key(data: Path) -> None:
    """Make a key with which /metrics is read; one made before is void. It is shown once."""
    from ..api.public.watching import make_key
    from ..store import Store

    def made() -> str:
        store = Store(data)
        try:
            return make_key(store)
        finally:
            store.close()

    click.echo(_plainly(made))


@main.command("fault-report")
@click.argument("to", type=click.Path(path_type=Path, dir_okay=False))
@DATA
def fault_report(to: Path, data: Path) -> None:
    """Gather in the ZIP file TO what whoever looks into a fault needs: versions, counts, what fails and why, the end of the log.

    It holds no secrets and no mail addresses, and no drafts, rows or mails are put in. The house may be at work meanwhile. Look it
    through before you give it away: what a failure cites, and titles in the log, may hold some of their words.
    """
    from ..runtime import faultreport
    from ..store import Sealer, Store

    def made() -> list[str]:
        store = Store(data)
        try:
            return faultreport.gather(store, Sealer.of(store), to)
        finally:
            store.close()

    try:
        names = _plainly(made)
    except FileExistsError:
        raise click.ClickException(f"{to} is there already. Say another name.") from None
    click.echo(f"{to}: {', '.join(names)}.")


@main.group()
def runs() -> None:
    """Runs, read without a server."""


@runs.command("show")
@click.argument("number", type=int)
@JSON
@DATA
def show(number: int, as_json: bool, data: Path) -> None:
    """The journal of run NUMBER, from the first entry to the last, packed or not."""
    from ..core import flow
    from ..readmodels.journals import Journals, entry
    from ..store import Store, tables

    def told() -> tuple[str, list[flow.Event]]:
        store = Store(data)
        try:
            with store.read() as session:
                run = session.get(tables.Run, number)
                if run is None:
                    raise click.ClickException(f"There is no run {number}.")
                about = f"Run {number}, “{run.title}”: {run.state}"
            return about, Journals(store).of(number)
        finally:
            store.close()

    about, events = _plainly(told)
    if as_json:
        click.echo(json.dumps([event.model_dump(mode="json") for event in events], ensure_ascii=False, indent=1))
        return
    click.echo(about)
    for place, event in enumerate(events):
        line = entry(event, place)
        click.echo(f"{_moment(line.at)}  {line.event:10} {line.address:24} {line.says}".rstrip())
