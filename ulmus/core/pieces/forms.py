"""The forms of pieces: post, article, letter, mailing, message, listing, file and act."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, model_validator

FormName = Literal["post", "article", "letter", "mailing", "message", "listing", "file", "act"]


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
    """A text for the readers of a network or a blog, with pictures and tags. `answers` is the address of what it answers, `also`
    are further places, by their identities, that the network hands it on to."""

    form: Literal["post"] = "post"
    text: str = ""
    pictures: tuple[Attached, ...] = ()
    tags: tuple[str, ...] = ()
    answers: str = ""
    also: tuple[str, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _with_one_photo(cls, value: Any) -> Any:
        # A post of earlier versions: one photo, by its address or by the link of a kept file.
        if isinstance(value, Mapping) and value.get("photo") and "pictures" not in value:
            return {**value, "pictures": [{"link": value["photo"], "kept": bool(value.get("file"))}]}
        return value


class Article(_Form):
    """A text under a title for a blog: HTML, a summary, categories and a picture. One that is `held_back` is kept there as a draft.
    `changes` is the address of the article it takes the place of, empty where it is a new one."""

    form: Literal["article"] = "article"
    title: str = ""
    html: str = ""
    summary: str = ""
    categories: tuple[str, ...] = ()
    pictures: tuple[Attached, ...] = ()
    held_back: bool = False
    changes: str = ""


class Listing(_Form):
    """Something a business lists: a text, a picture, a button with a link, at one of its places."""

    form: Literal["listing"] = "listing"
    text: str = ""
    pictures: tuple[Attached, ...] = ()
    button: str = ""
    link: str = ""
    place: str = ""


class Letter(_Form):
    """A mail (RFC 5322): addresses with or without a name, text and HTML, files. `thread` is the Message-ID it answers, empty
    where it begins a thread; `thread_before` are those before it, oldest first. One of a `mailing` bears its name, and the address
    where its reader may leave that (`leave`). `mailbox` is the connection that answers come to."""

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
    mailing: str = ""
    leave: str = ""
    mailbox: str = ""


class SetAsidePart(_Form):
    """A mark that is filled in for each reader, and the other values it needs."""

    mark: str
    given: dict[str, Any] = Field(default_factory=dict)


class LeftOut(_Form):
    """Readers who get no letter: why, in words that go on from “who”, how many, and the first of them."""

    why: str
    count: int
    some: tuple[str, ...] = ()


class Mailing(_Form):
    """A letter to each reader of a list, which is a `sheet` with a column for the `address` and, where it has one, for the `state`.
    Subject, text and HTML are the same for all but where the words that begin with `word` stand for one of `marks`. `first` is the
    letter of the first reader; `readers` how many get one, at most `pace` a minute. Where `presses` of its `links` are counted, a word
    stands for each as well."""

    form: Literal["mailing"] = "mailing"
    name: str = ""
    sender: str = ""
    reply_to: str = ""
    subject: str = ""
    text: str = ""
    html: str = ""
    files: tuple[Attached, ...] = ()
    word: str = ""
    marks: tuple[SetAsidePart, ...] = ()
    sheet: str = ""
    address: str = ""
    state: str = ""
    readers: int = 0
    left_out: tuple[LeftOut, ...] = ()
    first: Letter = Letter()
    pace: int | None = None
    presses: bool = False
    links: tuple[str, ...] = ()


class Message(_Form):
    """What is said in a team's room, in one part or several."""

    form: Literal["message"] = "message"
    text: str = ""
    parts: tuple[str, ...] = ()


class FilePiece(_Form):
    """A file at a place: a kept one by its link, or a text. Several kept `files` stand in a folder at the place."""

    form: Literal["file"] = "file"
    path: str = ""
    name: str = ""
    type: str = ""
    size: int = 0
    text: str = ""
    file: str = ""
    files: tuple[Attached, ...] = ()
    over: bool = False
    """Whether it takes the place of what stands there; otherwise it gets a name of its own beside it."""


class Act(_Form):
    """A call to a service: what it changes there is no text for readers."""

    form: Literal["act"] = "act"
    method: str = "POST"
    url: str = ""
    headers: dict[str, str] = Field(default_factory=dict)
    body: Any = None


FORMS = Post, Article, Letter, Mailing, Message, Listing, FilePiece, Act
Piece = Annotated[Post | Article | Letter | Mailing | Message | Listing | FilePiece | Act, Field(discriminator="form")]
_PIECE: TypeAdapter[Piece] = TypeAdapter(Piece)
assert {form.model_fields["form"].default for form in FORMS} == set(get_args(FormName))


def read(form: FormName, content: Mapping[str, Any]) -> Piece:
    """A piece from what the outbox keeps. Raises `pydantic.ValidationError` where it is none."""
    return _PIECE.validate_python({**content, "form": form})


def attached(piece: Piece) -> tuple[str, ...]:
    """The links of the kept files that go along with a piece, each once."""
    match piece:
        case Post() | Article() | Listing():
            links = [picture.link for picture in piece.pictures if picture.kept]
        case Letter() | Mailing():
            links = [file.link for file in piece.files if file.kept]
        case FilePiece():
            links = [*([piece.file] if piece.file else []), *(file.link for file in piece.files)]
        case _:
            links = []
    return tuple(dict.fromkeys(links))
