"""A piece in a few words: for a cell, a list, a calendar."""

from __future__ import annotations

import json
from urllib.parse import urlsplit

from pydantic import BaseModel

from .forms import Act, Article, FilePiece, FormName, Letter, Listing, Mailing, Message, Piece, Post
from .lengths import length
from .takes import ANYTHING, Takes
from .words import plain

LONGEST = 400


class Brief(BaseModel):
    """A piece's form, what stands above its text (`to` whom or where, a `head`: subject, name or call), its first words, how long
    it is where its channel counts, and what goes along: a picture's link, and how many pictures and files."""

    form: FormName
    to: str = ""
    head: str = ""
    text: str = ""
    length: int | None = None
    limit: int | None = None
    picture: str = ""
    along: int = 0


def in_brief(piece: Piece, takes: Takes = ANYTHING) -> Brief:
    """A piece in brief, on a channel that takes this."""
    match piece:
        case Post():
            picture = piece.pictures[0].link if piece.pictures else ""
            return Brief(
                form="post", text=_cut(piece.text), picture=picture, along=len(piece.pictures), **_counted(piece.text, takes)
            )
        case Article():
            picture = piece.pictures[0].link if piece.pictures else ""
            return Brief(form="article", head=piece.title, text=_cut(piece.summary or _read(piece.html)), picture=picture)
        case Listing():
            picture = piece.pictures[0].link if piece.pictures else ""
            return Brief(
                form="listing",
                to=piece.place,
                head=piece.button,
                text=_cut(piece.text),
                picture=picture,
                **_counted(piece.text, takes),
            )
        case Letter():
            to = _listed([*piece.to, *piece.cc])
            return Brief(form="letter", to=to, head=piece.subject, text=_cut(piece.text), along=len(piece.files))
        case Mailing():
            first = piece.first
            return Brief(
                form="mailing",
                to=f"{piece.readers:,} readers of {piece.name}",
                head=first.subject,
                text=_cut(first.text),
                along=sum(not file.inside for file in piece.files),
            )
        case Message():
            longest = max(piece.parts or (piece.text,), key=lambda part: length(part, takes.counting))
            along = max(0, len(piece.parts) - 1)
            return Brief(form="message", text=_cut(piece.text), along=along, **_counted(longest, takes))
        case FilePiece():
            along = len(piece.files)
            return Brief(form="file", head=piece.path or piece.name, text=_cut(_read(piece.text)), along=along)
        case Act():
            text = (
                ""
                if piece.body is None
                else piece.body
                if isinstance(piece.body, str)
                else json.dumps(piece.body, ensure_ascii=False)
            )
            return Brief(form="act", to=urlsplit(piece.url).netloc, head=f"{piece.method} {piece.url}", text=_cut(text))


def _counted(text: str, takes: Takes) -> dict[str, int | None]:
    return {"length": length(text, takes.counting), "limit": takes.length}


def _read(page: str) -> str:
    """The first words of HTML, as far as a few words need them."""
    return plain(page[: 8 * LONGEST]) if "</" in page else page


def _cut(text: str) -> str:
    return text[:LONGEST].strip()


def _listed(addresses: list[str]) -> str:
    more = len(addresses) - 2
    return ", ".join(addresses[:2]) + (f" and {more} more" if more > 0 else "")
