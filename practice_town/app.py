"""The town as one web application and one mail server, on 127.0.0.1."""

from __future__ import annotations

import logging
import threading
from pathlib import Path

from flask import Flask, render_template
from werkzeug.serving import BaseWSGIServer, WSGIRequestHandler, make_server

from . import control, mailbox, model_api, network, office, sites, timed
from .state import State
from .world import SITES


def create_app(state: State, smtp_port: int = 0) -> Flask:
    """The town's pages and services around `state`."""
    app = Flask(__name__)
    app.extensions["town"] = state
    for part in (sites, network, model_api, mailbox, office, timed, control):
        app.register_blueprint(part.bp)

    @app.get("/")
    def map_() -> str:
        return render_template("map.html", sites=SITES.values(), kinds=sites.KINDS, smtp=smtp_port)

    return app


class _Handler(WSGIRequestHandler):
    """Keeps connections open between requests, as the real outside does."""

    protocol_version = "HTTP/1.1"


class Town:
    """A running town. `port` 0 takes any free port; `url` says which it became."""

    def __init__(self, folder: Path | None = None, port: int = 0, smtp_port: int = 0) -> None:
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        self.state = State(folder / "town.json" if folder else None)
        self.smtp_port = smtp_port or _free_port()
        self._mail = mailbox.serve(self.state, self.smtp_port)
        app = create_app(self.state, self.smtp_port)
        self._server: BaseWSGIServer = make_server("127.0.0.1", port, app, threaded=True, request_handler=_Handler)
        self._server.daemon_threads = True  # type: ignore[attr-defined]
        self.port = self._server.server_port
        self.url = f"http://127.0.0.1:{self.port}"
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True, name="practice-town")

    def start(self) -> Town:
        """Serve in the background."""
        self._thread.start()
        return self

    def stop(self) -> None:
        """Stop serving."""
        self._server.shutdown()
        self._server.server_close()
        self._mail.stop()


def _free_port() -> int:
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
