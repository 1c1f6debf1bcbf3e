"""``make wheelcheck``: the wheel in an empty environment, away from the tree: an account is added, the app is served, the demonstration runs."""

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


def main() -> None:
    """Install, try, tell."""
    wheel = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        venv.create(folder / "env", with_pip=True)
        bin_ = folder / "env" / "bin"
        for what in (str(wheel), f"{wheel}[demo]"):
            subprocess.run([bin_ / "pip", "install", "--quiet", "--disable-pip-version-check", what], check=True, cwd=folder)
            if what.endswith("[demo]"):
                demonstrated(bin_, folder)
            else:
                served(bin_, folder)
                upgraded(bin_, folder)
    print(f"{wheel.name} works by itself, and with its demonstration.")


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
        run = json.loads((data / "made.json").read_text("utf-8"))["done"]
        command = [bin_ / "ulmus", "runs", "show", str(run), "--data", data.name]
        told = subprocess.run(command, check=True, cwd=folder, env=alone(), capture_output=True, text=True)
        assert "Approved by" in told.stdout, told.stdout + told.stderr
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
