"""Connection: file store."""

from __future__ import annotations

import base64

from pydantic import Field

from ...protocols import filestore
from ...protocols.net import Web
from ..api import Connection, ConnectionKind, Granted


class FilesSettings(Granted):
    url: str = Field(title="WebDAV address", description="Of the folder everything stands in.", min_length=1, max_length=500)
    user: str = Field("", title="User", max_length=200)


def folder(connection: Connection) -> filestore.Folder:
    """The file client's view of a file store connection."""
    s, password = connection.settings, connection.secrets.get("password", "")
    if s.oauth != "no":
        return filestore.Folder(s.url, {"Authorization": f"Bearer {password}"})
    told = base64.b64encode(f"{s.user}:{password}".encode()).decode()
    return filestore.Folder(s.url, {"Authorization": f"Basic {told}"} if s.user or password else {})


def probe(web: Web, connection: Connection) -> str:
    return filestore.probe(web, folder(connection))


KIND = ConnectionKind(
    name="files",
    title="File store",
    about="Folders and files that can be reached by WebDAV.",
    settings=FilesSettings,
    secrets={"password": "Password"},
    leads=("url",),
    probe=probe,
    bearer="password",
    summary=lambda s: s.url,
)
