"""What all commands share: the command they belong to, options, and reading what they are given."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

import click

from .. import __version__
from ..protocols.errors import OutsideError

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


def outside(allow: tuple[str, ...], call: Any) -> Any:
    """What `call` gives with a web client; what fails outside ends the command with its words."""
    from ..protocols.net import Web

    web = Web(allow)
    try:
        return call(web)
    except OutsideError as error:
        raise click.ClickException(error.message) from None
    finally:
        web.close()


def is_url(source: str) -> bool:
    """Whether a source is an address."""
    return source.startswith(("http://", "https://"))


def said(file: Path) -> str:
    """The text in a file, or on standard input."""
    from ..protocols.text import decode

    return sys.stdin.read() if str(file) == "-" else decode(bytes_of(file))


def bytes_of(file: Path) -> bytes:
    """A file whole."""
    try:
        return file.read_bytes()
    except OSError as error:
        raise click.ClickException(f"{file} cannot be read ({error.strerror}).") from None


def json_file(file: Path) -> Any:
    """The JSON in a file."""
    try:
        return json.loads(bytes_of(file))
    except ValueError:
        raise click.ClickException(f"{file} is not JSON.") from None
