"""Publish: a post on a network that speaks Micropub."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...protocols import micropub, pictures
from ...protocols.errors import NothingToDo, TooLarge
from ...protocols.net import Web, check_url
from ..api import Connection, Context, Outgoing, Pending, Sends, Settings, Sighting, Sought, setting


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
    """The post as it will go out. Raises `OutsideError` where the channel could not take it."""
    text = settings.text.strip()
    channel = context.connect(settings.channel, "posting")
    limit = channel.settings.limit
    if not text:
        raise NothingToDo("There is nothing to post: the text is empty.")
    if limit and len(text) > limit:
        raise TooLarge(f"{channel.name} takes at most {limit} characters; this has {len(text)}.")
    place = settings.photo.strip()
    if not place:
        return Outgoing(settings.channel, {"text": text})
    kept = context.workspace.file(place)
    if kept is None:
        check_url(place)
        return Outgoing(settings.channel, {"text": text, "photo": place})
    pictures.inspect(kept[2])
    return Outgoing(settings.channel, {"text": text, "photo": place, "file": place})


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any] | Pending:
    """Publish under `key`; gives the step's output."""
    photo = content["opened"] if "opened" in content else content.get("photo", "")
    made = micropub.create(web, _endpoint(connection), micropub.Post(content["text"], key, photo=photo))
    output = {"link": made.link, "text": content["text"], "photo": content.get("photo", "")}
    return output if made.there else Pending(output)


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
    settings=PostSettings,
    output=PostOutput,
    piece=piece,
    send=send,
    find=find,
    lists_within=lambda connection: connection.settings.lists_within,
    brief="{text}",
)
