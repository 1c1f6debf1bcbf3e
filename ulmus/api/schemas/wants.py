"""What a person who is asked wants: quiet hours, one mail for many, a substitute while they are away."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from ...core.people import ADDRESS
from ...core.recurrence import RecurrenceError, zone_of
from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Refusal, house

Time = Annotated[str, Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$")]


class Quiet(BaseModel):
    """When nobody is told anything: between two times of day, and on whole days of the week (0 is Monday)."""

    from_: Time | None = Field(None, alias="from")
    until: Time | None = None
    days: list[Annotated[int, Field(ge=0, le=6)]] = []

    model_config = {"populate_by_name": True, "extra": "forbid"}


class Times(Body):
    """When somebody is told: quiet hours and days in `zone` (IANA), and in `collect` the times of day at which one mail tells of all
    that waits. Nothing here changes who decides, so that whoever holds a signed link may set it."""

    zone: str = Field("", max_length=60)
    quiet: Quiet = Quiet()
    collect: list[Time] = Field([], max_length=6)


class Wants(Times):
    """The same, and who decides: away between two moments (seconds since the epoch), with the mail address of a `substitute`; `chat`
    is their address in chat rooms (a bare JID), where it is not their mail address."""

    away_from: float | None = None
    away_until: float | None = None
    substitute: str = Field("", max_length=200)
    chat: str = Field("", max_length=200)


def wants_of(session: Session, who: str) -> Wants:
    """What a person wants."""
    person = session.get(tables.Person, who.casefold())
    if person is None:
        return Wants()
    return Wants(
        zone=person.zone,
        quiet=Quiet.model_validate(person.quiet),
        collect=person.collect,
        away_from=person.away_from,
        away_until=person.away_until,
        substitute=person.substitute,
        chat=person.chat,
    )


def set_times(who: str, times: Times, by: str) -> None:
    """Keep when a person is told, and leave all else as it is. Raises `Refusal`."""
    with house().services.store.read() as session:
        before = wants_of(session, who)
    set_wants(who, before.model_copy(update={name: getattr(times, name) for name in Times.model_fields}), by)


def set_wants(who: str, wants: Wants, by: str) -> None:
    """Keep what a person wants. Raises `Refusal`."""
    substitute = wants.substitute.strip()
    if substitute and not ADDRESS.fullmatch(substitute):
        raise Refusal("Write the mail address of whoever decides meanwhile, such as ines@example.org.", 422)
    if substitute.casefold() == who.casefold() and substitute:
        raise Refusal("Name another than yourself.", 422)
    if substitute and wants.away_until is None:
        raise Refusal("Say until when somebody else decides.", 422)
    if wants.away_from is not None and wants.away_until is not None and wants.away_until <= wants.away_from:
        raise Refusal("This absence ends before it begins.", 422)
    if wants.chat.strip() and not ADDRESS.fullmatch(wants.chat.strip()):
        raise Refusal("Write the chat address without anything behind it, such as ines@chat.example.", 422)
    if (wants.quiet.from_ is None) != (wants.quiet.until is None):
        raise Refusal("Give both times, from and until, or neither.", 422)
    if len(set(wants.quiet.days)) > 6:
        raise Refusal("With seven quiet days you would never hear of anything. Leave one.", 422)
    try:
        zone_of(wants.zone or "UTC")
    except RecurrenceError as error:
        raise Refusal(str(error), 422) from None
    quiet = wants.quiet.model_dump(mode="json", by_alias=True, exclude_none=True)
    with house().services.store.write() as session:
        person = session.merge(tables.Person(who=who.casefold()))
        person.zone, person.quiet, person.collect = wants.zone, quiet if quiet != {"days": []} else {}, sorted(set(wants.collect))
        person.away_from, person.away_until, person.substitute = wants.away_from, wants.away_until, substitute
        person.chat = wants.chat.strip()
        audit(session, house().services.clock(), by, "said how to be told", who)
