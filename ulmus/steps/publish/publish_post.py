"""Publish: a post on a network that speaks Micropub."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Post
from ...protocols import micropub, pictures
from ...protocols.errors import NothingToDo
from ...protocols.net import Web
from ..api import Connection, Context, Outgoing, Pending, Sends, Settings, Sighting, Sought, setting
from ..shared.pieces import attached


class PostSettings(Settings):
    channel: str = setting("Where to", control="connection", needs="posting")
    text: str = setting(
        "Text",
        "What goes out, usually the approved draft.",
        control="slots",
        takes="text@draft|text",
        min_length=1,
        max_length=100_000,
    )
    photo: str = setting(
        "Photo",
        "The link of a picture made here, or of a photo from a form, or an address. May be empty.",
        control="slots",
        default="",
        max_length=2000,
        more=True,
    )


class PostOutput(BaseModel):
    link: str = Field("", description="The post’s address.")
    text: str = Field("", description="The text that went out.")
    photo: str = Field("", description="The photo that went along, where there was one.")


def piece(settings: PostSettings, context: Context) -> Outgoing:
    """The post as it will go out."""
    text = settings.text.strip()
    if not text:
        raise NothingToDo("There is nothing to post: the text is empty.")
    place = settings.photo.strip()
    photos = (attached(place, context),) if place else ()
    if (kept := context.workspace.file(place) if place else None) is not None:
        pictures.inspect(kept[2])
    return Outgoing(settings.channel, Post(text=text, pictures=photos).model_dump(mode="json"))


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any] | Pending:
    """Publish under `key`; gives the step's output."""
    post = pieces.read("post", content)
    assert isinstance(post, Post)
    photo: Any = next((content["opened"][one.link] if one.kept else one.link for one in post.pictures), "")
    made = micropub.create(web, _endpoint(connection), micropub.Post(post.text, key, photo=photo))
    output = {**foretold(content), "link": made.link}
    return output if made.there else Pending(output)


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the post tells it."""
    post = pieces.read("post", content)
    assert isinstance(post, Post)
    return {"link": "", "text": post.text, "photo": post.pictures[0].link if post.pictures else ""}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """Ask the network whether it has the post."""
    looked = micropub.find(web, _endpoint(connection), sought.key, sought.since, sought.earlier)
    return Sighting({"link": looked.link} if looked.link is not None else None, looked.tells, looked.why)


def _endpoint(connection: Connection) -> micropub.Endpoint:
    return micropub.Endpoint(connection.settings.endpoint, connection.secrets.get("token", ""))


KIND = Sends(
    name="publish_post",
    stage="publish",
    title="Publish a post",
    about="Publishes a short post through a posting connection. Sent once, whatever happens on the way.",
    sentence="Post to {channel}",
    offer="Post to {channel}",
    words="publish send out network blog share",
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
