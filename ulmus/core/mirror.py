"""A sheet that stands in a file elsewhere: what changed there and what changed here since both were alike, brought together.

Rows have no names in a file. They are told by what they say, and by where they stand between others that stayed. Where a cell was
changed on both sides, the file's stays, since nothing else remembers it; what was written here is told, and kept in the row's history.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher

Cells = Mapping[str, str]


@dataclass(frozen=True)
class Base:
    """A row when both sides were alike: its number here, what the file said, and what stood here (put as the types are)."""

    row: int
    there: Cells
    here: Cells


@dataclass
class Merged:
    """What is to be done. Here: cells to `put` by row, rows to `add` (by their index in the file) and to `drop`. In the file: `cells` to
    write (index, column, text), `lines` to take out, rows to `append`. `pairs` says which row of the file is which here; `told`
    what was changed on both sides: row, column, and what stood here."""

    put: dict[int, dict[str, str]] = field(default_factory=dict)
    add: list[int] = field(default_factory=list)
    drop: list[int] = field(default_factory=list)
    cells: list[tuple[int, str, str]] = field(default_factory=list)
    lines: list[int] = field(default_factory=list)
    append: list[int] = field(default_factory=list)
    pairs: dict[int, int] = field(default_factory=dict)
    told: list[tuple[int, str, str]] = field(default_factory=list)

    @property
    def changes_file(self) -> bool:
        """Whether the file has to be written."""
        return bool(self.cells or self.lines or self.append)


def merge(
    base: Sequence[Base],
    there: Sequence[Cells],
    here: Mapping[int, Cells],
    names: Sequence[str],
    written: Callable[[str], str] = str,
) -> Merged:
    """Bring a file's rows (`there`) and ours (`here`, by number) together; `names` are the columns that count, `written` is how a text of
    ours stands in the file."""
    out = Merged()
    matched, fresh = _aligned(base, there, names)
    known = {one.row for one in base}
    # A row that was sent to the file before a break stands there already.
    waiting = {row: cells for row, cells in here.items() if row not in known}
    for index in fresh:
        same = next(
            (row for row, cells in waiting.items() if tuple(map(written, _said(cells, names))) == _said(there[index], names)), None
        )
        if same is None:
            out.add.append(index)
        else:
            out.pairs[index] = same
            del waiting[same]
    for one in base:
        at = matched.get(one.row)
        ours = here.get(one.row)
        if at is None and ours is None:
            continue
        if at is None:
            out.drop.append(one.row)
            assert ours is not None
            out.told += [(one.row, name, str(ours.get(name, ""))) for name in names if _differs(ours, one.here, name)]
        elif ours is None:
            if any(_differs(there[at], one.there, name) for name in names):
                out.add.append(at)  # taken away here, changed there: it comes back
            else:
                out.lines.append(at)
        else:
            out.pairs[at] = one.row
            _merge_row(out, one, at, there[at], ours, names, written)
    out.append = list(waiting)
    return out


def _merge_row(
    out: Merged, base: Base, at: int, there: Cells, here: Cells, names: Sequence[str], written: Callable[[str], str]
) -> None:
    for name in names:
        theirs, ours = str(there.get(name, "")), str(here.get(name, ""))
        moved_there, moved_here = _differs(there, base.there, name), _differs(here, base.here, name)
        if written(ours) == theirs:
            continue
        if moved_there:
            out.put.setdefault(base.row, {})[name] = theirs
            if moved_here:
                out.told.append((base.row, name, ours))
        elif moved_here:
            out.cells.append((at, name, ours))


def _differs(one: Cells, other: Cells, name: str) -> bool:
    return str(one.get(name, "") or "") != str(other.get(name, "") or "")


def _said(cells: Cells, names: Sequence[str]) -> tuple[str, ...]:
    return tuple(str(cells.get(name, "") or "") for name in names)


def _aligned(base: Sequence[Base], there: Sequence[Cells], names: Sequence[str]) -> tuple[dict[int, int], list[int]]:
    """For each row of the base where it stands in the file now, and the rows of the file that are new."""
    before = [_said(one.there, names) for one in base]
    after = [_said(cells, names) for cells in there]
    matched: dict[int, int] = {}
    fresh: list[int] = []
    left: list[int] = []
    for tag, a, b, c, d in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
        if tag == "equal":
            matched |= {base[a + n].row: c + n for n in range(b - a)}
            continue
        pairs = _paired(before[a:b], after[c:d])
        matched |= {base[a + i].row: c + j for i, j in pairs.items()}
        fresh += [c + j for j in range(d - c) if j not in pairs.values()]
        left += [a + i for i in range(b - a) if i not in pairs]
    # What went at one place and came at another, word for word, was moved.
    for i in left:
        j = next((j for j in fresh if after[j] == before[i]), None)
        if j is not None:
            matched[base[i].row] = j
            fresh.remove(j)
    return matched, fresh


def _paired(before: Sequence[tuple[str, ...]], after: Sequence[tuple[str, ...]]) -> dict[int, int]:
    """Rows of a stretch that changed: first those that are most alike, so that one that came between others is not taken for them."""
    if len(before) * len(after) > 40_000:
        return {i: i for i in range(min(len(before), len(after)))}
    scored = sorted(
        (
            (-sum(x == y and bool(x) for x, y in zip(one, other, strict=True)), abs(i - j), i, j)
            for i, one in enumerate(before)
            for j, other in enumerate(after)
        ),
    )
    pairs: dict[int, int] = {}
    taken: set[int] = set()
    for score, _, i, j in scored:
        # Rows of which no cell stayed are told only by their places, where as many went as came.
        if i not in pairs and j not in taken and (score < 0 or len(before) == len(after)):
            pairs[i] = j
            taken.add(j)
    return pairs
