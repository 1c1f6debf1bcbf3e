"""Publish: a text or a kept file saved into a folder of a file store."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...core.pieces import FilePiece
from ...protocols import filestore
from ...protocols.errors import NothingToDo
from ...protocols.net import Web
from ..api import Connection, Context, Outgoing, Sends, Settings, Sighting, Sought, setting
from ..connections.files import folder as store_of

ENDINGS = {".html": "text/html", ".htm": "text/html", ".md": "text/markdown", ".csv": "text/csv", ".json": "application/json"}


class SaveSettings(Settings):
    store: str = setting("File store", control="connection", needs="files")
    folder: str = setting(
        "Folder", "Made where it is not there yet, such as Kits/<<form.name>>.", control="slots", default="", max_length=1000
    )
    name: str = setting(
        "Name",
        "With its ending, such as report <<run.date>>.html. Empty: the file’s own name.",
        control="slots",
        default="",
        max_length=200,
    )
    what: str = setting(
        "What",
        "The link of a picture or file kept here, or a text.",
        control="slots",
        takes="link@draft|html@draft|text@draft",
        min_length=1,
        max_length=2_000_000,
    )


class SaveOutput(BaseModel):
    path: str = Field("", description="Where it stands in the file store.")
    link: str = Field("", description="Its address.")
    name: str = Field("", description="Its name.")
    size: int = Field(0, description="Its size in bytes.")


def piece(settings: SaveSettings, context: Context) -> Outgoing:
    """The file as it will be saved. Raises `OutsideError` where there is nothing to save, or no name."""
    where, name, what = settings.folder.strip(" /"), settings.name.strip(" /"), settings.what.strip()
    if not what:
        raise NothingToDo("There is nothing to save: neither a file nor a text.")
    kept = context.workspace.file(what) if "\n" not in what else None
    if kept is not None:
        name = name or kept[0]
        file = FilePiece(file=what, type=kept[1], size=len(kept[2]))
    else:
        kind = next((kind for end, kind in ENDINGS.items() if name.lower().endswith(end)), "text/plain")
        file = FilePiece(text=settings.what, type=kind, size=len(what.encode()))
    if not name:
        raise NothingToDo("The file has no name here.")
    path = f"{where}/{name.replace('/', '-')}".strip("/")
    filestore.address(store_of(context.connect(settings.store, "files")), path)
    return Outgoing(settings.store, file.model_copy(update={"path": path, "name": name}).model_dump(mode="json"))


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Save it. Saving the same again changes nothing."""
    body = content["opened"][content["file"]][2] if content.get("file") else content["text"].encode()
    link = filestore.save(web, store_of(connection), content["path"], body, content["type"])
    return {"path": content["path"], "link": link, "name": content["name"], "size": len(body)}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """After a break it is simply saved again: the same file at the same place."""
    return Sighting(again=True)


KIND = Sends(
    name="save_file",
    stage="publish",
    title="Save a file",
    about="Saves a picture, a file or a text into a folder of a file store, which is made where it is not there yet.",
    sentence="Save {what}[ as {name}] into {store}[, folder {folder}]",
    offer="Save a file into {store}",
    words="save store folder document upload webdav report kit",
    called="saved",
    settings=SaveSettings,
    output=SaveOutput,
    form="file",
    piece=piece,
    foretold=lambda content: {**content, "link": ""},
    send=send,
    find=find,
    brief="{path}",
)
