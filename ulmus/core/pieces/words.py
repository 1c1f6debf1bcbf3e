"""A piece as plain text with all that goes out, for where nothing can be set: a question about an act, a list, a search."""

from __future__ import annotations

import json

from .forms import Act, FilePiece, Letter, Message, Piece, Post


def in_words(piece: Piece) -> str:
    """All of a piece, heads first."""
    match piece:
        case Post():
            heads = [f"Picture: {picture.link}" for picture in piece.pictures]
            return _under(heads, piece.text) if heads else piece.text
        case Letter():
            heads = [f"To: {', '.join(piece.to)}"]
            heads += [f"Copy to: {', '.join(piece.cc)}"] if piece.cc else []
            heads += [f"Subject: {piece.subject}"]
            heads += [f"With: {file.name or file.link}" for file in piece.files if not file.inside]
            return _under(heads, piece.text)
        case Message():
            return "\n\n".join(piece.parts or (piece.text,))
        case FilePiece():
            return _under([f"File: {piece.path or piece.name}"], piece.text)
        case Act():
            body = piece.body if isinstance(piece.body, str) else json.dumps(piece.body, ensure_ascii=False, indent=1)
            return _under([f"{piece.method} {piece.url}"], "" if piece.body is None else body)


def _under(heads: list[str], text: str) -> str:
    return "\n".join(heads) + (f"\n\n{text}" if text else "")
