"""Chat rooms by XMPP (RFC 6120) and multi-user chat (XEP-0045).

A message is said when the room shows it: the room sends what is said in it to everybody there, to its author too, under the same
identity. After a lost answer the room's history is read back to before the attempt, and the message is looked for by its identity.
"""

from __future__ import annotations

import asyncio
import datetime as dt
import re
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, TypeVar

from .errors import Misconfigured, OutsideError, Refused, Unreachable
from .smtp import Reach

if TYPE_CHECKING:
    from slixmpp import ClientXMPP

T = TypeVar("T")
PATIENCE = 20.0
"""Seconds to wait for the server to let one in, for the room, and for each message to be shown."""
HISTORY = 100
MOST_HEARD = 200
"""So many messages are read of an archive at a look; the next goes on from there."""
_MUC_USER = "http://jabber.org/protocol/muc#user"
OLDER = 5.0
"""Seconds by which a message of the history must be older than the attempt for it to reach back behind it."""
_JID = re.compile(r"[^@/\s<>\"'&:]{1,255}@[^@/\s<>\"'&]{1,255}")


@dataclass(frozen=True)
class Room:
    """A chat room: who goes in (a bare JID) with what password, under which nickname; where the server stands if that is not
    found from the JID; whether it must be reached by STARTTLS; how its address is found and checked."""

    jid: str
    password: str = field(repr=False)
    room: str = ""
    nick: str = "Ulmus"
    host: str = ""
    port: int = 5222
    starttls: bool = True
    reach: Reach = lambda host, port: host


def say(room: Room, parts: Sequence[str], key: str) -> None:
    """Say something, in one part or several, under a key. Raises `OutsideError`, ambiguous where it may have been said in part or
    whole."""

    async def speak(client: ClientXMPP) -> None:
        shown: dict[str, asyncio.Future[None]] = {_id(key, n): client.loop.create_future() for n in range(len(parts))}

        def heard(message: Any) -> None:
            waiting = shown.get(message["id"])
            if waiting is not None and not waiting.done():
                if message["type"] == "error":
                    waiting.set_exception(Refused(f"The room does not take it: {_condition(message)}."))
                else:
                    waiting.set_result(None)

        client.add_event_handler("groupchat_message", heard)
        client.add_event_handler("groupchat_message_error", heard)
        client.add_event_handler("message_error", heard)
        await _join(client, room, 0)
        for n, part in enumerate(parts):
            message = client.make_message(mto=room.room, mbody=part, mtype="groupchat")
            message["id"] = _id(key, n)
            message.send()
            try:
                done, _ = await asyncio.wait(
                    [shown[_id(key, n)], client.disconnected], timeout=PATIENCE, return_when="FIRST_COMPLETED"
                )
                if shown[_id(key, n)] not in done:
                    raise Unreachable("The room did not show what was said.", retryable=True, ambiguous=True)
                shown[_id(key, n)].result()
            except OutsideError as error:
                if n:
                    error.message = f"{n} of {len(parts)} parts were said, then: {error.message}"
                    error.retryable, error.ambiguous = False, True
                raise

    _with(room, speak)


def find(room: Room, count: int, key: str, since: float) -> tuple[int, bool]:
    """How many of the `count` parts of what was said under a key at `since` (seconds since the epoch) the room's history shows, and
    whether that reaches back behind it. Raises `OutsideError`."""

    async def look(client: ClientXMPP) -> tuple[int, bool]:
        history = await _join(client, room, HISTORY)
        seen = {message["id"] for message in history}
        stamps = [message["delay"]["stamp"].timestamp() for message in history if message["delay"]["stamp"] is not None]
        whole = len(history) < HISTORY and not stamps
        return sum(_id(key, n) in seen for n in range(count)), whole or any(stamp < since - OLDER for stamp in stamps)

    return _with(room, look)


@dataclass(frozen=True)
class Said:
    """Something said in a room: its identity in the room's archive, who said it (a bare JID; empty where the room does not show real
    addresses), what, and when (seconds since the epoch)."""

    id: str
    author: str
    text: str
    at: float


def heard(room: Room, since: float) -> list[Said]:
    """What others said in the room since a moment, oldest first, as its archive has it (XEP-0313). An author is told only by a room
    that shows real addresses to everybody (XEP-0045, “non-anonymous”), and only where the archive names exactly one: a nickname is no
    identity, and an address may be written into a message by anybody. Raises `OutsideError`."""

    async def listen(client: ClientXMPP) -> list[Said]:
        from slixmpp import JID
        from slixmpp.exceptions import IqError, IqTimeout

        await _join(client, room, 0)
        try:
            info = await client["xep_0030"].get_info(jid=JID(room.room), timeout=PATIENCE)
            known = "muc_nonanonymous" in info["disco_info"]["features"]
            begun = dt.datetime.fromtimestamp(since, dt.UTC)
            out = []
            async for entry in client["xep_0313"].iterate(jid=JID(room.room), start=begun, rsm={"max": 50}, total=MOST_HEARD):
                forwarded = entry["mam_result"]["forwarded"]
                stanza = forwarded["stanza"]
                text = str(stanza["body"] or "")
                if not text or stanza["from"].resource == room.nick or stanza["type"] != "groupchat":
                    continue
                author = _author(stanza.xml) if known else ""
                out.append(Said(str(entry["mam_result"]["id"]), author, text, forwarded["delay"]["stamp"].timestamp()))
            return out
        except IqError as error:
            raise Misconfigured(f"{room.room} keeps no archive that could be read ({error.condition}).") from None
        except (IqTimeout, TimeoutError):
            raise Unreachable(f"{room.room} did not answer.", retryable=True) from None

    return _with(room, listen)


