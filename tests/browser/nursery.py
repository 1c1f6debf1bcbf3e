"""Demonstrations begun from a process that has loaded all they need: each is a fork of it, so that loading is done once for all tests.

``python -m tests.browser.nursery`` reads a line of JSON for each (``{"arguments": […], "out": path}``) and answers with its process id.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

PATIENCE = 60.0


class Nursery:
    """The process that begins them."""

    def __init__(self) -> None:
        command = [sys.executable, "-m", "tests.browser.nursery"]
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        self._line()

    def begin(self, arguments: list[str], out: Path) -> int:
        """Begin one, what it prints going to a file; gives its process id."""
        assert self.process.stdin is not None
        self.process.stdin.write(json.dumps({"arguments": arguments, "out": str(out)}) + "\n")
        self.process.stdin.flush()
        return int(self._line())

    def _line(self) -> str:
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        if not line:
            raise RuntimeError("the process that begins demonstrations has ended")
        return line.strip()

    def close(self) -> None:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.close()
        self.process.wait(20)
        self.process.stdout.close()


def ended(pid: int, within: float) -> bool:
    """Whether a process has ended, waited for so many seconds."""
    end = time.monotonic() + within
    while time.monotonic() < end:
        try:
            os.kill(pid, 0)
        except ProcessLookupError:
            return True
        time.sleep(0.02)
    return False


def main() -> None:
    """Load everything, then fork for each line that comes."""
    import ulmus.demo
    import ulmus.server  # noqa: F401
    from ulmus.cli import main as command

    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # those that ended leave nothing behind
    print("ready", flush=True)
    for line in sys.stdin:
        told = json.loads(line)
        pid = os.fork()
        if pid:
            print(pid, flush=True)
            continue
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        nothing = os.open(os.devnull, os.O_RDWR)
        for number, target in ((0, nothing), (1, os.open(told["out"], os.O_WRONLY | os.O_CREAT | os.O_TRUNC)), (2, nothing)):
            os.dup2(target, number)
        try:
            command(["demo", *told["arguments"]], standalone_mode=False)
        finally:
            sys.stdout.flush()
            os._exit(0)


if __name__ == "__main__":
    main()
