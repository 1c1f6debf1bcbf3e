"""HTTP with a guard: addresses are checked after name resolution and at every connection, so after each
redirect too; size, time and number of redirects are limited.

The guard sits in the network backend, so what is checked is what is connected to.
"""

from __future__ import annotations

import datetime as dt
import ipaddress
import socket
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlsplit

import httpcore
import httpx

from .errors import OutsideError, RefusedAddress

USER_AGENT = "Ulmus/0.1 (+workflow reader)"
MAX_BYTES = 8_000_000
MAX_SECONDS = 30.0
MAX_REDIRECTS = 5


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


class _Guard(httpcore.SyncBackend):
    """Connects only to public addresses, and to hosts (``host:port``) that an owner allowed."""

    def __init__(self, allowed: frozenset[str]) -> None:
        self.allowed = allowed

    def connect_tcp(self, host: str, port: int, timeout: Any = None, local_address: Any = None, socket_options: Any = None) -> Any:  # fmt: skip
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except OSError:
            raise OutsideError(f"No server called “{host}” was found.", retryable=True) from None
        addresses = list(dict.fromkeys(str(info[4][0]) for info in found))
        if f"{host}:{port}" not in self.allowed:
            for address in addresses:
                if not ipaddress.ip_address(address.split("%")[0]).is_global:
                    raise RefusedAddress(f"“{host}” leads to a private address ({address}), which is not fetched.")
        return super().connect_tcp(addresses[0], port, timeout, local_address, socket_options)


class Web:
    """An HTTP client that all protocols share. Thread-safe; close it when done."""

    def __init__(self, allowed: Iterable[str] = ()) -> None:
        self._guard = _Guard(frozenset(allowed))
        transport = httpx.HTTPTransport()
        transport._pool = httpcore.ConnectionPool(  # the public way to set a backend is httpcore's
            ssl_context=httpx.create_ssl_context(),
            max_connections=200,
            max_keepalive_connections=100,
            keepalive_expiry=15,
            network_backend=self._guard,
        )
        self._client = httpx.Client(
            transport=transport,
            headers={"User-Agent": USER_AGENT},
            timeout=httpx.Timeout(MAX_SECONDS, connect=10),
            follow_redirects=True,
            max_redirects=MAX_REDIRECTS,
            trust_env=False,
        )

    def close(self) -> None:
        """Close all connections."""
        self._client.close()

    def fetch(
        self,
        url: str,
        *,
        method: str = "GET",
        headers: Mapping[str, str] | None = None,
        json: Any = None,
        data: Mapping[str, Any] | None = None,
        max_bytes: int = MAX_BYTES,
        max_seconds: float = MAX_SECONDS,
    ) -> Fetched:
        """Fetch `url` whole. Raises `OutsideError` for anything but an answer; statuses are not judged."""
        with self.stream(url, method=method, headers=headers, json=json, data=data, max_seconds=max_seconds) as response:
            body = b"".join(limited(response, max_bytes, max_seconds))
            return Fetched(str(response.url), response.status_code, {k.lower(): v for k, v in response.headers.items()}, body)

    @contextmanager
    def stream(
        self,
        url: str,
        *,
        method: str = "GET",
        headers: Mapping[str, str] | None = None,
        json: Any = None,
        data: Mapping[str, Any] | None = None,
        max_seconds: float = MAX_SECONDS,
    ) -> Iterator[httpx.Response]:
        """Open `url` and leave reading to the caller, with errors told in words."""
        check_url(url)
        host = urlsplit(url).hostname or url
        sending = method not in ("GET", "HEAD")
        try:
            timeout = httpx.Timeout(max_seconds, connect=min(10.0, max_seconds))
            with self._client.stream(method, url, headers=headers, json=json, data=data, timeout=timeout) as response:
                yield response
        except httpx.TooManyRedirects:
            raise OutsideError(f"“{host}” redirects more than {MAX_REDIRECTS} times.") from None
        except (httpx.ConnectError, httpx.ConnectTimeout):
            raise OutsideError(f"“{host}” cannot be reached.", retryable=True) from None
        except httpx.TimeoutException:
            raise OutsideError(f"“{host}” did not answer in time.", retryable=True, ambiguous=sending) from None
        except (httpx.UnsupportedProtocol, httpx.InvalidURL):
            raise OutsideError(f"“{host}” led to an address that cannot be fetched.") from None
        except httpx.DecodingError:
            raise OutsideError(f"“{host}” sent something that cannot be decompressed.") from None
        except httpx.LocalProtocolError:
            raise OutsideError(
                f"The request to “{host}” cannot be sent: a key or address holds a character that is not allowed."
            ) from None
        except httpx.HTTPError:
            raise OutsideError(f"“{host}” broke off before its answer was complete.", retryable=True, ambiguous=sending) from None


def limited(response: httpx.Response, max_bytes: int, max_seconds: float) -> Iterator[bytes]:
    """The decoded body piece by piece, within limits of size and time."""
    host = response.url.host
    deadline = time.monotonic() + max_seconds
    size = 0
    for piece in response.iter_bytes():
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


def status_error(response: Fetched | httpx.Response, what: str) -> OutsideError:
    """An HTTP error status in words, with Retry-After (RFC 9110 section 10.2.3) where given."""
    status = response.status if isinstance(response, Fetched) else response.status_code
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
