"""Two states of a page set against each other, line by line and setting by setting."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from .edits import places
from .kinds import Kinds
from .model import Lane, Line, Workflow


@dataclass(frozen=True)
class SettingChange:
    """A setting that differs, by its title, as texts."""

    title: str
    before: str
    after: str


@dataclass(frozen=True)
class LineChange:
    """What became of a line: added, removed, moved, changed. `line` is how it stands after, or stood before it went; of one that was
    added, `settings` are those with values in them."""

    what: Literal["added", "removed", "moved", "changed"]
    line: Line
    settings: list[SettingChange] = field(default_factory=list)


def compare(before: Workflow, after: Workflow, kinds: Kinds) -> list[LineChange]:
    """What is different in `after`, from top to bottom; lines that went stand last."""
    old = {line.id: line for line in before.lines}
    moved = _moved(before, after)
    out = []
    for line in after.lines:
        was = old.get(line.id)
        if was is None or was.kind != line.kind:
            blank = line.model_copy(update={"settings": {}})
            out.append(LineChange("added", line, [one for one in _settings(blank, line, kinds) if "<<" in one.after]))
            continue
        settings = _settings(was, line, kinds)
        if settings:
            out.append(LineChange("changed", line, settings))
        elif line.id in moved:
            out.append(LineChange("moved", line))
    kept = {line.id: line for line in after.lines}
    out += [LineChange("removed", line) for line in before.lines if line.id not in kept or kept[line.id].kind != line.kind]
    return out


def page_changes(before: Workflow, after: Workflow) -> list[SettingChange]:
    """What differs of the page as a whole: its name, brand and limits."""
    found = [("Name", before.name, after.name), ("Brand", before.brand or "none", after.brand or "none")]
    limits = before.limits.model_dump(mode="json"), after.limits.model_dump(mode="json")
    found += [(f"Limit: {name.replace('_', ' ')}", _text(limits[0][name]), _text(limits[1][name])) for name in limits[0]]
    return [SettingChange(title, a, b) for title, a, b in found if a != b]


def _moved(before: Workflow, after: Workflow) -> set[str]:
    """Steps that stand elsewhere: in another block, or in another order among those that were there before."""
    both = {line.id for line in before.every_step} & {line.id for line in after.every_step}
    old, new = places(before), places(after)
    moved = {name for name in both if old[name].parent != new[name].parent}
    a = [line.id for line in before.every_step if line.id in both - moved]
    b = [line.id for line in after.every_step if line.id in both - moved]
    at = {name: n for n, name in enumerate(a)}
    keep = _in_order([at[name] for name in b])
    return moved | {name for n, name in enumerate(b) if n not in keep}


def _in_order(numbers: list[int]) -> set[int]:
    """The positions of a longest run of growing numbers: what need not have moved."""
    best: list[tuple[int, int]] = []  # length of the best run ending here, and where it came from
    for i, number in enumerate(numbers):
        before = max(((best[j][0], j) for j in range(i) if numbers[j] < number), default=(0, -1))
        best.append((before[0] + 1, before[1]))
    at = max(range(len(best)), key=lambda i: best[i][0], default=-1)
    keep = set()
    while at >= 0:
        keep.add(at)
        at = best[at][1]
    return keep


def _settings(was: Line, now: Line, kinds: Kinds) -> list[SettingChange]:
    spec = kinds.get(now.kind)
    fields = spec.settings.model_fields if spec else {}
    out = []
    for name in [*fields, *(set(was.settings) | set(now.settings)) - set(fields)]:
        default = fields[name].get_default(call_default_factory=True) if name in fields and not fields[name].is_required() else None
        a, b = was.settings.get(name, default), now.settings.get(name, default)
        if _text(a) != _text(b):
            out.append(SettingChange((fields[name].title if name in fields else None) or name, _text(a), _text(b)))
    if was.muted != now.muted:
        out.append(SettingChange("Muted", "yes" if was.muted else "no", "yes" if now.muted else "no"))
    if was.on_failure != now.on_failure:
        a, b = was.on_failure.model_dump(exclude_defaults=True), now.on_failure.model_dump(exclude_defaults=True)
        out.append(SettingChange("If it fails", _text(a), _text(b)))
    before, after = [_lane(lane) for lane in was.lanes], [_lane(lane) for lane in now.lanes]
    if before != after:
        out.append(SettingChange("Lanes", "\n".join(before), "\n".join(after)))
    return out


def _lane(lane: Lane) -> str:
    return f"{lane.id}: {lane.when or 'otherwise'}{' (muted)' if lane.muted else ''}"


def _text(value: Any) -> str:
    if value is None:
        return ""
    if hasattr(value, "model_dump"):
        value = value.model_dump(mode="json")
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return "\n".join(f"{name}: {_text(one)}" for name, one in value.items() if one not in (None, "", []))
    if isinstance(value, list):
        return "\n".join(_text(one) for one in value)
    return str(value)
