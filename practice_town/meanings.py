"""What the practice model takes words to mean: words of one kind point the same way, all others each their own."""

from __future__ import annotations

import math
import re
import zlib

from .words import STOP

_KINDS = """
bean beans pea peas legume legumes lentil pulse pulses
seed seeds sow sown sowing plant plants planting germinate seedling seedlings packet packets
tomato tomatoes leek leeks onion onions kale cabbage carrot vegetable vegetables crop crops
flower flowers bloom blooms blossom petal petals bouquet
dry drought thirsty arid parched water watering rain wet damp moisture
boat boats barge barges narrowboat hull craft vessel
lock locks canal canals towpath waterway waterways mooring quay
school schools pupil pupils teacher teachers children child nursery class classes lesson lessons education
print printer printed printing press paper label labels packaging ink
measure measured meter meters instrument instruments gauge sensor calibrate calibration calibrated
slope slopes hill hills terrace terraces valley hillside
hire hired rent rental holiday holidays guest guests visitor visitors trip tour
frost winter cold ice snow freezing
recipe cook kitchen soup bread meal
"""
KINDS = [frozenset(line.split()) for line in _KINDS.strip().splitlines()]
OWN = 64
_WORD = re.compile(r"[a-z]{3,}")


def vector(text: str) -> list[float]:
    """A vector of length one for a text: what its words mean, and a little of which they are."""
    out = [0.0] * (len(KINDS) + OWN)
    for word in _WORD.findall(text.lower()):
        if word in STOP:
            continue
        for n, kind in enumerate(KINDS):
            if word in kind:
                out[n] += 1.0
        out[len(KINDS) + zlib.crc32(word.encode()) % OWN] += 0.25
    length = math.sqrt(sum(x * x for x in out)) or 1.0
    return [round(x / length, 6) for x in out]
