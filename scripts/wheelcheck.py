"""``make wheelcheck``: the wheel in an empty environment, away from the tree: where an earlier version was at work it goes on by
``pip install -U``, an account is added, the app is served, the demonstration runs."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import tempfile
import time
import urllib.request
import venv
import zipfile
from collections.abc import Iterator
from pathlib import Path

from tests.browser.place import free_port

PATIENCE = 120.0
KEPT = Path(__file__).resolve().parent.parent / "tests" / "kept"
WROTE = {"0.1.0": "0019"}
"""Which of the folders there each version wrote whose wheel is kept."""


def main() -> None:
    """Install, try, tell."""
    wheel = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        venv.create(folder / "env", with_pip=True)
        bin_ = folder / "env" / "bin"
        before = sorted(KEPT.glob("*.whl"))
        for one in before:
            install(bin_, folder, str(one))
            at_work(bin_, folder, f"by-{one.name.split('-')[1]}")
        install(bin_, folder, str(wheel))
        for one in before:
            goes_on(bin_, folder, f"by-{one.name.split('-')[1]}")
        served(bin_, folder)
        upgraded(bin_, folder)
        install(bin_, folder, f"{wheel}[demo]")
        demonstrated(bin_, folder)
    print(f"{wheel.name} works by itself, and with its demonstration.")


def install(bin_: Path, folder: Path, what: str) -> None:
    """Bring an environment up to date."""
    subprocess.run([bin_ / "pip", "install", "-U", "--quiet", "--disable-pip-version-check", what], check=True, cwd=folder)


def at_work(bin_: Path, folder: Path, data: str) -> None:
    """A house of an earlier version, with a run that has ended and one that is open."""
    with zipfile.ZipFile(KEPT / f"{WROTE[data.removeprefix('by-')]}.zip") as file:
        file.extractall(folder / data)
    port = free_port()
    with running([str(bin_ / "ulmus"), "serve", "--data", data, "--moved", "--port", str(port)], folder):
        assert b'"signed_in"' in answer(f"http://127.0.0.1:{port}/api/session")


def goes_on(bin_: Path, folder: Path, data: str) -> None:
    """The same house after ``pip install -U``: served, its runs read, and a copy of its database kept from before."""
    port = free_port()
    with running([str(bin_ / "ulmus"), "serve", "--data", data, "--port", str(port)], folder):
        assert b'"signed_in"' in answer(f"http://127.0.0.1:{port}/api/session")
    read(bin_, folder, data)
    assert list((folder / data).glob("before-upgrade-*.db")), "no copy was kept from before"


def read(bin_: Path, folder: Path, data: str) -> None:
    """The run that has ended is read whole."""
    run = json.loads((folder / data / "made.json").read_text("utf-8"))["done"]
    command = [bin_ / "ulmus", "runs", "show", str(run), "--data", data]
    told = subprocess.run(command, check=True, cwd=folder, env=alone(), capture_output=True, text=True)
    assert "Approved by" in told.stdout, told.stdout + told.stderr


def served(bin_: Path, folder: Path) -> None:
    """The first account, and the app."""
    account = ["user", "add", "o@a.example", "--name", "O", "--password", "seven boats at noon", "--data", "house"]
    subprocess.run([bin_ / "ulmus", *account], check=True, cwd=folder, env=alone())
    port = free_port()
    with running([str(bin_ / "ulmus"), "serve", "--data", "house", "--port", str(port)], folder):
        assert b"<title>Ulmus" in answer(f"http://127.0.0.1:{port}/"), "the app is not in the wheel"
        assert b'"openapi"' in answer(f"http://127.0.0.1:{port}/api/openapi.json")


def upgraded(bin_: Path, folder: Path) -> None:
    """Data folders that earlier versions wrote are opened, their runs read, and the app served on the oldest."""
    kept = sorted(KEPT.glob("*.zip"))
    for number, path in enumerate(kept):
        data = folder / path.stem
        with zipfile.ZipFile(path) as file:
            file.extractall(data)
        if number == 0:
            port = free_port()
            with running([str(bin_ / "ulmus"), "serve", "--data", data.name, "--port", str(port)], folder):
                assert b'"signed_in"' in answer(f"http://127.0.0.1:{port}/api/session")
        read(bin_, folder, data.name)
    assert kept, "no data folder of an earlier version is kept"


def demonstrated(bin_: Path, folder: Path) -> None:
    """The demonstration with its town."""
    ports = [str(free_port()) for _ in range(4)]
    names = ("--port", "--town-port", "--smtp-port", "--imap-port")
    arguments = [word for pair in zip(names, ports, strict=True) for word in pair]
    with running([str(bin_ / "ulmus"), "demo", "--data", "demo", *arguments], folder):
        assert b"mara@hedgelane.example" in answer(f"http://127.0.0.1:{ports[0]}/api/session")
        assert answer(f"http://127.0.0.1:{ports[1]}/")


@contextlib.contextmanager
def running(command: list[str], folder: Path) -> Iterator[None]:
    with (folder / "said").open("w+") as said:
        process = subprocess.Popen(command, cwd=folder, env=alone(), stdout=said, stderr=said)
        try:
            yield
        finally:
            process.terminate()
            process.wait(30)
        said.seek(0)
        told = said.read()
    assert "Traceback" not in told, told


def answer(url: str) -> bytes:
    """What is answered, once there is somebody who does."""
    late = time.monotonic() + PATIENCE
    while True:
        try:
            with urllib.request.urlopen(url, timeout=10) as got:
                return bytes(got.read())
        except OSError:
            if time.monotonic() > late:
                raise
            time.sleep(0.2)


def alone() -> dict[str, str]:
    """The environment without anything that leads back to the tree."""
    return {name: value for name, value in os.environ.items() if not name.startswith(("PYTHON", "VIRTUAL_ENV", "ULMUS"))}


if __name__ == "__main__":
    main()
