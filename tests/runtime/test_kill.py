"""Killed at any moment (SIGKILL), started again: nothing is lost, nothing is sent twice. The short trial."""

from __future__ import annotations

from tests.runtime.crash import CrashTrial


class ShortTrial(CrashTrial):
    runs, kills = 3, 5


del CrashTrial  # the trial itself is run by its subclasses only
