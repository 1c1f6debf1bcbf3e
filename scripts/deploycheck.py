"""The files in ``deploy/``, read as their programs read them: what cannot be built or started on this machine is at least right in form.

The image stays a few lines over the wheel, runs as nobody in particular, and keeps its data in a volume; the compose file and the
systemd unit serve the same command, which the command line knows.
"""

from __future__ import annotations

import configparser
import shlex
import sys
from collections.abc import Iterator
from pathlib import Path

import click
import yaml
from dockerfile_parse import DockerfileParser

from ulmus.cli import main as ulmus

DEPLOY = Path(__file__).parents[1] / "deploy"
MOST_LINES = 16


def main() -> int:
    """Print what is wrong; the exit status is 1 where anything is."""
    found = [*dockerfile(), *compose(), *unit()]
    for line in found:
        print(line)
    print(f"{len(found)} faults in deploy/." if found else "deploy/ is in form.")
    return 1 if found else 0


def dockerfile() -> Iterator[str]:
    """What is wrong with the image's recipe."""
    parser = DockerfileParser(fileobj=(DEPLOY / "Dockerfile").open("rb"))
    steps = [(step["instruction"], step["value"]) for step in parser.structure]
    words = [instruction for instruction, _ in steps if instruction != "COMMENT"]
    if len(words) > MOST_LINES:
        yield "Dockerfile: more than a few lines over the wheel"
    if words[0] != "FROM" or ":" not in str(parser.baseimage) or str(parser.baseimage).endswith(":latest"):
        yield "Dockerfile: begins with no image of a stated version"
    users = [value for instruction, value in steps if instruction == "USER"]
    if not users or users[-1] in ("root", "0"):
        yield "Dockerfile: runs as root"
    if "VOLUME" not in words:
        yield "Dockerfile: keeps its data in no volume"
    copied = [value for instruction, value in steps if instruction in ("COPY", "ADD")]
    if any(not value.split()[0].startswith("dist/") for value in copied):
        yield "Dockerfile: takes in more than the wheel"
    if not any("--no-cache-dir" in value for instruction, value in steps if instruction == "RUN" and "pip install" in value):
        yield "Dockerfile: leaves what pip fetched in the image"
    yield from _command("Dockerfile", [str(word) for word in yaml.safe_load(str(parser.cmd))])


def compose() -> Iterator[str]:
    """What is wrong with the compose file."""
    told = yaml.safe_load((DEPLOY / "compose.yaml").read_text("utf-8"))
    for name, service in told["services"].items():
        if not (DEPLOY / service["build"]["context"] / service["build"]["dockerfile"]).exists():
            yield f"compose.yaml: {name} is built from a file that is not there"
        volumes = {one.split(":")[0] for one in service["volumes"]}
        if not volumes <= set(told["volumes"]):
            yield f"compose.yaml: {name} uses a volume that is not declared"
        if any(not str(port).startswith("127.0.0.1:") for port in service["ports"]):
            yield f"compose.yaml: {name} is open to the network without a proxy"
        yield from _command("compose.yaml", service["command"])


def unit() -> Iterator[str]:
    """What is wrong with the systemd unit."""
    parser = configparser.ConfigParser(strict=False, interpolation=None)
    parser.optionxform = str  # type: ignore[assignment, method-assign]
    parser.read_string((DEPLOY / "ulmus.service").read_text("utf-8"))
    service = parser["Service"]
    for key, value in (("NoNewPrivileges", "true"), ("ProtectSystem", "strict"), ("Restart", "on-failure")):
        if service.get(key) != value:
            yield f"ulmus.service: {key} should be {value}"
    if service.get("User", "root") == "root":
        yield "ulmus.service: runs as root"
    if "WantedBy" not in parser["Install"]:
        yield "ulmus.service: cannot be enabled"
    yield from _command("ulmus.service", shlex.split(service["ExecStart"]))


def _command(place: str, words: list[str]) -> Iterator[str]:
    """Whether the command line knows this command and its options."""
    if not words or Path(words[0]).name != "ulmus":
        yield f"{place}: starts something else than ulmus"
        return
    command = ulmus.get_command(click.Context(ulmus), words[1])
    known = {option for parameter in command.params for option in parameter.opts} if command is not None else set()
    for word in words[2:]:
        if word.startswith("--") and word not in known:
            yield f"{place}: “ulmus {words[1]}” knows no {word}"


if __name__ == "__main__":
    sys.exit(main())
