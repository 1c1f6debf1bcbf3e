"""What a channel takes, in figures, and what of a piece it would refuse."""

from __future__ import annotations

from collections.abc import Iterator

from pydantic import BaseModel, ConfigDict

from .forms import Act, Article, Attached, FilePiece, Letter, Listing, Mailing, Message, Piece, Post
from .lengths import CHARACTERS, Counting, length


class Takes(BaseModel):
    """A channel's limits; ``None`` where it states none. `length` is that of a text as `counting` counts it, `pictures` how many,
    `picture_kinds` their media types, sizes are in bytes: of a picture, and of all that goes along with a piece. `buttons` are the
    words it has for one, empty where any will do, and `button_length` how long they may be."""

    model_config = ConfigDict(frozen=True)
    length: int | None = None
    counting: Counting = CHARACTERS
    pictures: int | None = None
    picture_kinds: tuple[str, ...] = ()
    picture_size: int | None = None
    size: int | None = None
    buttons: tuple[str, ...] = ()
    button_length: int | None = None


ANYTHING = Takes()


def refusals(piece: Piece, takes: Takes, name: str) -> list[str]:
    """What speaks against a piece on the channel called `name`, in words; empty where it takes it as it is."""
    return [f"{name} {words}" for words in _refusals(piece, takes)]


def _refusals(piece: Piece, takes: Takes) -> Iterator[str]:
    match piece:
        case Post():
            yield from _too_long(piece.text, takes)
            yield from _pictures(piece.pictures, takes)
            yield from _too_large(sum(picture.size for picture in piece.pictures), takes)
        case Article():
            yield from _pictures(piece.pictures, takes)
            yield from _too_large(sum(picture.size for picture in piece.pictures) + len(piece.html.encode()), takes)
        case Listing():
            yield from _too_long(piece.text, takes)
            yield from _pictures(piece.pictures, takes)
            yield from _button(piece.button, takes)
        case Letter() | Mailing():
            yield from _too_large(
                sum(file.size for file in piece.files) + len(piece.text.encode()) + len(piece.html.encode()), takes
            )
        case Message():
            for part in piece.parts or (piece.text,):
                yield from _too_long(part, takes)
        case FilePiece():
            yield from _too_large(piece.size, takes)
        case Act():
            return


def _too_long(text: str, takes: Takes) -> Iterator[str]:
    if takes.length is not None and (count := length(text, takes.counting)) > takes.length:
        yield f"takes at most {takes.length} {takes.counting.words}; this has {count}."


def _button(words: str, takes: Takes) -> Iterator[str]:
    if words and takes.buttons and words not in takes.buttons:
        yield f"has no button “{words}”; it has {', '.join(f'“{one}”' for one in takes.buttons)}."
    if takes.button_length is not None and len(words) > takes.button_length:
        yield f"takes at most {takes.button_length} characters on a button; “{words}” has {len(words)}."


def _pictures(pictures: tuple[Attached, ...], takes: Takes) -> Iterator[str]:
    if takes.pictures is not None and len(pictures) > takes.pictures:
        yield f"takes {f'at most {takes.pictures}' if takes.pictures else 'no'} pictures; this has {len(pictures)}."
    for picture in pictures:
        if takes.picture_kinds and picture.type and picture.type not in takes.picture_kinds:
            yield f"takes no pictures of the kind {picture.type}."
        if takes.picture_size is not None and picture.size > takes.picture_size:
            yield f"takes pictures of at most {in_kilobytes(takes.picture_size)}; one has {in_kilobytes(picture.size)}."


def _too_large(size: int, takes: Takes) -> Iterator[str]:
    if takes.size is not None and size > takes.size:
        yield f"takes at most {in_kilobytes(takes.size)} at a time; this has {in_kilobytes(size)}."


def in_kilobytes(size: int) -> str:
    """A size in words: ``340 kB``, ``2.5 MB``."""
    return f"{size / 1_000_000:.1f} MB" if size >= 1_000_000 else f"{max(1, round(size / 1000))} kB"
