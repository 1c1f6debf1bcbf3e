"""Whether a mail comes from whom it says, as the server that took it in found (RFC 8601): SPF (RFC 7208), DKIM (RFC 6376), DMARC (RFC 7489).

Anybody may write such a finding into a mail. Only the first that bears the name of one's own server counts: that server takes away those that
others wrote in its name.
"""

from __future__ import annotations

from collections.abc import Sequence


def vouched(results: Sequence[str], server: str, sender: str) -> bool:
    """Whether `server` found that a mail of the address `sender` comes from its domain, or one above it; `results` are the values of its
    *Authentication-Results*, the first one first."""
    import authres  # loaded on first use

    domain = sender.rpartition("@")[2].casefold()
    for value in results:
        try:
            found = authres.parse(f"Authentication-Results: {value}")
        except Exception:
            continue
        if str(found.authserv_id or "").casefold() == server.casefold():
            return any(one.result == "pass" and _of(one, domain) for one in found.results)
    return False


def _of(one: object, domain: str) -> bool:
    """Whether a finding is about the domain of the sender, or one above it."""
    method = getattr(one, "method", "")
    names = {
        "dkim": getattr(one, "header_d", None) or str(getattr(one, "header_i", None) or "").rpartition("@")[2],
        "spf": str(getattr(one, "smtp_mailfrom", None) or "").rpartition("@")[2],
        "dmarc": getattr(one, "header_from", None),
    }
    name = str(names.get(method) or "").casefold()
    return bool(name) and "." in name and (domain == name or domain.endswith(f".{name}"))
