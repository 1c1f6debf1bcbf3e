"""HTTP with a guard: addresses are checked after name resolution, for each redirect too, and the address that was checked is
the one connected to; size, time and number of redirects are limited.

Connections are kept open and used again; no cookies are kept, and no proxy is used that the environment names.
"""

from __future__ import annotations

import datetime as dt
import json as json_
import re
import socket
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from math import inf
from typing import Any
from urllib.parse import urlencode, urljoin, urlsplit

from urllib3.exceptions import LocationParseError
from urllib3.util import parse_url

from .errors import (
    BadAnswer,
    Misconfigured,
    NotFound,
    OutsideError,
    RateLimited,
    Refused,
    RefusedAddress,
    Stopped,
    TooLarge,
    Unreachable,
)
from .exchange import Broken, Head, Line, Request
from .guard import is_inner
from .memory import Memory

USER_AGENT = "Ulmus/0.1 (+workflow reader)"
MAX_BYTES = 8_000_000
MAX_SECONDS = 30.0
MAX_CONNECT_SECONDS = 10.0
MAX_REDIRECTS = 5
REDIRECTS = (301, 302, 303, 307, 308)
MOST_SERVERS, MOST_LINES = 200, 100
"""Servers with open connections, and open connections to each."""
RESOLVED_SECONDS = 30.0
"""How long the addresses of a name are taken to be the same."""
PORTS = {"http": 80, "https": 443}
NO_KEYS = frozenset(("user-agent", "accept", "content-type", "depth", "if-none-match", "if-modified-since", "idempotency-key"))
"""Headers that go along to another host; any other may be a key by whatever name a service gives it."""
_UNSAFE = re.compile(r"[\r\n\0]")


@dataclass(frozen=True)
class Fetched:
    """A response: final address, status, lower-case headers, and the body, where it was read whole."""

    url: str
    status: int
    headers: Mapping[str, str]
    body: bytes = b""

    @property
    def content_type(self) -> str:
        """The media type without parameters, in small letters."""
        return self.headers.get("content-type", "").split(";")[0].strip().lower()

    @property
    def charset(self) -> str | None:
        """The declared charset, if any."""
        for part in self.headers.get("content-type", "").split(";")[1:]:
            name, _, value = part.strip().partition("=")
            if name.lower() == "charset":
                return value.strip("\"' ") or None
        return None


class Enough(Exception):
    """Raised by whoever takes the pieces of a body: the rest is not wanted."""


Take = Callable[[Fetched, bytes], None]


def never() -> bool:
    """Nothing is stopped."""
    return False


