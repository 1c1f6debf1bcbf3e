"""How a figure is told: beside its target, as a ratio, and whether it is met."""

from __future__ import annotations


def tell(what: str, figure: float, unit: str, target: float | None, more: str = "", least: bool = False) -> None:
    """One line. `least`: the target is the least the figure may be, not the most."""
    judged = ""
    if target is not None:
        met = figure >= target if least else figure <= target
        side = "at least" if least else "at most"
        judged = f"{side} {target:g} {unit}, ratio {figure / target:.2f}, {'met' if met else 'MISSED'}"
    print(f"{what:<58} {figure:9.1f} {unit:<3} {judged} {more}".rstrip(), flush=True)
