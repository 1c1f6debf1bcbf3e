"""Publish: a post on a network that speaks Micropub."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Post, shortened
from ...protocols import micropub, pictures
from ...protocols.errors import Misconfigured, NothingToDo
from ...protocols.net import Web, check_url
from ..api import Connection, Context, Outgoing, Pending, Sends, Sighting, Sought, Timely, setting
from ..connections.posting import endpoint, takes
from ..shared.pieces import attached, places_of, words_of


class PostSettings(Timely):
    channel: str = setting("Where to", control="connection", needs="posting")
    text: str = setting(
        "Text",
        "What goes out, usually the approved draft.",
        control="slots",
        takes="text@draft|text",
        min_length=1,
        max_length=100_000,
    )
    too_long: Literal["say", "cut"] = setting(
        "Longer than it takes there",
        "A link and tags at its end stay.",
        control="choice",
        default="say",
        labels={"say": "is not sent, and says so", "cut": "loses whole sentences at its end"},
        more=True,
    )
    photo: str = setting(
        "Pictures",
        "Links of pictures made here or of photos from a form, or addresses, parted by commas or lines. May be empty.",
        control="slots",
        default="",
        max_length=5000,
        more=True,
    )
    photo_words: str = setting(
        "What they show",
        "For those who cannot see them, a line for each picture.",
        control="slots",
        default="",
        max_length=5000,
        when="photo",
        more=True,
    )
    tags: str = setting("Tags", "Parted by commas or lines.", control="slots", default="", max_length=1000, more=True)
    answers: str = setting(
        "Answers the post at", "The address of the post it answers.", control="slots", default="", max_length=2000, more=True
    )
    also: str = setting(
        "Handed on to",
        "Further places the network offers, by name, parted by commas. The test of the connection names them.",
        control="slots",
        default="",
        max_length=1000,
        more=True,
    )


class PostOutput(BaseModel):
    link: str = Field("", description="The post’s address.")
    text: str = Field("", description="The text that went out.")
    photo: str = Field("", description="The photo that went along, where there was one.")


def piece(settings: PostSettings, context: Context) -> Outgoing:
    """The post as it will go out. Raises `OutsideError` where it could not."""
    text = settings.text.strip()
    if not text:
        raise NothingToDo("There is nothing to post: the text is empty.")
    if settings.too_long == "cut":
        limits = takes(context.connect(settings.channel, "posting").settings)
        text = shortened(text, limits.length, limits.counting) if limits.length else text
    words = [line.strip() for line in settings.photo_words.strip().splitlines()]
    photos = []
    for n, place in enumerate(places_of(settings.photo)):
        photos.append(attached(place, context, words[n] if n < len(words) else ""))
        if (kept := context.workspace.file(place)) is not None:
            pictures.inspect(kept[2])
    answers = settings.answers.strip()
    if answers:
        check_url(answers)
    also = words_of(settings.also)
    post = Post(
        text=text,
        pictures=tuple(photos),
        tags=words_of(settings.tags),
        answers=answers,
        also=_offered(also, settings.channel, context) if also else (),
    )
    return Outgoing(settings.channel, post.model_dump(mode="json"))


def _offered(named: tuple[str, ...], channel: str, context: Context) -> tuple[str, ...]:
    """The identities of places the network hands posts on to, by their names. Raises `Misconfigured` for one it does not offer."""
    connection = context.connect(channel, "posting")
    targets = micropub.targets(context.web, endpoint(connection))
    known = {name.casefold(): target.uid for target in targets for name in (target.uid, target.name)}
    if unknown := next((name for name in named if name.casefold() not in known), ""):
        offers = ", ".join(f"“{target.name}”" for target in targets)
        raise Misconfigured(
            f"{connection.name} hands nothing on to “{unknown}”" + (f"; it offers {offers}." if offers else "; it offers no place.")
        )
    return tuple(dict.fromkeys(known[name.casefold()] for name in named))


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any] | Pending:
    """Publish under `key`; gives the step's output."""
    post = pieces.read("post", content)
    assert isinstance(post, Post)
    photos = tuple(micropub.Picture(content["opened"][one.link] if one.kept else one.link, one.words) for one in post.pictures)
    made = micropub.create(
        web, endpoint(connection), micropub.Post(post.text, key, post.tags, photos, answers=post.answers, also=post.also)
    )
    output = {**foretold(content), "link": made.link}
    return output if made.there else Pending(output)


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the post tells it."""
    post = pieces.read("post", content)
    assert isinstance(post, Post)
    return {"link": "", "text": post.text, "photo": post.pictures[0].link if post.pictures else ""}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """Ask the network whether it has the post."""
    looked = micropub.find(web, endpoint(connection), sought.key, sought.since, sought.earlier)
    return Sighting({"link": looked.link} if looked.link is not None else None, looked.tells, looked.why)


KIND = Sends(
    name="publish_post",
    stage="publish",
    title="Publish a post",
    about="Publishes a short post through a posting connection. Sent once, whatever happens on the way.",
    sentence="Post to {channel}",
    offer="Post to {channel}",
    words="publish send out network blog share social media status microblog post it",
    called="out",
    common=0.3,
    settings=PostSettings,
    output=PostOutput,
    form="post",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    lists_within=lambda connection: connection.settings.lists_within,
    brief="{text}",
)
