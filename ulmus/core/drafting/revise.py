"""Sending a draft back to the model: with measured reasons, or with a person's note."""

from __future__ import annotations

from collections.abc import Sequence

from .rules import Finding

Messages = tuple[dict[str, str], ...]


def reasons_message(messages: Messages, draft: str, findings: Sequence[Finding]) -> Messages:
    """The conversation that asks for a draft that keeps the broken rules."""
    reasons = "\n".join(f"- {f.reason}" for f in findings)
    ask = f"Your draft broke these rules:\n{reasons}\n\nWrite it again so that every rule is kept. Change nothing else."
    return (*messages, {"role": "assistant", "content": draft}, {"role": "user", "content": ask})


def note_message(messages: Messages, draft: str, notes: Sequence[str]) -> Messages:
    """The conversation that asks for a rewrite after a person's notes; the last note is the newest."""
    *earlier, latest = notes
    ask = f"The editor sent your draft back with this note:\n{latest}\n"
    if earlier:
        ask += "\nEarlier notes, which still hold:\n" + "\n".join(f"- {n}" for n in earlier) + "\n"
    ask += "\nWrite it again. Do what the note says, keep all rules, and leave alone what the note does not touch."
    return (*messages, {"role": "assistant", "content": draft}, {"role": "user", "content": ask})
