"""A piece as plain text with all that goes out, for where nothing can be set: a question about an act, a list, a search."""

from __future__ import annotations

import html
import json
import re

from .forms import Act, Article, Attached, FilePiece, Letter, Listing, Mailing, Message, Piece, Post

_TAG = re.compile(r"<[^<>]{0,2000}>")


def plain(page: str) -> str:
    """HTML as words in a row."""
    return " ".join(html.unescape(_TAG.sub(" ", page)).split())


def text_of(piece: Piece) -> str:
    """What a piece says to its readers, without what stands around it; of a mailing, to the first of them."""
    match piece:
        case Mailing():
            return piece.first.text
        case Article():
            return plain(piece.html)
        case Act():
            return ""
        case _:
            return piece.text


def in_words(piece: Piece) -> str:
    """All of a piece, heads first."""
    match piece:
        case Post():
            heads = [_picture(picture) for picture in piece.pictures]
            heads += [f"Tags: {', '.join(piece.tags)}"] if piece.tags else []
            heads += [f"Answers: {piece.answers}"] if piece.answers else []
            return _under(heads, piece.text) if heads else piece.text
        case Article():
            heads = [f"Title: {piece.title}"]
            heads += [f"Instead of: {piece.changes}"] if piece.changes else []
            heads += [f"Summary: {piece.summary}"] if piece.summary else []
            heads += [f"Categories: {', '.join(piece.categories)}"] if piece.categories else []
            return _under([*heads, *(_picture(picture) for picture in piece.pictures)], piece.html)
        case Listing():
            heads = [f"Place: {piece.place}"] if piece.place else []
            heads += [f"Button: {piece.button}, {piece.link}"] if piece.button else []
            return _under([*heads, *(_picture(picture) for picture in piece.pictures)], piece.text)
        case Letter():
            heads = [f"To: {', '.join(piece.to)}"]
            heads += [f"Copy to: {', '.join(piece.cc)}"] if piece.cc else []
            heads += [f"Subject: {piece.subject}"]
            heads += [f"With: {file.name or file.link}" for file in piece.files if not file.inside]
            return _under(heads, piece.text)
        case Mailing():
            heads = [f"To: {piece.readers:,} readers of {piece.name}"]
            heads += [f"Left out: {left.count:,} who {left.why}" for left in piece.left_out]
            heads += [f"For the first of them, {', '.join(piece.first.to)}", f"Subject: {piece.first.subject}"]
            heads += [f"With: {file.name or file.link}" for file in piece.files if not file.inside]
            return _under(heads, piece.first.text)
        case Message():
            return "\n\n".join(piece.parts or (piece.text,))
        case FilePiece():
            heads = [f"File: {piece.path or piece.name}", *(f"In it: {file.name}" for file in piece.files)]
            return _under(heads, piece.text)
        case Act():
            body = piece.body if isinstance(piece.body, str) else json.dumps(piece.body, ensure_ascii=False, indent=1)
            return _under([f"{piece.method} {piece.url}"], "" if piece.body is None else body)


def _picture(picture: Attached) -> str:
    return f"Picture: {picture.link}" + (f" ({picture.words})" if picture.words else "")


def _under(heads: list[str], text: str) -> str:
    return "\n".join(heads) + (f"\n\n{text}" if text else "")
