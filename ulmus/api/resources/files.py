"""Kept files: put in, and fetched."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import FileStorage, Tag
from pydantic import BaseModel, Field

from ...runtime import files
from ..http.base import Body, Problem, Reply, house, send, uploaded
from ..http.describing import Part
from ..http.kept import send_kept
from ..security.auth import needs, room

LARGEST_FILE = 110_000_000

bp = Part("files", __name__, url_prefix="/api", abp_tags=[Tag(name="files")])


class KeptFile(BaseModel):
    """A file as a value: where it can be fetched, and what it is."""

    name: str
    type: str
    size: int
    link: str


class Upload(Body):
    """Multipart form data."""

    file: FileStorage


class FilePath(BaseModel):
    sha: str = Field(pattern="^[0-9a-f]{64}$")


@bp.post("/files", responses={201: KeptFile, 422: Problem})
@needs("maker")
@room(LARGEST_FILE)
def keep_file(form: Upload) -> Reply:
    """Keep a file, for a sample or a run by hand: it becomes a value."""
    file = uploaded()
    kept = files.keep(house().services, file.filename or "file", file.mimetype, file.stream.read())
    return send(KeptFile(**kept), 201)


@bp.get("/files/<sha>")
@needs("reader")
def file(path: FilePath) -> Response:
    """A kept file: a picture to be looked at, anything else to be saved and not shown."""
    return send_kept(path.sha)
