"""HTTP with a guard: addresses are checked after name resolution and at every connection, so after each
redirect too; size, time and number of redirects are limited.

The guard sits where connections are made, so what is checked is what is connected to. Connections are kept open
and used again; no cookies are kept.
"""

from __future__ import annotations

import datetime as dt
import http.client
import ipaddress
import json as json_
import socket
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlencode, urljoin, urlsplit

import urllib3
from urllib3 import exceptions as wrong
from urllib3.connection import HTTPConnection, HTTPSConnection

from .errors import OutsideError, RefusedAddress

USER_AGENT = "Ulmus/0.1 (+workflow reader)"
MAX_BYTES = 8_000_000
MAX_SECONDS = 30.0
MAX_REDIRECTS = 5
PIECE = 65_536


@dataclass(frozen=True)
class Fetched:
    """A response read whole: final address, status, lower-case headers, body."""

    url: str
    status: int
    headers: Mapping[str, str]
    body: bytes

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


@dataclass(frozen=True)
class Answering:
    """A response whose body is still to be read: final address, status, lower-case headers."""

    url: str
    status: int
    headers: Mapping[str, str]
    _raw: urllib3.BaseHTTPResponse = field(repr=False)

    def pieces(self) -> Iterator[bytes]:
        """The decoded body as it comes in."""
        while piece := self._raw.read1(PIECE, decode_content=True):
            yield piece


def _guarded(base: type[HTTPConnection], allowed: frozenset[str]) -> type[HTTPConnection]:
    """Connections only to public addresses, and to hosts (``host:port``) that an owner allowed."""

    class Guarded(base):  # type: ignore[valid-type, misc]
        def _new_conn(self) -> socket.socket:
            host, port = self._dns_host.strip("[]"), self.port
            try:
                found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
            except (OSError, UnicodeError):
                raise OutsideError(f"No server called “{host}” was found.", retryable=True) from None
            addresses = list(dict.fromkeys(str(info[4][0]) for info in found))
            if f"{host}:{port}" not in allowed:
                for address in addresses:
                    if not ipaddress.ip_address(address.split("%")[0]).is_global:
                        raise RefusedAddress(f"“{host}” leads to a private address ({address}), which is not fetched.")
            try:
                line = socket.create_connection((addresses[0], port), self.timeout)
            except OSError as error:
                raise wrong.NewConnectionError(self, f"{error}") from None
            line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            return line

    return Guarded


