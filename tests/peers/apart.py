"""The command line with a clock that is wrong: ``python -m tests.peers.apart SECONDS worker …``."""

from __future__ import annotations

import datetime as dt
import sys

import time_machine


def main() -> None:
    """Shift the clock of this process (not its monotonic one), and do what the rest of the line says."""
    apart = dt.timedelta(seconds=float(sys.argv.pop(1)))
    if apart:
        time_machine.travel(dt.datetime.now(dt.UTC) + apart, tick=True).start()
    from ulmus.cli import main as ulmus

    ulmus()


if __name__ == "__main__":
    main()
