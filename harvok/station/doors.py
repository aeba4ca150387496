"""The way in to a station's control port: accepts connections itself, so that strangers are bounded from the start.

A connection is a stranger's until a request on it has presented the token. Strangers are bounded in number, for each
address and in all (traffic.unproven), and each has FIRST_REQUEST_S for its whole first request header, a TLS handshake
included. They displace one another and never anybody who has proven himself.
"""

import asyncio
import socket
from collections.abc import Callable
from dataclasses import dataclass
from ssl import SSLContext
from typing import Any

from harvok.traffic.unproven import Unproven
from harvok.zones import with_zone

FIRST_REQUEST_S = 5.0
MAX_STRANGERS, MAX_STRANGERS_OF_ONE = 64, 16
MAX_PROVEN = 256
"""Connections that have presented the token."""
_TOO_MANY_FILES_S = 0.1

Peer = tuple[str, int]
ProtocolMaker = Callable[[], asyncio.Protocol]


@dataclass(slots=True, eq=False)
class _Guest:
    """A connection, from its first packet on; `admitting` is the task that shakes hands with it."""

    sock: socket.socket
    peer: Peer
    admitting: "asyncio.Task[None] | None" = None
    transport: asyncio.Transport | None = None
    late: asyncio.TimerHandle | None = None

    def send_away(self) -> None:
        """Ends it without a word."""
        if self.transport:
            self.transport.abort()
        elif self.admitting:
            self.admitting.cancel()


class Doors:
    """Accepts on some listening sockets, in the running loop, until cancelled."""

    def __init__(self, tls: SSLContext | None = None) -> None:
        self._tls = tls
        self._guests: dict[Peer, _Guest] = {}
        self._strangers: Unproven[_Guest] = Unproven(MAX_STRANGERS, MAX_STRANGERS_OF_ONE)

    def prove(self, peer: Peer | None) -> bool:
        """A request on the connection from `peer` presented the token; False where too many have."""
        guest = self._guests.get(peer) if peer else None
        if guest and self._strangers.discard(guest):
            if guest.late:
                guest.late.cancel()
            return len(self._guests) - len(self._strangers) <= MAX_PROVEN
        return True

    def leave(self, peer: Peer | None) -> None:
        """The connection from `peer` is over."""
        guest = self._guests.pop(peer, None) if peer else None
        if guest:
            self._strangers.discard(guest)
            if guest.late:
                guest.late.cancel()

    async def accept(self, listener: socket.socket, make_protocol: ProtocolMaker) -> None:
        """Lets in whoever comes, until cancelled."""
        loop = asyncio.get_running_loop()
        listener.setblocking(False)
        while True:
            try:
                sock, peer = await loop.sock_accept(listener)
            except OSError:  # no more files may be open, or the connection went meanwhile
                await asyncio.sleep(_TOO_MANY_FILES_S)
                continue
            self._enter(_Guest(sock, (with_zone(peer), int(peer[1]))), make_protocol)

    def _enter(self, guest: _Guest, make_protocol: ProtocolMaker) -> None:
        loop = asyncio.get_running_loop()
        self._guests[guest.peer] = guest
        guest.late = loop.call_later(FIRST_REQUEST_S, self._is_late, guest)
        guest.admitting = loop.create_task(self._admit(guest, make_protocol))
        displaced = self._strangers.add(guest, guest.peer[0])
        if displaced:
            self._send_away(displaced)

    async def _admit(self, guest: _Guest, make_protocol: ProtocolMaker) -> None:
        loop = asyncio.get_running_loop()
        timeout: dict[str, Any] = {"ssl_handshake_timeout": FIRST_REQUEST_S} if self._tls else {}
        try:
            made = await loop.connect_accepted_socket(make_protocol, guest.sock, ssl=self._tls, **timeout)
            guest.transport = made[0]
        except (OSError, asyncio.CancelledError):  # no TLS, or sent away: a stranger gets no reason
            self.leave(guest.peer)
            guest.sock.close()

    def _is_late(self, guest: _Guest) -> None:
        if guest in self._strangers:
            self._send_away(guest)

    def _send_away(self, guest: _Guest) -> None:
        self.leave(guest.peer)
        guest.send_away()

    def close(self) -> None:
        """Ends every connection that has proven nothing."""
        for guest in list(self._strangers):
            self._send_away(guest)
