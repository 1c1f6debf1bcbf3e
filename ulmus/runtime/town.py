"""Starting the practice town, a process of its own."""

from __future__ import annotations

import importlib.util
import socket
import subprocess
import sys
import time
from pathlib import Path

_TRIES = 20
NEEDED = ("aiosmtpd", "pymap", "wsgidav")
"""What only the town needs; it comes with an extra of the distribution."""


def start_town(folder: Path, port: int, smtp_port: int, imap_port: int = 0, tries: int = _TRIES) -> subprocess.Popen[str]:
    """Start the town as a process of its own that ends with this one, without a mailbox where it has no port. Raises `OSError` where it cannot use its ports."""
    lacking = [name for name in NEEDED if importlib.util.find_spec(name) is None]
    if lacking:
        raise OSError(f"The practice town lacks {', '.join(lacking)}. Install ulmus[demo] instead of ulmus alone.")
    folder.mkdir(parents=True, exist_ok=True)
    ports = ["--port", str(port), "--smtp-port", str(smtp_port), "--imap-port", str(imap_port)]
    arguments = ["--data", str(folder), *ports, "--with-parent", "--habits", "length=30,quotes=10,emoji=5"]
    for left in range(tries, 0, -1):
        process = subprocess.Popen(
            [sys.executable, "-m", "practice_town", *arguments], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert process.stdout is not None
        if "open at" in process.stdout.readline():
            return process
        process.wait(5)
        if left > 1:
            time.sleep(0.5)
    raise OSError(f"The practice town cannot use its ports ({port}, {smtp_port}{f', {imap_port}' if imap_port else ''}).")


def is_free(port: int) -> bool:
    """Whether nobody listens at a port of this machine."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True