class Web:
    """An HTTP client that all protocols share. Thread-safe; close it when done. `allowed` are hosts (``host:port``) of the
    owner's own, exempt from the address guard. `rejected` hears of an Authorization header that was not accepted (401)."""

    def __init__(self, allowed: Iterable[str] = ()) -> None:
        self.allowed = frozenset(allowed)
        self._lock = threading.Lock()
        self._free: OrderedDict[tuple[str, str, int], list[Line]] = OrderedDict()
        self._found: dict[tuple[str, int], tuple[float, list[str]]] = {}
        self._memories: dict[str, Memory[Any, Any]] = {}
        self._closed = False
        self.rejected: Callable[[str], None] = lambda header: None

    def memory(self, name: str, most: int, seconds: float = inf) -> Memory[Any, Any]:
        """What a client remembers of the outside, by a name of its own: at most so many things, for at most so many seconds."""
        with self._lock:
            return self._memories.setdefault(name, Memory(most, seconds))

    def close(self) -> None:
        """Close all connections."""
        with self._lock:
            self._closed = True
            for lines in self._free.values():
                for line in lines:
                    line.close()
            self._free.clear()

    def fetch(
        self,
        url: str,
        *,
        method: str = "GET",
        headers: Mapping[str, str] | None = None,
        json: Any = None,
        data: Mapping[str, Any] | None = None,
        content: bytes | None = None,
        max_bytes: int = MAX_BYTES,
        max_seconds: float = MAX_SECONDS,
        take: Take | None = None,
        stopped: Callable[[], bool] = never,
        again: bool = False,
        follow: tuple[int, ...] = REDIRECTS,
        silence: float = 0.0,
    ) -> Fetched:
        """Fetch `url`. Raises `OutsideError` for anything but an answer; statuses are not judged. Redirects of the statuses
        `follow` are followed, others are given back as they are.

        With `take`, the body is handed on as it comes in and not kept; it may raise `Enough`. `stopped` is asked now and then
        whether to give up. `again`: asking twice does no harm, though the method may change something; then a connection is
        used again, and a request whose connection turns out to be dead is sent once more on another. With `silence`, an answer is
        given up of which nothing came for so many seconds.
        """
        check_url(url)
        sent = {"User-Agent": USER_AGENT, "Accept": "*/*", **(headers or {})}
        body = content
        if json is not None:
            body = json_.dumps(json, ensure_ascii=False, separators=(",", ":")).encode()
            sent.setdefault("Content-Type", "application/json")
        elif data is not None:
            body = urlencode(data, doseq=True).encode()
            sent.setdefault("Content-Type", "application/x-www-form-urlencoded")
        elif body is None and method in ("POST", "PUT", "PATCH"):
            body = b""
        deadline = time.monotonic() + max_seconds
        for _ in range(MAX_REDIRECTS + 1):
            reading = _Reading(url, max_bytes, take)
            head = self._ask(method, url, sent, body, deadline, max_seconds, reading, stopped, again, silence)
            place = head.headers.get("location")
            if head.status not in follow or not place:
                if head.status == 401 and sent.get("Authorization"):
                    self.rejected(sent["Authorization"])
                return Fetched(url, head.status, head.headers, b"".join(reading.pieces))
            # RFC 9110 section 15.4; keys stay with the host they are for.
            before, url = url, urljoin(url, place)
            if head.status in (301, 302, 303) and method != "HEAD":
                method, body = "GET", None
                sent.pop("Content-Type", None)
            if urlsplit(url)[:2] != urlsplit(before)[:2]:
                sent = {k: v for k, v in sent.items() if k.lower() in NO_KEYS}
            check_redirect(url)
        raise Refused(f"“{urlsplit(url).hostname}” redirects more than {MAX_REDIRECTS} times.")

    def _ask(
        self,
        method: str,
        url: str,
        headers: Mapping[str, str],
        body: bytes | None,
        deadline: float,
        max_seconds: float,
        reading: _Reading,
        stopped: Callable[[], bool],
        again: bool,
        silence: float,
    ) -> Head:
        """One exchange, without redirects, with errors told in words."""
        parts = self._safe(url, method, headers)
        host, port = parts.host.strip("[]"), parts.port or PORTS[parts.scheme]
        changing = method not in ("GET", "HEAD", "PROPFIND")
        place = (parts.scheme, host, port)
        address = self.reach(host, port)
        left = max(0.001, deadline - time.monotonic())
        request = Request(
            method,
            parts.url,
            headers,
            body,
            parts.host,
            port,
            address,
            min(MAX_CONNECT_SECONDS, left),
            left,
            changing and not again,
            silence,
        )
        line = self._line(place)
        try:
            head = line.exchange(request, reading.take, None if stopped is never else stopped)
        except Broken as broken:
            line.close()
            was_silent = bool(silence) and time.monotonic() < deadline - 0.5
            raise _told(broken, host, silence if was_silent else max_seconds, bool(reading.size), changing, was_silent) from None
        except Enough:
            line.close()
            return Head(reading.status, dict(reading.headers))
        except BaseException:
            line.close()
            raise
        self._back(place, line)
        return head

    def _safe(self, url: str, method: str, headers: Mapping[str, str]) -> Any:
        """The address in its parts, written as RFC 3986 has it. Raises `OutsideError` where something cannot be sent."""
        host = urlsplit(url).hostname
        try:
            parts = parse_url(url)
            parts = parts._replace(fragment=None)
            if any(_UNSAFE.search(text) for text in (method, *headers, *headers.values())) or not parts.host:
                raise ValueError
            for value in headers.values():
                value.encode("latin-1")
        except (ValueError, LocationParseError):
            raise OutsideError(
                f"The request to “{host}” cannot be sent: a key or address holds a character that is not allowed."
            ) from None
        return parts

    def reach(self, host: str, port: int) -> str:
        """The address to connect to for a host, past the guard, for whatever protocol. Raises `OutsideError` where there is none, or one that is not fetched."""
        now = time.monotonic()
        kept = self._found.get((host, port))
        if kept is None or now - kept[0] > RESOLVED_SECONDS:
            try:
                found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
            except (OSError, UnicodeError):
                raise Unreachable(f"No server called “{host}” was found.", retryable=True) from None
            if len(self._found) > 10 * MOST_SERVERS:
                self._found.clear()
            kept = self._found[host, port] = (now, list(dict.fromkeys(str(info[4][0]) for info in found)))
        if f"{host}:{port}" not in self.allowed:
            for address in kept[1]:
                if is_inner(address):
                    raise RefusedAddress(f"“{host}” leads to a private address ({address}), which is not fetched.")
        return kept[1][0]

    def _line(self, place: tuple[str, str, int]) -> Line:
        """A connection to a server: the one used last, or a new one."""
        with self._lock:
            lines = self._free.get(place)
            if lines:
                self._free.move_to_end(place)
                return lines.pop()
        return Line()

    def _back(self, place: tuple[str, str, int], line: Line) -> None:
        """Keep a connection for the next; those to the server used longest ago make room."""
        old: list[Line] = []
        with self._lock:
            lines = self._free.setdefault(place, [])
            if self._closed or len(lines) >= MOST_LINES:
                old.append(line)
            else:
                lines.append(line)
            if len(self._free) > MOST_SERVERS:
                old += self._free.popitem(last=False)[1]
        for one in old:
            one.close()


