"""Publish: something at a business listing, with a photo and a button."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Listing
from ...protocols import pictures, services
from ...protocols.errors import Misconfigured, NothingToDo
from ...protocols.jsonpath import pick
from ...protocols.net import Web, check_url
from ..api import Connection, Context, Outgoing, Sends, Sighting, Sought, Timely, setting
from ..connections import listing as service
from ..shared.pieces import attached


class ListingSettings(Timely):
    channel: str = setting("Where to", control="connection", needs="listing")
    text: str = setting(
        "Text",
        "What is listed, usually the approved draft.",
        control="slots",
        takes="text@draft|text",
        min_length=1,
        max_length=100_000,
    )
    place: str = setting("Place", "Which of the business’s places, by its name.", control="slots", default="", max_length=300)
    button: str = setting("Button", "Its words. May be empty.", control="slots", default="", max_length=200)
    link: str = setting("The button leads to", control="slots", default="", takes="link|address", max_length=2000, when="button")
    photo: str = setting(
        "Photo",
        "The link of a picture made here, of a photo from a form, or an address. May be empty.",
        control="slots",
        default="",
        max_length=2000,
    )
    photo_words: str = setting(
        "What the photo shows",
        "For those who cannot see it.",
        control="slots",
        default="",
        max_length=1000,
        when="photo",
        more=True,
    )


class ListingOutput(BaseModel):
    link: str = Field("", description="The listing’s address, where the service tells it.")
    text: str = Field("", description="The text that is listed.")
    place: str = Field("", description="The place it is listed for.")


def piece(settings: ListingSettings, context: Context) -> Outgoing:
    """The listing as it will be shown. Raises `OutsideError` where it could not."""
    connection = context.connect(settings.channel, "listing")
    text, button, link, photo = (value.strip() for value in (settings.text, settings.button, settings.link, settings.photo))
    if not text:
        raise NothingToDo("There is nothing to list: the text is empty.")
    if button and not link:
        raise NothingToDo(f"The button “{button}” leads nowhere.")
    if link and button:
        check_url(link)
    along = (attached(photo, context, settings.photo_words.strip()),) if photo else ()
    if (kept := context.workspace.file(photo) if photo else None) is not None:
        pictures.inspect(kept[2])
        if not connection.settings.photos:
            raise NothingToDo(f"{connection.name} takes photos by their address on the web only; this one is kept here.")
    place = _one_of(settings.place, connection.settings.places, f"{connection.name} knows no place")
    shown = Listing(
        text=text,
        pictures=along,
        button=_named(button, connection.settings.buttons),
        link=link if button else "",
        place=place,
    )
    return Outgoing(settings.channel, shown.model_dump(mode="json"))


def _named(wanted: str, names: str) -> str:
    """A name as it is written at the connection, whatever its case."""
    return next((name for name in service.named(names) if name.casefold() == wanted.casefold()), wanted)


def _one_of(wanted: str, names: str, unknown: str) -> str:
    known, name = service.named(names), _named(" ".join(wanted.split()), names)
    if known and name not in known:
        words = f"{unknown} “{name}”" if name else "Say which place it is for"
        raise Misconfigured(f"{words}; there are {', '.join(f'“{one}”' for one in known)}.")
    return name


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """List it under `key`; gives the step's output."""
    listing, s = pieces.read("listing", content), connection.settings
    assert isinstance(listing, Listing)
    photo = next(iter(listing.pictures), None)
    values = {
        "text": listing.text,
        "photo": "" if photo is None else _kept(web, connection, content["opened"][photo.link]) if photo.kept else photo.link,
        "photo_words": photo.words if photo else "",
        "button": service.named(s.buttons).get(listing.button, listing.button),
        "link": listing.link,
        "place": service.named(s.places).get(listing.place, listing.place),
        "key": key,
    }
    headers = service.headers(connection) | ({"Idempotency-Key": f'"{key}"'} if s.knows_key else {})
    body = service.written(s.shape, values)
    said = services.act(web, services.Question(service.address(connection, s.path), "POST", headers, body=body, seconds=60))
    found = pick(said.data, s.link_in) if s.link_in else []
    return {**foretold(content), "link": str(next(iter(found), "") or said.headers.get("location", ""))}


def _kept(web: Web, connection: Connection, photo: tuple[str, str, bytes]) -> str:
    """Have the service keep a photo; gives its address. One that is there twice harms nobody."""
    s, place = connection.settings, service.address(connection, connection.settings.photos)
    said = services.upload(web, place, service.headers(connection), photo)
    found = pick(said.data, s.photo_in) if s.photo_in else []
    address = str(next(iter(found), "") or said.headers.get("location", ""))
    if not address:
        raise Misconfigured(f"{connection.name} took the photo and does not say where it stands; look at its connection.")
    return address


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the listing tells it."""
    listing = pieces.read("listing", content)
    assert isinstance(listing, Listing)
    return {"link": "", "text": listing.text, "place": listing.place}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """Ask the service for it, or send it again where it knows the same one; otherwise a person looks."""
    s = connection.settings
    if s.knows_key:
        return Sighting(again=True)
    if not s.seen_at or not s.seen_in or "<<key>>" not in s.shape:
        return Sighting(why="The service cannot be asked what is listed there.")
    said = services.ask(web, services.Question(service.address(connection, s.seen_at), headers=service.headers(connection)))
    if sought.key in map(str, pick(said.data, s.seen_in)):
        return Sighting({"link": ""})
    return Sighting(tells=s.shows_within is not None, why="What the service shows does not have it, or not yet.")


KIND = Sends(
    name="publish_listing",
    stage="publish",
    title="List at a business listing",
    about="Shows something where people look for local businesses: a text, a photo, a button with a link, at one of your places.",
    sentence="List {text} at {channel}[ for {place}][, button “{button}”]",
    offer="List something at {channel}",
    words="listing business local map place shop offer button photo profile event",
    called="listing",
    settings=ListingSettings,
    output=ListingOutput,
    form="listing",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    lists_within=lambda connection: connection.settings.shows_within,
    brief="{text}",
)
