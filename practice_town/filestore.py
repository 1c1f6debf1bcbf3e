"""The town's file store: a real WebDAV server (WsgiDAV) under ``/files``, with a user and a password."""

from __future__ import annotations

import logging
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .reports import seed_files

USER, PASSWORD = "office", "files-key"


def application(folder: Path) -> Callable[..., Any]:
    """The store over `folder`, filled when it is empty."""
    from wsgidav.wsgidav_app import WsgiDAVApp

    folder.mkdir(parents=True, exist_ok=True)
    if not any(folder.iterdir()):
        for name, content in seed_files().items():
            path = folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
    logging.getLogger("wsgidav").setLevel(logging.ERROR)
    config = {
        "provider_mapping": {"/": str(folder)},
        "mount_path": "/files",
        "simple_dc": {"user_mapping": {"*": {USER: {"password": PASSWORD}}}},
        "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
        "verbose": 0,
        "logging": {"enable": False},
        "lock_storage": True,
        "property_manager": False,
        "dir_browser": {"enable": True},
    }
    app: Callable[..., Any] = WsgiDAVApp(config)
    return app
