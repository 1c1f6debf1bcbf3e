"""An entry of a calendar, as lines and starts give it."""

from __future__ import annotations

from pydantic import BaseModel, Field


class GuestValue(BaseModel):
    name: str = Field("", description="The name, where the calendar has it.")
    mail: str = Field("", description="The mail address.")
    domain: str = Field("", description="What stands after the @, mostly the site of the company.")


class EntryValue(BaseModel):
    title: str = Field("", description="What it is called.")
    start: str = Field("", description="When it begins (ISO 8601).")
    end: str = Field("", description="When it ends.")
    place: str = Field("", description="Where.")
    description: str = Field("", description="Its notes.")
    organizer: str = Field("", description="Who invites.")
    attendees: list[str] = Field([], description="The addresses of who else is invited.")
    guests: list[GuestValue] = Field([], description="Who else is invited, each with name, mail address and domain.")
    identity: str = Field("", description="What makes this entry itself.")
