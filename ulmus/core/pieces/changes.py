"""What a person may change of a piece itself, beside the text that drafts wrote: its title or subject, its tags, which pictures, its
button, and when it `goes` (seconds since the epoch; nothing: as its line says)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from .forms import FormName, read

CHANGEABLE: dict[FormName, tuple[str, ...]] = {
    "post": ("tags", "pictures"),
    "article": ("title", "categories", "pictures"),
    "listing": ("button", "link", "pictures"),
    "letter": ("subject",),
    "mailing": ("subject",),
}
"""The parts by form. Pictures are chosen of those there are, by their numbers from 1, in the order they are to have."""
MOST = 50
LATEST = 253_402_300_800
"""The end of the year 9999, in seconds since the epoch."""


def changed(form: FormName, content: Mapping[str, Any], change: Mapping[str, Any]) -> dict[str, Any]:
    """A piece's content with a change in it. Raises `ValueError` with words where that cannot be."""
    out = dict(content)
    for name, value in change.items():
        if name == "goes":
            if value is not None and not (isinstance(value, int | float) and not isinstance(value, bool) and 0 < value < LATEST):
                raise ValueError("This is no time it could go out.")
            continue
        if name not in CHANGEABLE.get(form, ()):
            raise ValueError(f"“{name}” of this piece cannot be changed here.")
        if name == "pictures":
            there = read(form, content).model_dump(mode="json")["pictures"]
            numbers = value if isinstance(value, list) else []
            if len(set(numbers)) != len(numbers) or not all(isinstance(n, int) and 1 <= n <= len(there) for n in numbers):
                raise ValueError("These pictures are not there (any more). Look again.")
            out[name] = [there[n - 1] for n in numbers]
        elif name in ("tags", "categories"):
            words = value if isinstance(value, list) else []
            out[name] = list(dict.fromkeys(str(word).strip()[:200] for word in words[:MOST] if str(word).strip()))
        elif name in ("title", "subject"):
            out[name] = _one_line(form, out, value)
        else:
            out[name] = str(value).strip()[:2000]
    read(form, out)
    return out


def _one_line(form: FormName, content: dict[str, Any], value: Any) -> str:
    """A title or subject. That of a mailing is the same for all its readers, or it cannot be changed here; its first letter bears it
    too."""
    said = " ".join(str(value).split())[:500]
    if not said:
        raise ValueError("It needs some words. Write them, or leave it as it is.")
    if form == "mailing":
        if content.get("word") and content["word"] in content.get("subject", ""):
            raise ValueError("This subject has something of each reader in it. Change it on its line.")
        content["first"] = {**content.get("first", {}), "subject": said}
    return said