class Web:
    """An HTTP client that all protocols share. Thread-safe; close it when done. `allowed` are hosts (``host:port``) of the
    owner's own, exempt from the address guard."""

    def __init__(self, allowed: Iterable[str] = ()) -> None:
        hosts = self.allowed = frozenset(allowed)

        class Plain(urllib3.HTTPConnectionPool):
            ConnectionCls = _guarded(HTTPConnection, hosts)

        class Sealed(urllib3.HTTPSConnectionPool):
            ConnectionCls = _guarded(HTTPSConnection, hosts)

        self._pools = urllib3.PoolManager(num_pools=200, maxsize=100, retries=False)
        self._pools.pool_classes_by_scheme = {"http": Plain, "https": Sealed}

    def close(self) -> None:
        """Close all connections."""
        self._pools.clear()

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
    ) -> Fetched:
        """Fetch `url` whole. Raises `OutsideError` for anything but an answer; statuses are not judged."""
        with self.stream(
            url, method=method, headers=headers, json=json, data=data, content=content, max_seconds=max_seconds
        ) as response:
            body = b"".join(limited(response, max_bytes, max_seconds))
            return Fetched(response.url, response.status, response.headers, body)

    @contextmanager
    def stream(
        self,
        url: str,
        *,
        method: str = "GET",
        headers: Mapping[str, str] | None = None,
        json: Any = None,
        data: Mapping[str, Any] | None = None,
        content: bytes | None = None,
        max_seconds: float = MAX_SECONDS,
    ) -> Iterator[Answering]:
        """Open `url` and leave reading to the caller, with errors told in words."""
        check_url(url)
        host = urlsplit(url).hostname or url
        sending = method not in ("GET", "HEAD", "PROPFIND")
        sent = {"User-Agent": USER_AGENT, "Accept": "*/*", "Accept-Encoding": "gzip, deflate", **(headers or {})}
        body = content
        if json is not None:
            body = json_.dumps(json, ensure_ascii=False, separators=(",", ":")).encode()
            sent.setdefault("Content-Type", "application/json")
        elif data is not None:
            body = urlencode(data, doseq=True).encode()
            sent.setdefault("Content-Type", "application/x-www-form-urlencoded")
        raw: urllib3.BaseHTTPResponse | None = None
        try:
            raw, final = self._open(method, url, sent, body, max_seconds)
            yield Answering(final, raw.status, {k.lower(): v for k, v in raw.headers.items()}, raw)
        except (wrong.NewConnectionError, wrong.ConnectTimeoutError):
            raise OutsideError(f"“{host}” cannot be reached.", retryable=True) from None
        except wrong.SSLError:
            raise OutsideError(f"“{host}” cannot be reached safely: its certificate is not valid.", retryable=True) from None
        except (wrong.TimeoutError, TimeoutError):
            raise OutsideError(f"“{host}” did not answer in time.", retryable=True, ambiguous=sending) from None
        except (wrong.LocationValueError, wrong.URLSchemeUnknown):
            raise OutsideError(f"“{host}” led to an address that cannot be fetched.") from None
        except wrong.DecodeError:
            raise OutsideError(f"“{host}” sent something that cannot be decompressed.") from None
        except (wrong.HTTPError, http.client.HTTPException, OSError):
            raise OutsideError(f"“{host}” broke off before its answer was complete.", retryable=True, ambiguous=sending) from None
        finally:
            if raw is not None:
                raw.close()  # one read to its end has gone back to its pool already

    def _open(
        self, method: str, url: str, headers: dict[str, str], body: bytes | None, max_seconds: float
    ) -> tuple[urllib3.BaseHTTPResponse, str]:
        """Ask, and follow redirects (RFC 9110 section 15.4); keys stay with the host they are for."""
        timeout = urllib3.Timeout(connect=min(10.0, max_seconds), read=max_seconds)
        for _ in range(MAX_REDIRECTS + 1):
            try:
                raw = self._pools.urlopen(
                    method, url, headers=headers, body=body, redirect=False, preload_content=False, timeout=timeout
                )
            except (ValueError, UnicodeError) as error:
                if isinstance(error, wrong.HTTPError):
                    raise
                raise OutsideError(
                    f"The request to “{urlsplit(url).hostname}” cannot be sent: a key or address holds a character that is not allowed."
                ) from None
            place = raw.headers.get("location")
            if raw.status not in (301, 302, 303, 307, 308) or not place:
                return raw, url
            raw.close()
            before, url = url, urljoin(url, place)
            if raw.status in (301, 302, 303) and method != "HEAD":
                method, body = "GET", None
            if urlsplit(url)[:2] != urlsplit(before)[:2]:
                headers = {k: v for k, v in headers.items() if k.lower() != "authorization"}
            check_redirect(url)
        raise OutsideError(f"“{urlsplit(url).hostname}” redirects more than {MAX_REDIRECTS} times.")


def check_redirect(url: str) -> None:
    """Raise `OutsideError` where a redirect leads to something that is no web address."""
    try:
        check_url(url)
    except OutsideError:
        raise OutsideError("A redirect led to an address that cannot be fetched.") from None


def limited(response: Answering, max_bytes: int, max_seconds: float) -> Iterator[bytes]:
    """The decoded body piece by piece, within limits of size and time."""
    host = urlsplit(response.url).hostname
    deadline = time.monotonic() + max_seconds
    size = 0
    for piece in response.pieces():
        size += len(piece)
        if size > max_bytes:
            raise OutsideError(f"“{host}” sent more than {max_bytes / 1e6:g} MB; reading was stopped.")
        if time.monotonic() > deadline:
            raise OutsideError(f"“{host}” kept sending for more than {max_seconds:g} seconds; reading was stopped.", retryable=True)
        yield piece


def check_url(url: str) -> None:
    """Raise `OutsideError` unless `url` is an absolute http(s) address."""
    try:
        parts = urlsplit(url)
        good = parts.scheme in ("http", "https") and bool(parts.hostname)
    except ValueError:
        good = False
    if not good:
        shown = url.strip()[:80]
        raise OutsideError(f"“{shown}” is not a web address." if shown else "There is no web address to read.")


def status_error(response: Fetched | Answering, what: str) -> OutsideError:
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
    return OutsideError(f"{what} {said} ({status}).", retryable=status in (408, 425, 429) or status >= 500, retry_after=wait)


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