def _author(stanza: Any) -> str:
    """The one address an archived message is said to be from; none where there are several, or another is written into it."""
    items = stanza.findall(f"{{{_MUC_USER}}}x/{{{_MUC_USER}}}item")
    shown = [item.get("jid", "").partition("/")[0] for item in items]
    return shown[0] if len(shown) == 1 else ""


def probe(room: Room) -> str:
    """Go in and out again, saying nothing; gives how many are there. Raises `OutsideError`."""

    async def look(client: ClientXMPP) -> str:
        await _join(client, room, 0)
        others = len(client["xep_0045"].get_roster(room.room) or []) - 1
        return f"{room.nick} may speak in {room.room}{f', where {others} more are' if others > 0 else ''}. Nothing was said."

    return _with(room, look)


def _id(key: str, part: int) -> str:
    return f"{key[:40]}-{part}"


def _condition(stanza: Any) -> str:
    return str(stanza["error"]["text"] or stanza["error"]["condition"] or "it says no").replace("-", " ")


async def _join(client: ClientXMPP, room: Room, history: int) -> list[Any]:
    """Go into the room; gives what was said there lately."""
    from slixmpp import JID
    from slixmpp.exceptions import PresenceError

    try:
        joined = await client["xep_0045"].join_muc_wait(JID(room.room), room.nick, maxstanzas=history, timeout=PATIENCE)
    except PresenceError as error:
        condition = str(error.condition)
        if condition == "conflict":
            raise Refused(f"Somebody in {room.room} is called “{room.nick}” already.", retryable=True) from None
        raise Misconfigured(f"{room.room} does not let one in: {condition.replace('-', ' ')}.") from None
    except TimeoutError:
        raise Unreachable(f"{room.room} did not answer.", retryable=True) from None
    return list(joined[3])


def _with(room: Room, work: Callable[[ClientXMPP], Awaitable[T]]) -> T:
    """Sign in, do something, and leave."""
    for name, jid in (("The account", room.jid), ("The room", room.room)):
        if not _JID.fullmatch(jid):
            raise Misconfigured(f"{name} “{jid[:80]}” is no XMPP address, such as name@server.")
    host, port = _server(room)
    return asyncio.run(_visit(room, room.reach(host, port), port, work))


def _server(room: Room) -> tuple[str, int]:
    """Where the server stands: as set, else as its domain says (RFC 6120, section 3.2.1), else at the domain itself."""
    if room.host:
        return room.host, room.port
    import dns.exception
    import dns.resolver

    domain = room.jid.partition("@")[2]
    try:
        records = dns.resolver.resolve(f"_xmpp-client._tcp.{domain}", "SRV", lifetime=5)
        best = min(records, key=lambda record: (record.priority, -record.weight))
        return str(best.target).rstrip("."), int(best.port)
    except dns.exception.DNSException:
        return domain, room.port


async def _visit(room: Room, address: str, port: int, work: Callable[[ClientXMPP], Awaitable[T]]) -> T:
    from slixmpp import ClientXMPP

    client = ClientXMPP(room.jid, room.password)
    client.register_plugin("xep_0045")
    for plugin in ("xep_0030", "xep_0203", "xep_0313"):
        client.register_plugin(plugin)
    client.enable_direct_tls, client.enable_starttls, client.enable_plaintext = False, room.starttls, not room.starttls
    if not room.starttls:
        # Only where an owner has said so; see the address guard.
        client["feature_mechanisms"].unencrypted_plain = client["feature_mechanisms"].unencrypted_scram = True
    begun: asyncio.Future[None] = client.loop.create_future()

    def fails(error: OutsideError) -> None:
        if not begun.done():
            begun.set_exception(error)

    def begins(_: Any) -> None:
        if not begun.done():
            begun.set_result(None)

    client.add_event_handler("session_start", begins)
    # Servers need not send back with the refusal what was asked (RFC 6120, section 8.3.1); the library knows only those that do.
    client.add_event_handler("presence_error", lambda one: client.event(f"muc::{one['from'].bare}::presence-error", one))
    client.add_event_handler(
        "failed_all_auth", lambda _: fails(Misconfigured("The chat server does not accept the account or its password."))
    )
    client.add_event_handler(
        "connection_failed", lambda why: fails(Unreachable(f"The chat server cannot be reached ({why}).", retryable=True))
    )
    client.add_event_handler(
        "ssl_invalid_chain", lambda why: fails(Misconfigured(f"The chat server’s certificate is not valid ({why})."))
    )
    client.add_event_handler("disconnected", lambda _: fails(Unreachable("The chat server hung up.", retryable=True)))
    client.connect(address, port)
    try:
        began = time.monotonic()
        try:
            await asyncio.wait_for(asyncio.shield(begun), PATIENCE)
        except TimeoutError:
            words = (
                "offers no encryption"
                if room.starttls and time.monotonic() - began < PATIENCE / 2
                else "did not let one in in time"
            )
            raise Unreachable(f"The chat server {words}.", retryable=True) from None
        client.send_presence()
        return await work(client)
    finally:
        client.cancel_connection_attempt()
        if client.is_connected():
            await client.disconnect(wait=1.0)
        else:
            client.abort()
