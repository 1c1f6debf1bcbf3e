"""The town as one web application and one mail server, on 127.0.0.1."""

from __future__ import annotations

import base64
import copy
import tempfile
import threading
import time
from collections.abc import Callable
from email.utils import formatdate
from functools import cache, partial
from pathlib import Path
from typing import Any

from flask import Flask, Response, current_app, render_template
from waitress.channel import HTTPChannel
from waitress.server import create_server
from waitress.task import WSGITask
from werkzeug.middleware.dispatcher import DispatcherMiddleware

from . import (
    blog,
    companies,
    control,
    filestore,
    granting,
    hub,
    imap,
    mailbox,
    model_api,
    network,
    office,
    pictures,
    recordings,
    reports,
    services,
    sites,
    team,
    timed,
)
from .faults import LINE, common
from .state import State
from .world import SITES

THREADS = 96


def create_app(state: State, smtp_port: int = 0, letters: imap.MailServer | None = None) -> Flask:
    """The town's pages and services around `state`."""
    app = copy.copy(_pages())
    app.extensions = {"town": state, "letters": letters, "smtp": smtp_port}
    return app


@cache
def _pages() -> Flask:
    """The pages and services without a town around them: their addresses are worked out once in a process."""
    app = Flask(__name__)
    app.add_template_filter(formatdate, "rfc")
    for part in (
        sites,
        hub,
        companies,
        recordings,
        reports,
        services,
        network,
        pictures,
        model_api,
        mailbox,
        office,
        team,
        blog,
        granting,
        control,
    ):
        app.register_blueprint(part.bp)

    @app.get("/")
    def map_() -> str:
        letters, smtp = current_app.extensions["letters"], current_app.extensions["smtp"]
        return render_template("map.html", sites=SITES.values(), kinds=sites.KINDS, smtp=smtp, imap=letters and letters.port)

    return app


OFFICE = f"Basic {base64.b64encode(f'{filestore.USER}:{filestore.PASSWORD}'.encode()).decode()}"
"""As whom somebody comes to the file store who has a token."""


class _Later:
    """The file store: made when it is first asked, with the faults that are switched on."""

    def __init__(self, make: Callable[[], Callable[..., Any]], state: State) -> None:
        self._make, self._state = make, state
        self._lock = threading.Lock()
        self._app: Callable[..., Any] | None = None

    def __call__(self, environ: dict[str, Any], respond: Any) -> Any:
        saving = environ["REQUEST_METHOD"] == "PUT"
        mode = "" if not saving and self._state.mode("files") in ("locked", "full", "lost") else self._state.fault("files")
        told = {
            "garbage": ("<p>Our files have moved.</p>", 200),
            "locked": ("Somebody has it open.", 423),
            "full": ("No room.", 507),
        }
        answer = common(mode) or (Response(*told[mode], mimetype="text/html") if mode in told else None)
        if answer is not None:
            return answer(environ, respond)
        held = self._state.granted["access"].get(environ.get("HTTP_AUTHORIZATION", "").removeprefix("Bearer "))
        if held is not None and float(held) > time.time():
            environ["HTTP_AUTHORIZATION"] = OFFICE
        with self._lock:
            self._app = self._app or self._make()
        if saving and self._state.takes_time:
            time.sleep(self._state.takes_time / 2)
            body = list(self._app(environ, respond))
            time.sleep(self._state.takes_time / 2)
            return body
        if mode != "lost":
            return self._app(environ, respond)
        list(self._app(environ, lambda status, headers, trouble=None: None))
        environ[LINE].shutdown(2)
        respond("200 OK", [])
        return []


class _Task(WSGITask):
    """Hands the line to the pages, so that one can be cut."""

    def get_environment(self) -> dict[str, Any]:
        environ: dict[str, Any] = super().get_environment()
        return {**environ, LINE: self.channel.socket}


class _Channel(HTTPChannel):
    task_class = _Task


class Town:
    """A running town. `port` 0 takes any free port; `url` says which it became. With an `imap_port` the office has a mailbox."""

    def __init__(self, folder: Path | None = None, port: int = 0, smtp_port: int = 0, imap_port: int = 0) -> None:
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
        self._stopped = False
        self.state = State(folder / "town.json" if folder else None)
        self.state.on_release.append(partial(hub.tell, self.state))
        self.smtp_port = smtp_port or _free_port()
        self._mail = mailbox.serve(self.state, self.smtp_port)
        self.letters = imap.MailServer(self.state, imap_port).start() if imap_port else None
        self._scratch = None if folder else tempfile.TemporaryDirectory(prefix="practice-town-")
        self.files = files = folder / "files" if folder else Path(self._scratch.name) if self._scratch else Path()
        app = DispatcherMiddleware(
            create_app(self.state, self.smtp_port, self.letters),
            {"/files": _Later(lambda: filestore.application(files), self.state), "/timed": timed.application},
        )
        self._server: Any = create_server(
            app, host="127.0.0.1", port=port, threads=THREADS, connection_limit=1000, send_bytes=1, ident="practice town"
        )
        self._server.channel_class = _Channel
        self.port = self._server.effective_port
        self.url = f"http://127.0.0.1:{self.port}"
        self._thread = threading.Thread(target=self._serve, daemon=True, name="practice-town")

    def start(self) -> Town:
        """Serve in the background."""
        self._thread.start()
        return self

    def _serve(self) -> None:
        try:
            self._server.run()
        except OSError:
            # The listening line was closed under it, which is how it is stopped.
            if not self._stopped:
                raise

    def stop(self) -> None:
        """Stop serving."""
        self._stopped = True
        # Its threads end too: a process may have many towns, one after another.
        self._server.task_dispatcher.shutdown(timeout=1)
        if self._server.task_dispatcher.threads:
            # Who is late wakes the server through a pipe. It stays open: what would have its number next is written to then.
            self._server.trigger._fds = []
        self._server.close()
        self._mail.stop()
        if self.letters is not None:
            self.letters.stop()
        if self._scratch is not None:
            self._scratch.cleanup()


def _free_port() -> int:
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
