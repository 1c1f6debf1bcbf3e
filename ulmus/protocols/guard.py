"""The address guard: which addresses of the network a server is never made to talk to on behalf of a page.

Inner addresses in every spelling: private, loopback, link-local, site-local, shared and reserved ranges, and IPv6 addresses
that carry such an IPv4 address inside (mapped, compatible, NAT64 after RFC 6052, 6to4 after RFC 3056).
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator

_IPV4 = tuple(ipaddress.IPv4Network(net) for net in ("0.0.0.0/8", "192.0.0.0/24", "192.88.99.0/24", "198.18.0.0/15", "240.0.0.0/4"))
_IPV6 = tuple(ipaddress.IPv6Network(net) for net in ("fec0::/10", "64:ff9b:1::/48", "2001::/32", "100::/64", "5f00::/16"))
_COMPATIBLE = ipaddress.IPv6Network("::/96")
_NAT64 = ipaddress.IPv6Network("64:ff9b::/96")
_6TO4 = ipaddress.IPv6Network("2002::/16")


def is_inner(address: str) -> bool:
    """Whether an IP address (in any spelling, with or without a zone) belongs to no server on the open network."""
    try:
        ip = ipaddress.ip_address(address.split("%")[0])
    except ValueError:
        return True
    if isinstance(ip, ipaddress.IPv4Address):
        return _is_inner_4(ip)
    carried = list(_carried(ip))
    if carried:
        return any(_is_inner_4(ipv4_address) for ipv4_address in carried)
    return not ip.is_global or ip.is_multicast or any(ip in net for net in _IPV6)


def _is_inner_4(ip: ipaddress.IPv4Address) -> bool:
    return not ip.is_global or ip.is_multicast or any(ip in net for net in _IPV4)


def _carried(ip: ipaddress.IPv6Address) -> Iterator[ipaddress.IPv4Address]:
    """The IPv4 addresses that an IPv6 address stands for."""
    if ip.ipv4_mapped is not None:
        yield ip.ipv4_mapped
    elif ip in _COMPATIBLE or ip in _NAT64:
        yield ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF)
    elif ip in _6TO4:
        yield ipaddress.IPv4Address(int(ip) >> 80 & 0xFFFFFFFF)