class _Reading:
    """The body of an answer as it comes in, within its greatest size."""

    def __init__(self, url: str, most: int, take: Take | None) -> None:
        self.url, self.most, self.size = url, most, 0
        self.pieces: list[bytes] = []
        self.status, self.headers = 0, dict[str, str]()
        self._take = take
        self._answer: Fetched | None = None

    def take(self, head: Head, piece: bytes) -> None:
        self.size += len(piece)
        if self.size > self.most:
            host = urlsplit(self.url).hostname
            raise TooLarge(f"“{host}” sent more than {self.most / 1e6:g} MB; reading was stopped.")
        if self._take is None or 300 <= head.status < 400:
            self.pieces.append(piece)
            return
        if self._answer is None:
            self.status, self.headers = head.status, head.headers
            self._answer = Fetched(self.url, head.status, head.headers)
        self._take(self._answer, piece)


def _told(broken: Broken, host: str, seconds: float, began: bool, changing: bool, silent: bool = False) -> OutsideError:
    """What broke an exchange off, in words."""
    import pycurl  # as in `exchange`

    certificate = (pycurl.E_PEER_FAILED_VERIFICATION, pycurl.E_SSL_CACERT_BADFILE, pycurl.E_SSL_CERTPROBLEM)
    if broken.code == pycurl.E_ABORTED_BY_CALLBACK:
        return Stopped("Stopped.")
    if broken.code == pycurl.E_OPERATION_TIMEDOUT and broken.connected:
        words = f"kept sending for more than {seconds:g} seconds; reading was stopped"
        if silent and began:
            words = f"sent nothing more for {seconds:g} seconds; it was given up"
        elif not began:
            words = "did not answer in time"
        return Unreachable(f"“{host}” {words}.", retryable=True, ambiguous=changing)
    if broken.code in (pycurl.E_COULDNT_CONNECT, pycurl.E_OPERATION_TIMEDOUT):
        return Unreachable(f"“{host}” cannot be reached.", retryable=True)
    if broken.code in certificate:
        why = "it may be self-signed, out of date, or for another name"
        return Unreachable(f"“{host}” cannot be reached safely: its certificate is not valid ({why}).", retryable=True)
    if broken.code == pycurl.E_SSL_CONNECT_ERROR:
        words = "does not speak TLS there. Where its pages are not encrypted, its address begins with http"
        return Unreachable(f"“{host}” {words}.", retryable=True)
    if broken.code == pycurl.E_BAD_CONTENT_ENCODING:
        return BadAnswer(f"“{host}” sent something that cannot be decompressed.")
    return Unreachable(f"“{host}” broke off before its answer was complete.", retryable=True, ambiguous=changing)


def check_redirect(url: str) -> None:
    """Raise `OutsideError` where a redirect leads to something that is no web address."""
    try:
        check_url(url)
    except OutsideError:
        raise OutsideError("A redirect led to an address that cannot be fetched.") from None


def check_url(url: str) -> None:
    """Raise `OutsideError` unless `url` is an absolute http(s) address."""
    try:
        parts = urlsplit(url)
        good = parts.scheme in ("http", "https") and bool(parts.hostname)
    except ValueError:
        good = False
    if not good:
        shown = url.strip()[:80]
        raise Misconfigured(f"“{shown}” is not a web address." if shown else "The address is empty.")


def status_error(response: Fetched, what: str) -> OutsideError:
    """An HTTP error status in words, with Retry-After (RFC 9110 section 10.2.3) where given."""
    status = response.status
    wait = retry_after(response.headers.get("retry-after"))
    words = {
        400: "did not understand the request",
        401: "does not accept the key; check the connection",
        403: "refuses access; check the connection’s rights",
        404: "has nothing at this address",
        408: "did not answer in time",
        410: "says this is gone for good",
        413: "says this is too large",
        429: "asks us to slow down",
    }
    said = words.get(status, "has a fault of its own" if status >= 500 else "refused the request")
    kind = _BY_STATUS.get(status, OutsideError if status >= 500 else Refused)
    return kind(f"{what} {said} ({status}).", retryable=status in (408, 425, 429) or status >= 500, retry_after=wait)


_BY_STATUS: dict[int, type[OutsideError]] = {
    401: Misconfigured,
    404: NotFound,
    408: Unreachable,
    410: NotFound,
    413: TooLarge,
    429: RateLimited,
    503: Unreachable,
    504: Unreachable,
}


def clock_ahead(response: Fetched) -> float:
    """By how many seconds the server's clock (RFC 9110, section 6.6.1) is ahead of ours; 0 where it does not tell."""
    try:
        return parsedate_to_datetime(response.headers["date"]).timestamp() - time.time()
    except (KeyError, ValueError, TypeError):
        return 0.0


def retry_after(value: str | None) -> float | None:
    """Retry-After as seconds from now: delta-seconds or an HTTP date; ``None`` where it says neither."""
    if not value:
        return None
    if value.strip().isdigit():
        return float(value)
    try:
        when = parsedate_to_datetime(value)
    except ValueError:
        return None
    return max(0.0, (when - dt.datetime.now(dt.UTC)).total_seconds())
