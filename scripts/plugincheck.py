"""``make plugincheck``: the example plug-in beside the wheel in an empty environment: it is on the menu with its form and sentence, its
connection is tested, it makes a proof and a run; one that cannot be loaded, or takes a name that is taken, is told of and stops nothing."""

from __future__ import annotations

import http.server
import json
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
import venv
from http.cookiejar import CookieJar
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from scripts.wheelcheck import alone, answer, running
from tests.browser.place import free_port

EXAMPLE = Path(__file__).parents[1] / "examples" / "ulmus-termbase"
TERMS = [{"say": "co-operative", "not": ["coop"], "why": "Our own name for ourselves."}]
BROKEN = """[build-system]
requires = ["hatchling"]
build-backend = "hatchling.build"
[project]
name = "ulmus-broken"
version = "0"
[project.entry-points."ulmus.steps"]
broken = "ulmus_broken:NOTHING"
taken = "ulmus_termbase.check_terms:KIND"
[tool.hatch.build.targets.wheel]
packages = ["ulmus_broken"]
"""
ACCOUNT = ("o@a.example", "seven boats at noon")


def main() -> None:
    """Install, try, tell."""
    wheel = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        broken = folder / "broken"
        (broken / "ulmus_broken").mkdir(parents=True)
        (broken / "pyproject.toml").write_text(BROKEN, "utf-8")
        (broken / "ulmus_broken" / "__init__.py").write_text("raise RuntimeError('not today')\n", "utf-8")
        venv.create(folder / "env", with_pip=True)
        bin_ = folder / "env" / "bin"
        pip = [bin_ / "pip", "install", "--quiet", "--disable-pip-version-check"]
        subprocess.run([*pip, str(wheel), "hatchling"], check=True, cwd=folder)
        for package in (EXAMPLE, broken):
            subprocess.run([*pip, "--no-build-isolation", "--no-deps", str(package)], check=True, cwd=folder)
        tried(bin_, folder)
    print("The example plug-in works beside the wheel, and a broken one stops nothing.")


def tried(bin_: Path, folder: Path) -> None:
    """A proof and a run with it."""
    mail, password = ACCOUNT
    account = ["user", "add", mail, "--name", "O", "--password", password, "--data", "house"]
    subprocess.run([bin_ / "ulmus", *account], check=True, cwd=folder, env=alone())
    port = free_port()
    serve = [str(bin_ / "ulmus"), "serve", "--data", "house", "--port", str(port), "--allow"]
    with Terms() as address, running([*serve, urlsplit(address).netloc], folder):
        answer(f"http://127.0.0.1:{port}/")
        house = Visitor(f"http://127.0.0.1:{port}/api")
        house.ask("POST", "/session", {"email": mail, "password": password})
        kinds = {kind["name"]: kind for kind in house.ask("GET", "/catalogue")["kinds"]}
        assert kinds["check_terms"]["form"]["properties"]["termbase"]["control"] == "connection", "its form"
        assert len(kinds) > 30, "and all of the house's own"
        left_out = [one["name"] for one in house.ask("GET", "/house")["left_out"]]
        assert sorted(left_out) == ["broken", "taken"], left_out
        connection = {"kind": "termbase", "name": "Our words", "settings": {"address": address}}
        key = house.ask("POST", "/connections", connection)["key"]
        assert "Knows 1 term." in house.ask("POST", f"/connections/{key}/test")["says"]
        proved(house, key)


def proved(house: Visitor, connection: str) -> None:
    """The page of two lines, its sentence, a proof, a run."""
    steps = [{"id": "terms", "kind": "check_terms", "settings": {"termbase": connection, "text": "<<start.title>>"}}]
    start = {"id": "start", "kind": "by_hand", "settings": {}}
    document = {"format": "ulmus-workflow", "version": 1, "name": "Terms", "start": start, "steps": steps}
    id_ = house.ask("POST", "/workflows", {"document": document})["id"]
    house.ask("POST", f"/workflows/{id_}/samples", {"item": {"title": "The coop sells seed."}})
    bench = house.ask("GET", f"/workflows/{id_}/bench")
    sentence = "".join(part["text"] for part in bench["lines"][1]["sentence"])
    assert sentence == "Check start.title against Our words", sentence
    house.ask("POST", f"/workflows/{id_}/proofs", {})
    cell = until(lambda: next((c for c in house.ask("GET", f"/workflows/{id_}/bench")["cells"] if c["state"] == "fresh"), None))
    assert cell["brief"].startswith("1 word"), cell
    house.ask("POST", f"/workflows/{id_}/live", {})
    run = house.ask("POST", f"/workflows/{id_}/start", {"values": {}, "sample": bench["samples"][0]["id"]})["run"]
    seen = until(lambda: (r := house.ask("GET", f"/runs/{run}")["run"]) and r["state"] in ("done", "failed") and r)
    assert seen["state"] == "done", seen
    text = json.dumps(house.ask("GET", f"/runs/{run}/steps/terms"), ensure_ascii=False)
    assert "Say “co-operative” instead of “coop”." in text, text


class Visitor:
    """Somebody with a browser, over a real socket."""

    def __init__(self, base: str) -> None:
        self.base, self.csrf = base, ""
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))

    def ask(self, method: str, path: str, body: Any = None) -> Any:
        """The answer's JSON."""
        headers = {"Content-Type": "application/json", "X-CSRF-Token": self.csrf}
        data = json.dumps(body or {}).encode() if method != "GET" else None
        asked = urllib.request.Request(self.base + path, data, headers, method=method)
        try:
            with self.opener.open(asked, timeout=30) as got:
                told = json.loads(got.read() or b"null")
        except urllib.error.HTTPError as refused:
            raise AssertionError(f"{method} {path}: {refused.code} {refused.read()[:500]!r}") from None
        if isinstance(told, dict) and "csrf" in told:
            self.csrf = told["csrf"]
        return told


class Terms:
    """A term base on this machine."""

    def __enter__(self) -> str:
        class Answers(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                body = json.dumps(TERMS).encode()
                self.send_response(200)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, format: str, *args: Any) -> None:
                """Nothing is said."""

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Answers)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{self.server.server_port}/terms.json"

    def __exit__(self, *_: object) -> None:
        self.server.shutdown()
        self.server.server_close()


def until(look: Any, patience: float = 30.0) -> Any:
    """What is looked for, once it is there."""
    late = time.monotonic() + patience
    while not (found := look()):
        assert time.monotonic() < late, "it did not come"
        time.sleep(0.1)
    return found


if __name__ == "__main__":
    main()
