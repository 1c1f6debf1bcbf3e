"""Gather: the text, headings and tables of a file."""

from __future__ import annotations

import dataclasses
from typing import Any

from pydantic import BaseModel, Field

from ...protocols import documents
from ..api import Context, Performs, Result, Settings, setting
from ..shared.files import fetch


class FileSettings(Settings):
    file: str = setting(
        "File",
        "Its address, the link of a file from a form, or its path in the file store.",
        control="slots",
        takes="link|url|path",
        min_length=1,
        max_length=2000,
    )
    store: str = setting("In the file store", "Empty for an address.", control="connection", needs="files", default="")


class FileOutput(BaseModel):
    title: str = Field("", description="The file’s title, or its first heading or line.")
    text: str = Field("", description="Its text, in reading order.")
    kind: str = Field("", description="What it is, such as pdf.")
    author: str = Field("", description="Who wrote it, where it says so.")
    words: int = Field(0, description="How many words the text has.")
    page_count: int = Field(0, description="How many pages were read, of a PDF.")
    pages: list[Any] = Field([], description="The pages of a PDF: number and text.")
    headings: list[Any] = Field([], description="Its headings: level, words and page.")
    tables: list[Any] = Field([], description="Its tables: rows of cells.")
    rows: list[Any] = Field([], description="The rows of a table file, by the names in its first line.")
    notes: list[str] = Field([], description="What could not be had.")
    name: str = Field("", description="The file’s name.")


def perform(settings: FileSettings, context: Context) -> Result:
    """Read the file."""
    name, kind, charset, body = fetch(settings.file.strip(), settings.store, context)
    document = documents.read(body, name, kind, charset)
    told = dataclasses.asdict(document)
    return Result({**told, "words": len(document.text.split()), "page_count": len(document.pages), "name": name})


KIND = Performs(
    name="read_file",
    stage="gather",
    title="Read a file",
    about="Reads PDF, DOCX, ODT, HTML, Markdown and text, and CSV, XLSX and ODS as rows; up to 200 pages.",
    sentence="Read the file {file}",
    offer="Read a file",
    words="pdf document report word spreadsheet table excel text upload attachment extract docx",
    called="file",
    settings=FileSettings,
    output=FileOutput,
    perform=perform,
    gives_outside=True,
    reaches="file",
    brief="{words} words · {title}",
)
