"""One HTTP exchange by libcurl, over a connection that is kept open and used again.

A `Line` is used by one thread at a time. What it is handed is sent as it is; what comes back is handed on piece by piece.
What may be fetched, and what an error means to a person, is said elsewhere.
"""

from __future__ import annotations

import ssl
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import certifi

_AUTHORITIES = ssl.get_default_verify_paths()
"""The certificate authorities this machine trusts, as everywhere on it; the well-known ones where it names none."""


@dataclass(frozen=True)
class Request:
    """What is sent. `address` is the checked address to connect to, whatever the name in `url` leads to by now; seconds are
    for connecting, for the whole, and (`silence`, 0 for none) for how long nothing may come. With `alone`, no connection is used
    again: then libcurl never sends twice."""

    method: str
    url: str
    headers: Mapping[str, str]
    body: bytes | None
    host: str
    port: int
    address: str
    connect_seconds: float
    seconds: float
    alone: bool = False
    silence: float = 0.0


@dataclass
class Head:
    """Status and headers (names in small letters; several of a name joined by commas)."""

    status: int = 0
    headers: dict[str, str] = field(default_factory=dict)


class Broken(Exception):
    """The exchange did not come to its end. `code` is libcurl's; `connected` is whether there was a connection."""

    def __init__(self, code: int, connected: bool) -> None:
        super().__init__(code)
        self.code = code
        self.connected = connected


class Line:
    """A libcurl handle with the connection it keeps."""

    def __init__(self) -> None:
        import pycurl  # loaded on first use: it is large

        self._curl = pycurl.Curl()

    def close(self) -> None:
        """Close the connection."""
        self._curl.close()

    def exchange(self, request: Request, take: Callable[[Head, bytes], None], stopped: Callable[[], bool] | None = None) -> Head:
        """Send and read to the end; `take` gets the decoded body piece by piece. Raises `Broken`, or what `take` raised."""
        import pycurl

        lines: list[bytes] = []
        heads: list[Head] = []
        wrong: list[BaseException] = []

        heard = time.monotonic()

        def silent() -> bool:
            return bool(request.silence) and time.monotonic() - heard > request.silence

        def write(piece: bytes) -> int | None:
            nonlocal heard
            heard = time.monotonic()
            if not heads:
                heads.append(_head(lines))
            try:
                take(heads[0], piece)
            except BaseException as error:
                wrong.append(error)
                return 0
            return None

        curl = self._curl
        curl.reset()
        self._set(request)
        curl.setopt(pycurl.HEADERFUNCTION, lines.append)
        curl.setopt(pycurl.WRITEFUNCTION, write)
        if stopped is not None or request.silence:
            curl.setopt(pycurl.NOPROGRESS, False)
            curl.setopt(pycurl.XFERINFOFUNCTION, lambda *_: silent() or (stopped is not None and stopped()))
        try:
            curl.perform()
        except pycurl.error as error:
            if wrong:
                raise wrong[0] from None
            if (
                error.args[0] == pycurl.E_RECV_ERROR
                and heads
                and not {"content-length", "transfer-encoding"} & heads[0].headers.keys()
            ):
                # An answer that goes on to the end of its connection, which the server ended without the farewell TLS asks for.
                return heads[0]
            code = pycurl.E_OPERATION_TIMEDOUT if silent() else int(error.args[0])
            raise Broken(code, curl.getinfo(pycurl.PRETRANSFER_TIME) > 0) from None
        return heads[0] if heads else _head(lines)

    def _set(self, request: Request) -> None:
        import pycurl

        set_ = self._curl.setopt
        set_(pycurl.URL, request.url.encode())
        set_(pycurl.NOSIGNAL, True)
        set_(pycurl.PROXY, "")
        set_(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        set_(pycurl.ACCEPT_ENCODING, "gzip, deflate")
        where = f"[{request.address}]" if ":" in request.address else request.address
        set_(pycurl.CONNECT_TO, [f"{request.host}:{request.port}:{where}:{request.port}"])
        set_(pycurl.CONNECTTIMEOUT_MS, int(request.connect_seconds * 1000))
        set_(pycurl.TIMEOUT_MS, max(1, int(request.seconds * 1000)))
        set_(pycurl.MAXCONNECTS, 1)
        if request.url.startswith("https:"):
            set_(pycurl.CAINFO, _AUTHORITIES.cafile or certifi.where())
            if _AUTHORITIES.capath:
                set_(pycurl.CAPATH, _AUTHORITIES.capath)
        headers = [f"{name}: {value}" if value else f"{name};" for name, value in request.headers.items()]
        if request.body is not None:
            set_(pycurl.POSTFIELDS, request.body)
            headers += ["Expect:", *([] if "Content-Type" in request.headers else ["Content-Type:"])]
        if request.method == "HEAD":
            set_(pycurl.NOBODY, True)
        elif request.method != ("GET" if request.body is None else "POST"):
            set_(pycurl.CUSTOMREQUEST, request.method)
        set_(pycurl.HTTPHEADER, [header.encode("latin-1") for header in headers])
        set_(pycurl.FRESH_CONNECT, request.alone)


def _head(lines: list[bytes]) -> Head:
    """The last head among header lines: those of interim answers (1xx) come before it."""
    head = Head()
    for line in lines:
        if line.startswith(b"HTTP/"):
            parts = line.split(None, 2)
            head = Head(int(parts[1]) if len(parts) > 1 and parts[1].isdigit() else 0)
        else:
            name, colon, value = line.decode("latin-1").partition(":")
            if colon:
                name, value = name.strip().lower(), value.strip()
                head.headers[name] = f"{head.headers[name]}, {value}" if name in head.headers else value
    return head
