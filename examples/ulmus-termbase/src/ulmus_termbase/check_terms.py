"""Gather: the words of a text that the house has agreed not to use, with what to say instead."""

from __future__ import annotations

import re

from pydantic import BaseModel, Field

from ulmus.steps.api import Context, Performs, Result, Settings, setting

from .termbase import read


class CheckSettings(Settings):
    termbase: str = setting("Term base", control="connection", needs="termbase")
    text: str = setting("Text", "Usually a draft.", control="slots", takes="text@draft|text", min_length=1, max_length=100_000)


class Finding(BaseModel):
    title: str = Field("", description="The word that was found.")
    say: str = Field("", description="What to say instead.")
    why: str = Field("", description="Why.")


class CheckOutput(BaseModel):
    items: list[Finding] = Field([], description="The words to be changed.")
    count: int = Field(0, description="How many there are.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: CheckSettings, context: Context) -> Result:
    """Look for every word that has another instead of it, whole and whatever its capitals."""
    found = []
    for term in read(context.web, context.connect(settings.termbase, "termbase")).terms:
        for word in term.instead_of:
            if re.search(rf"(?<!\w){re.escape(word)}(?!\w)", settings.text, re.IGNORECASE):
                found.append({"title": word, "say": term.say, "why": term.why})
    text = "\n".join(f"Say “{one['say']}” instead of “{one['title']}”. {one['why']}".strip() for one in found)
    return Result({"items": found, "count": len(found), "text": text})


KIND = Performs(
    name="check_terms",
    stage="gather",
    title="Check the terms",
    about="Finds words that your house has agreed not to use, and says what to say instead.",
    sentence="Check {text} against {termbase}",
    offer="Check the terms with {termbase}",
    words="glossary wording brand language style words",
    called="terms",
    settings=CheckSettings,
    output=CheckOutput,
    perform=perform,
    brief="{count} words to change",
)
