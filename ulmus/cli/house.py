"""The commands that set up and serve a house."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import click

from .common import ALLOW, DATA, main

ENDING = 8.0
"""Seconds within which a town ends whose demonstration was killed."""


TAKE_BACK = click.option(
    "--take-back",
    default=10.0,
    show_default=True,
    metavar="SECONDS",
    help="How long what was approved may be taken back before it goes.",
)


@main.command()
@DATA
@ALLOW
@TAKE_BACK
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8420, show_default=True)
@click.option("--public-url", default="", help="How others reach this server; stands in links in mails.")
@click.option("--trusted-proxy", default="", metavar="ADDRESS", help="A proxy before this server, whose word on callers counts.")
@click.option("--log", type=click.Choice(["words", "json"]), default="words", show_default=True, help="How the log is written.")
@click.option(
    "--pack-after",
    default=90.0,
    show_default=True,
    metavar="DAYS",
    help="When the journal of a run that ended is packed into a file, at night; 0 for never.",
)
@click.option(
    "--executor",
    type=click.Choice(["threads", "celery"]),
    default="threads",
    show_default=True,
    help="Who carries out what gathers and drafts: this process, or workers on other machines.",
)
@click.option("--broker", default="", metavar="URL", help="The broker between the house and its workers, such as redis://….")
@click.option("--moved", is_flag=True, help="This folder was moved here, and nobody works with the old one: it is not held.")
def serve(
    data: Path,
    allow: tuple[str, ...],
    take_back: float,
    host: str,
    port: int,
    public_url: str,
    trusted_proxy: str,
    log: str,
    pack_after: float,
    executor: str,
    broker: str,
    moved: bool,
) -> None:
    """Serve the app and carry out live workflows.

    Where there is no account yet, it says at which address the first one is made; or add it with `ulmus user add`.
    """
    from ..server import Config

    if (executor == "celery") != bool(broker):
        raise click.ClickException("Workers need both “--executor celery” and “--broker URL”.")
    if broker:
        _reached(broker)
    config = Config(
        data,
        host,
        port,
        public_url,
        frozenset(allow),
        trusted_proxy=trusted_proxy,
        moved=moved,
        log=log,
        pack_after=pack_after,
        broker=broker,
        take_back=take_back,
    )
    _serve(config, open_words="Ulmus is open at")


def _reached(broker: str) -> None:
    """Look whether the broker is there, and end in words where it is not."""
    try:
        from ..runtime.elsewhere import BrokerAway
        from ..workers.broker import checked
    except ImportError:
        raise click.ClickException("Workers need more packages: pip install “ulmus[workers]”.") from None
    try:
        checked(broker)
    except BrokerAway as error:
        raise click.ClickException(f"The broker cannot be reached: {error}") from None


@main.command()
@click.option("--broker", required=True, metavar="URL", help="The broker the house publishes on, such as redis://….")
@click.option("--house", required=True, metavar="URL", help="Where the house is reached; over HTTPS, unless it is on this machine.")
@click.option("--key", envvar="ULMUS_WORKER_KEY", required=True, help="The worker's key (or ULMUS_WORKER_KEY), made by worker-key.")
@click.option("--concurrency", default=16, show_default=True, type=click.IntRange(1, 500), help="Steps at once.")
@click.option("--connections", type=click.File("r", "utf-8"), help="Connections the worker holds itself (JSON); see docs/scale.md.")
@ALLOW
def worker(broker: str, house: str, key: str, concurrency: int, connections: Any, allow: tuple[str, ...]) -> None:
    """Carry out what gathers and drafts for a house on another machine.

    It needs the same version as the house, and the same plug-ins. Secrets never pass the broker: the worker asks the
    house for the connections of a task, over its own link.
    """
    from urllib.parse import urlsplit

    from ..protocols.errors import OutsideError
    from ..server import set_up_logging

    at = urlsplit(house)
    if at.scheme != "https" and at.hostname not in ("127.0.0.1", "localhost", "::1"):
        raise click.ClickException("The link to the house carries secrets: give its HTTPS address.")
    _reached(broker)
    from ..workers.worker import Told, own_connections, run

    try:
        own = own_connections(connections.read()) if connections is not None else {}
    except ValueError as error:
        raise click.ClickException(str(error)) from None
    set_up_logging()
    click.echo(f"Working for {house}, {concurrency} steps at once.")
    try:
        run(broker, house, key, concurrency, frozenset(allow), own)
    except (Told, OutsideError) as error:
        raise click.ClickException(str(error)) from None


@main.command("worker-key")
@click.argument("name", default="")
@click.option("--remove", is_flag=True, help="Take the key away instead: its worker is refused from now on.")
@DATA
def worker_key(name: str, remove: bool, data: Path) -> None:
    """Make a key for the worker NAME; it is shown once, and one made before under this name is void.

    Without NAME the names of those there are.
    """
    from ..api.security import workerkeys
    from ..store import DataTrouble, Store

    try:
        store = Store(data)
    except DataTrouble as error:
        raise click.ClickException(str(error)) from None
    try:
        if remove:
            if not workerkeys.take_away(store, name):
                raise click.ClickException(f"There is no key called “{name}”.")
        elif name:
            click.echo(workerkeys.make_key(store, name))
        else:
            click.echo("\n".join(workerkeys.names(store)) or "There are none.")
    finally:
        store.close()


@main.command()
@click.option("--data", type=click.Path(path_type=Path), default=Path(".demo"), show_default=True)
@click.option("--port", default=8420, show_default=True)
@click.option("--town-port", default=8421, show_default=True)
@click.option("--smtp-port", default=8425, show_default=True)
@click.option("--imap-port", default=8426, show_default=True)
@click.option("--reset", is_flag=True, help="Begin again with fresh demo data.")
@ALLOW
@TAKE_BACK
def demo(
    data: Path, port: int, town_port: int, smtp_port: int, imap_port: int, reset: bool, allow: tuple[str, ...], take_back: float
) -> None:
    """Start Ulmus with demo data, and the practice town around it.

    The data is kept in the folder, so that stopping (even with kill -9) and starting again loses nothing.
    """
    import shutil
    from concurrent.futures import ThreadPoolExecutor

    from ..runtime.town import is_free, start_town

    for wanted, option in ((port, "--port"), (town_port, "--town-port"), (smtp_port, "--smtp-port"), (imap_port, "--imap-port")):
        late = time.monotonic() + ENDING
        while not is_free(wanted) and time.monotonic() < late:
            time.sleep(0.2)  # the town of a demonstration that was killed may be about to end
        if not is_free(wanted):
            raise click.ClickException(f"Port {wanted} is taken. Choose another with {option}, or end what uses it.")
    if reset and data.exists():
        shutil.rmtree(data)
    with ThreadPoolExecutor(1) as beside:
        starting = beside.submit(start_town, data / "town", town_port, smtp_port, imap_port)
        from .. import demo as demonstration
        from ..runtime.services import Services
        from ..server import Config
    try:
        town = starting.result()
    except OSError as error:
        raise click.ClickException(f"{error} Choose others with --town-port, --smtp-port and --imap-port.") from None
    try:
        url = f"http://127.0.0.1:{town_port}"
        allowed = frozenset((*(f"127.0.0.1:{p}" for p in (town_port, smtp_port, imap_port)), *allow))
        services = Services.open(data / "ulmus", allowed, public_url=f"http://127.0.0.1:{port}")
        if not demonstration.is_made(services):
            demonstration.make(services, url, smtp_port, imap_port, lambda text: click.echo(f"  {text}"))
        accounts = tuple(demonstration.accounts())
        config = Config(data / "ulmus", "127.0.0.1", port, "", allowed, accounts, url, take_back=take_back)
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
@click.option("--imap-port", default=8426, show_default=True)
def town(data: Path | None, port: int, smtp_port: int, imap_port: int) -> None:
    """Run the practice town alone: news sites, a network, a model, mailboxes."""
    arguments = ["--port", str(port), "--smtp-port", str(smtp_port), "--imap-port", str(imap_port)]
    raise SystemExit(subprocess.call([sys.executable, "-m", "practice_town", *arguments, *(["--data", str(data)] if data else [])]))


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

    from ..api.security.passwords import hash_password, what_is_wrong
    from ..store import Store, tables

    if wrong := what_is_wrong(password, email, name):
        raise click.ClickException(wrong)
    try:
        with Store(data).write() as session:
            session.add(tables.User(email=email.strip().lower(), name=name, role=role, password=hash_password(password)))
    except IntegrityError:
        raise click.ClickException(f"{email} has an account already.") from None
    click.echo(f"{email} can sign in as {role}.")


@user.command("link")
@click.argument("email")
@click.option("--public-url", default="http://127.0.0.1:8420", show_default=True, help="How the house is reached.")
@click.option("--without-second-step", is_flag=True, help="Take their second step away too: their device is gone, and their codes.")
@DATA
def link_for(email: str, public_url: str, without_second_step: bool, data: Path) -> None:
    """Print a link by which somebody chooses a new password: for when nobody can sign in any more.

    It works once, and for a week. Until it is used, the password they have counts.
    """
    from sqlalchemy import func, select

    from ..runtime import inviting
    from ..runtime.services import audit
    from ..store import Sealer, Store, tables

    store = Store(data)
    try:
        key = Sealer.of(store).key
        with store.write() as session:
            found = session.scalar(select(tables.User).where(func.lower(tables.User.email) == email.strip().lower()))
            if found is None or found.ended_at is not None:
                raise click.ClickException(f"{email} has no account here.")
            if without_second_step:
                found.second = found.second_step = found.second_codes = None
            did = "printed a link for a password" + (", and took the second step away" if without_second_step else "")
            audit(session, time.time(), "whoever keeps the house", did[:60], found.email)
            click.echo(f"{public_url.rstrip('/')}/?invited={inviting.token_for(key, found)}")
    finally:
        store.close()


@main.command()
@click.option("--out", type=click.Path(path_type=Path), default=Path("docs"), show_default=True)
@click.option("--openapi", type=click.Path(path_type=Path), help="Also write the API's OpenAPI document here.")
def docs(out: Path, openapi: Path | None) -> None:
    """Write the generated references: workflow file schema, kinds of step, filters."""
    from ..reference import write

    write(out, openapi)


def _serve(config: Any, open_words: str, services: Any = None) -> None:
    from ..runtime.engine import EngineBusy
    from ..server import Server, set_up_logging
    from ..store import DataTrouble, words_for

    try:
        set_up_logging(config.folder, config.log)
        server = Server(config, services)
    except (EngineBusy, DataTrouble) as error:
        raise click.ClickException(str(error)) from None
    except OSError as error:
        words = words_for(error, config.folder)
        if words is not None:
            raise click.ClickException(words) from None
        raise click.ClickException(f"Port {config.port} cannot be used ({error.strerror}). Choose another with --port.") from None
    click.echo(f"{open_words} {server.url}\n")
    if server.house.first_key:
        click.echo(f"  Nobody has an account here yet. Set it up at {server.url}/?first={server.house.first_key}\n")
    if server.engine.hold is not None:
        click.echo("  This is a copy, or it was moved: it is held. Sign in as an owner; Today says what it would do.\n")
    server.serve()
