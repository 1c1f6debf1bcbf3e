"""Sending a draft back to the model: with measured reasons, or with a person's note."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from .rules import Finding

Messages = tuple[dict[str, str], ...]


def reasons_message(messages: Messages, draft: str, findings: Sequence[Finding], since: Sequence[Finding] = ()) -> Messages:
    """The conversation that asks for a draft that keeps the broken rules, and still those that were kept. `findings` are those
    of `draft`; `since` those of a later answer that broke more."""
    broken = [f for f in findings if not f.kept and f.strength == "must"]
    kept = dict.fromkeys(f.says for f in findings if f.kept)
    ask = "Your draft broke these rules:\n" + "\n".join(f"- {f.reason}" for f in broken)
    if later := dict.fromkeys(f.reason for f in since if not f.kept and f.strength == "must"):
        ask += "\n\nAnother answer of yours broke others; mind them too:\n" + "\n".join(f"- {reason}" for reason in later)
    if kept:
        ask += "\n\nThis is as it should be and must stay so: " + "; ".join(kept) + "."
    ask += "\n\nWrite it again so that every rule is kept. Change nothing else. Answer with the piece alone."
    return (*messages, {"role": "assistant", "content": draft}, {"role": "user", "content": ask})


def note_message(messages: Messages, draft: str, notes: Sequence[str]) -> Messages:
    """The conversation that asks for a rewrite after a person's notes; the last note is the newest."""
    *earlier, latest = notes
    ask = f"The editor sent your draft back with this note:\n{latest}\n"
    if earlier:
        ask += "\nEarlier notes, which still hold:\n" + "\n".join(f"- {n}" for n in earlier) + "\n"
    ask += "\nWrite it again. Do what the note says, keep all rules, and leave alone what the note does not touch."
    return (*messages, {"role": "assistant", "content": draft}, {"role": "user", "content": ask})


def best_round(detail: Mapping[str, Any]) -> Mapping[str, Any]:
    """The round of a draft that counts: the best of them, which is the last where nothing else is noted; empty where there is
    none."""
    rounds = detail.get("rounds") or []
    return rounds[int(detail.get("best", len(rounds) - 1))] if rounds else {}
