"""Publish: a text, a document made of it, or kept files, saved into a folder of a file store."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from itertools import count
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Attached, FilePiece
from ...protocols import filestore, letters, markup
from ...protocols.documents import typeset
from ...protocols.errors import NothingToDo, OutsideError
from ...protocols.net import Web
from ...protocols.workers import apart
from ..api import Connection, Context, Outgoing, Sends, Sighting, Sought, Timely, setting
from ..connections.files import folder as store_of
from ..shared.pieces import attached, places_of

ENDINGS = {"html": "text/html", "htm": "text/html", "md": "text/markdown", "csv": "text/csv", "json": "application/json"}
ELEMENTS = (*letters.ELEMENTS, "h4", "figure", "figcaption")


class SaveSettings(Timely):
    store: str = setting("File store", control="connection", needs="files")
    folder: str = setting(
        "Folder", "Made where it is not there yet, such as Kits/<<form.name>>.", control="slots", default="", max_length=1000
    )
    name: str = setting(
        "Name",
        "With its ending, such as report <<run.date>>.pdf. A text (Markdown or HTML) becomes a document where that is .docx, .odt or"
        " .pdf. Empty: the file’s own name. Several files stand in a folder of this name.",
        control="slots",
        default="",
        max_length=200,
    )
    what: str = setting(
        "What",
        "The link of a picture or file kept here, several parted by lines, or a text.",
        control="slots",
        takes="link@draft|html@draft|text@draft",
        min_length=1,
        max_length=2_000_000,
    )
    there: Literal["beside", "over"] = setting(
        "Where one of the name is there",
        control="choice",
        default="beside",
        labels={"beside": "take the next free name", "over": "take its place"},
        more=True,
    )


class SaveOutput(BaseModel):
    path: str = Field("", description="Where it stands in the file store.")
    link: str = Field("", description="Its address.")
    name: str = Field("", description="Its name.")
    size: int = Field(0, description="Its size in bytes.")


def piece(settings: SaveSettings, context: Context) -> Outgoing:
    """The file as it will be saved. Raises `OutsideError` where there is nothing to save, or no name."""
    where = "/".join(part for part in map(filestore.safe_name, settings.folder.split("/")) if part)
    name, what = filestore.safe_name(settings.name), settings.what.strip()
    if ".." in settings.folder.split("/"):
        raise NothingToDo(f"“{settings.folder}” leads out of the file store.")
    if settings.name.strip().startswith("."):
        raise NothingToDo("The file has no name before its ending here.")
    if not what:
        raise NothingToDo("There is nothing to save: neither a file nor a text.")
    places = places_of(what) if len(what) < 20_000 else []
    kept = [place for place in places if context.workspace.file(place) is not None]
    if places and len(kept) == len(places):
        file = _of_files([attached(place, context) for place in kept], name)
    else:
        file = _of_text(settings.what, name, context)
    if not file.name:
        raise NothingToDo("The file has no name here." if not file.files else "The folder has no name here.")
    path = f"{where}/{file.name}".strip("/")
    filestore.address(store_of(context.connect(settings.store, "files")), path)
    whole = file.model_copy(update={"path": path, "over": settings.there == "over"})
    return Outgoing(settings.store, whole.model_dump(mode="json"))


def _of_files(files: list[Attached], name: str) -> FilePiece:
    """One kept file, or several in a folder, where each gets a name of its own."""
    if len(files) == 1:
        (only,) = files
        return FilePiece(file=only.link, name=name or filestore.safe_name(only.name), type=only.type, size=only.size)
    taken: set[str] = set()
    named = []
    for file in files:
        clean = filestore.safe_name(file.name) or "file"
        own = next(here for n in count(1) if (here := filestore.numbered(clean, n)).casefold() not in taken)
        taken.add(own.casefold())
        named.append(file.model_copy(update={"name": own}))
    return FilePiece(name=name, files=tuple(named), size=sum(file.size for file in files))


def _of_text(text: str, name: str, context: Context) -> FilePiece:
    """A text as it is, or made into the document that its name says."""
    ending = name.rpartition(".")[2].lower()
    if ending not in typeset.TYPES:
        kind = ENDINGS.get(ending, "text/plain")
        return FilePiece(name=name, text=text, type=kind, size=len(text.encode("utf-8", "replace")))
    page = markup.cleaned(text, ELEMENTS) if text.lstrip().startswith("<") else markup.from_markdown(text, ELEMENTS)
    shown = {link: context.workspace.file(link) for link in letters.pictures(page)}
    # In a process of its own: what makes documents is large, and seldom needed.
    made = apart(
        typeset.typeset,
        ending,
        name.rpartition(".")[0],
        page,
        {link: file[2] for link, file in shown.items() if file is not None},
        # By the day: the same text is the same file, however often it is looked at.
        datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0),
    )
    kept = context.workspace.keep(name, typeset.TYPES[ending], made)
    return FilePiece(name=name, text=page, file=kept["link"], type=typeset.TYPES[ending], size=len(made))


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Save it; gives where it stands."""
    file, store = _read(content), store_of(connection)
    if file.files:
        path = file.path if file.over else filestore.make_folder_beside(web, store, file.path)
        for n, one in enumerate(file.files):
            try:
                filestore.save(web, store, f"{path}/{one.name}", content["opened"][one.link][2], one.type)
            except OutsideError as error:
                if n and not file.over:
                    # Another try would begin another folder.
                    error.message = f"{n} of {len(file.files)} files were saved into “{path}”, then: {error.message}"
                    error.retryable, error.ambiguous = False, True
                raise
        return _saved(file, path, filestore.address(store, path))
    body = content["opened"][file.file][2] if file.file else file.text.encode("utf-8", "replace")
    if file.over:
        return _saved(file, file.path, filestore.save(web, store, file.path, body, file.type))
    return _saved(file, *filestore.save_beside(web, store, file.path, body, file.type))


def _read(content: Mapping[str, Any]) -> FilePiece:
    file = pieces.read("file", content)
    assert isinstance(file, FilePiece)
    return file


def _saved(file: FilePiece, path: str, link: str) -> dict[str, Any]:
    return {"path": path, "link": link, "name": path.rpartition("/")[2], "size": file.size}


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the piece tells it."""
    file = _read(content)
    return _saved(file, file.path, "")


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """After a break: what takes another's place is simply saved again; of what stands beside others it is seen whether it does."""
    file, store = _read(sought.content), store_of(connection)
    if file.over or file.files:
        return Sighting(again=file.over, why="Whether all of them were saved cannot be told; look into the folder.")
    body = sought.content["opened"][file.file][2] if file.file else file.text.encode("utf-8", "replace")
    saved = filestore.find_saved(web, store, file.path, body, sought.since)
    # Saved again too soon it would stand there twice: it is believed once the first cannot be on its way any more.
    return Sighting(tells=True) if saved is None else Sighting(_saved(file, *saved))


KIND = Sends(
    name="save_file",
    stage="publish",
    title="Save a file",
    about="Saves a picture, files, a text or a document (DOCX, ODT, PDF) into a folder of a file store, which is made where it is not there yet.",
    sentence="Save {what}[ as {name}] into {store}[, folder {folder}]",
    offer="Save a file into {store}",
    words="save store folder document upload webdav report kit docx word odt pdf",
    called="saved",
    settings=SaveSettings,
    output=SaveOutput,
    form="file",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    lists_within=lambda connection: 0.0,
    brief="{path}",
)
