"""``python -m practice_town``: run the town until standard input closes or a signal comes."""

from __future__ import annotations

import argparse
import signal
import sys
import threading
from pathlib import Path

from .app import Town


def main() -> None:
    """Parse the command line and serve."""
    parser = argparse.ArgumentParser(prog="practice_town", description="The simulated outside world of Ulmus.")
    parser.add_argument("--data", type=Path, default=None, help="folder to keep posts and mail in")
    parser.add_argument("--port", type=int, default=8421)
    parser.add_argument("--smtp-port", type=int, default=8425)
    parser.add_argument("--imap-port", type=int, default=0, help="port of the office's mailbox; 0 for none")
    parser.add_argument("--with-parent", action="store_true", help="stop when standard input closes")
    parser.add_argument("--habits", default="", help="habits of the practice model at first start, e.g. length=30,pace=25")
    options = parser.parse_args()
    new = options.data is None or not (options.data / "town.json").exists()
    town = Town(options.data, options.port, options.smtp_port, options.imap_port).start()
    if new and options.habits:
        town.state.habits.update({k: int(v) for k, v in (pair.split("=") for pair in options.habits.split(","))})
    print(f"The practice town is open at {town.url}", flush=True)
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    if options.with_parent:
        threading.Thread(target=lambda: (sys.stdin.read(), stop.set()), daemon=True).start()
    stop.wait()
    town.stop()


if __name__ == "__main__":
    main()
