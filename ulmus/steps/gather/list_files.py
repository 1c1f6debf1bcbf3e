"""Gather: the files in a folder of the file store."""

from __future__ import annotations

import dataclasses

from pydantic import BaseModel, Field

from ...protocols import filestore
from ..api import Context, Performs, Result, setting
from ..connections.files import folder
from ..shared.lists import Listed, list_faults, listed


class FilesSettings(Listed):
    store: str = setting("File store", control="connection", needs="files")
    path: str = setting("Folder", "Empty for the topmost.", control="slots", default="", max_length=1000)
    most: int = setting("At most", "Files.", control="number", default=100, ge=1, le=2000)


class StoredFile(BaseModel):
    name: str = Field("", description="Its name.")
    path: str = Field("", description="Where it stands in the store.")
    size: int = Field(0, description="Its size in bytes.")
    changed: str = Field("", description="When it was changed (ISO 8601).")
    type: str = Field("", description="Its type.")


class FilesOutput(BaseModel):
    items: list[StoredFile] = Field([], description="The files.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many the folder holds.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: FilesSettings, context: Context) -> Result:
    """List the folder."""
    entries = filestore.listing(context.web, folder(context.connect(settings.store, "files")), settings.path.strip())
    stored_files = [
        StoredFile(**{k: v for k, v in dataclasses.asdict(entry).items() if k != "folder"}) for entry in entries if not entry.folder
    ]
    return Result(listed(stored_files, settings, context, key="path", text="name", most=settings.most))


KIND = Performs(
    name="list_files",
    stage="gather",
    title="List files",
    about="The files in a folder of a file store, with their paths, sizes and dates.",
    sentence="List the files in {store}[ under {path}]",
    offer="List the files in {store}",
    words="folder directory documents webdav",
    called="files",
    settings=FilesSettings,
    output=FilesOutput,
    perform=perform,
    faults=list_faults(StoredFile),
    gives_outside=True,
    brief="{count} files",
)
