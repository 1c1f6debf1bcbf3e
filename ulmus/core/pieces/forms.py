"""The forms of pieces: post, letter, message, file and act."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, model_validator

FormName = Literal["post", "letter", "message", "file", "act"]


class _Form(BaseModel):
    """What other versions wrote beside it is left out."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class Attached(_Form):
    """A picture or a file that goes along: its `link`, and what is known of it where it is `kept` in the house. `words` say what a
    picture shows, for those who cannot see it; one `inside` stands in the text."""

    link: str
    name: str = ""
    type: str = ""
    size: int = 0
    words: str = ""
    kept: bool = False
    inside: bool = False


class Post(_Form):
    """A text for the readers of a network or a blog, with pictures."""

    form: Literal["post"] = "post"
    text: str = ""
    pictures: tuple[Attached, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _with_one_photo(cls, value: Any) -> Any:
        # A post of earlier versions: one photo, by its address or by the link of a kept file.
        if isinstance(value, Mapping) and value.get("photo") and "pictures" not in value:
            return {**value, "pictures": [{"link": value["photo"], "kept": bool(value.get("file"))}]}
        return value


class Letter(_Form):
    """A mail (RFC 5322): addresses with or without a name, text and HTML, files. `thread` is the Message-ID it answers, empty
    where it begins a thread; `thread_before` are those before it, oldest first."""

    form: Literal["letter"] = "letter"
    sender: str = ""
    to: tuple[str, ...] = ()
    cc: tuple[str, ...] = ()
    reply_to: str = ""
    subject: str = ""
    text: str = ""
    html: str = ""
    files: tuple[Attached, ...] = ()
    thread: str = ""
    thread_before: tuple[str, ...] = ()


class Message(_Form):
    """What is said in a team's room, in one part or several."""

    form: Literal["message"] = "message"
    text: str = ""
    parts: tuple[str, ...] = ()


class FilePiece(_Form):
    """A file at a place: a kept one by its link, or a text."""

    form: Literal["file"] = "file"
    path: str = ""
    name: str = ""
    type: str = ""
    size: int = 0
    text: str = ""
    file: str = ""


class Act(_Form):
    """A call to a service: what it changes there is no text for readers."""

    form: Literal["act"] = "act"
    method: str = "POST"
    url: str = ""
    headers: dict[str, str] = Field(default_factory=dict)
    body: Any = None


Piece = Annotated[Post | Letter | Message | FilePiece | Act, Field(discriminator="form")]
_PIECE: TypeAdapter[Piece] = TypeAdapter(Piece)
assert {form.model_fields["form"].default for form in (Post, Letter, Message, FilePiece, Act)} == set(get_args(FormName))


def read(form: FormName, content: Mapping[str, Any]) -> Piece:
    """A piece from what the outbox keeps. Raises `pydantic.ValidationError` where it is none."""
    return _PIECE.validate_python({**content, "form": form})


def attached(piece: Piece) -> tuple[str, ...]:
    """The links of the kept files that go along with a piece, each once."""
    match piece:
        case Post():
            links = [picture.link for picture in piece.pictures if picture.kept]
        case Letter():
            links = [file.link for file in piece.files if file.kept]
        case FilePiece():
            links = [piece.file] if piece.file else []
        case _:
            links = []
    return tuple(dict.fromkeys(links))
