"""A STAMP reflector (RFC 8762 §4.3): answers each packet with one of the same size, and nothing else with anything.

It counts for itself what it got in each session, so that a sender can tell loss there from loss back. It keeps a
bounded number of sessions; a packet that came before, or is malformed, disturbs none but its own sender's count.

It may stand open to anybody. Two reflectors cannot be set on each other by a forged packet: nothing is answered that
comes from a reflector's port or reads as an answer. Nor can it be used to flood others: answers are as long as
questions, and as many as a test needs, for each address and in all. With a key, no packet is answered twice.
"""

import contextlib
import ipaddress
import select
import socket
import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar

from harvok.clock import Clock
from harvok.core.wire.stamp import (
    STAMP_PORT,
    ReflectorPacket,
    decode_sender,
    encode_reflector,
    error_estimate,
    reads_as_answer,
    seal_of,
)
from harvok.errors import NearEndError
from harvok.signals import uninterrupted
from harvok.traffic.own_address import tell_own_address
from harvok.traffic.sockets import families_of
from harvok.traffic.stamps import ReceivedDatagram, receive, tell_times
from harvok.traffic.unproven import neighbourhood

_MAX_BYTES = 9216
_MAX_SESSIONS = 1024
_MAX_SEALS = 1 << 16
MAX_OF_ONE_PPS, MAX_OF_ALL_PPS = 2500.0, 20_000.0
"""Packets that are answered each second, of one address and of all together; a delay test sends 2000 at most."""

KeyT = TypeVar("KeyT")
ValueT = TypeVar("ValueT")

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


@dataclass(frozen=True, slots=True)
class ReflectorSettings:
    """Where to listen, what must be proven, and to whom to answer: `allowed` empty answers everybody, as the standard
    has it.

    `clock_error_s` None says that this host's clock is not kept in step.
    """

    port: int
    host: str | None = None
    key: bytes | None = None
    allowed: Sequence[Network] = ()
    clock_error_s: float | None = None


class Reflector:
    """Answers in a thread of its own until closed. Raises NearEndError when the port is taken."""

    def __init__(self, settings: ReflectorSettings, clock: Clock) -> None:
        self._settings, self._clock = settings, clock
        self._error = error_estimate(settings.clock_error_s is not None, settings.clock_error_s or 1.0)
        self._sessions: OrderedDict[tuple[str, int, int], int] = OrderedDict()
        self._allowances: OrderedDict[str, _Allowance] = OrderedDict()
        self._of_all = _Allowance(MAX_OF_ALL_PPS)
        self._seals: OrderedDict[bytes, None] = OrderedDict()
        self._guest: str | None = None
        self._sockets = _open(settings)
        self._wake, self._woken = socket.socketpair()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        with uninterrupted():
            self._thread.start()

    def serve_guest(self, address: str | None) -> None:
        """The address that is always answered: of whoever holds the station. None for nobody."""
        self._guest = address and _without_zone(address)

    def close(self) -> None:
        """Stops answering."""
        self._wake.close()
        self._thread.join()
        for sock in [*self._sockets, self._woken]:
            sock.close()

    def _serve(self) -> None:
        by_fd = {sock.fileno(): sock for sock in self._sockets}
        poll = select.poll()
        for fd in (*by_fd, self._woken.fileno()):
            poll.register(fd, select.POLLIN)
        while True:
            for fd, _ in poll.poll():
                if fd not in by_fd:
                    return
                with contextlib.suppress(OSError):  # whatever one packet leads to, the next one is heard
                    self._answer(by_fd[fd], receive(by_fd[fd], _MAX_BYTES, self._clock))

    def _answer(self, sock: socket.socket, got: ReceivedDatagram) -> None:
        key = self._settings.key
        packet = decode_sender(got.data, key)
        if packet is None or got.peer[1] in (STAMP_PORT, self._settings.port) or reads_as_answer(got.data, key):
            return
        if not self._may_answer(_without_zone(got.peer[0])) or (key and self._was_seen(seal_of(got.data))):
            return
        number = self._count((got.peer[0], got.peer[1], packet.ssid))
        answer = ReflectorPacket(
            number, self._clock.wall_ns(), self._error, packet.ssid, got.at_ns, packet, got.hops_left
        )
        sock.sendmsg([encode_reflector(answer, got.data, key)], got.answer_from, 0, got.peer)

    def _may_answer(self, address: str) -> bool:
        if address == self._guest:
            return True
        if self._settings.allowed and not _is_in(address, self._settings.allowed):
            return False
        whose, now_ns = neighbourhood(address), self._clock.now_ns()
        allowance = self._allowances.pop(whose, None) or _Allowance(MAX_OF_ONE_PPS)
        _keep(self._allowances, whose, allowance, _MAX_SESSIONS)
        return allowance.take(now_ns) and self._of_all.take(now_ns)

    def _was_seen(self, seal: bytes) -> bool:
        """Whether a packet with this seal came before, of the last _MAX_SEALS."""
        if seal in self._seals:
            return True
        _keep(self._seals, seal, None, _MAX_SEALS)
        return False

    def _count(self, session: tuple[str, int, int]) -> int:
        """How many packets of this session came before this one; the sessions longest silent are forgotten."""
        number = self._sessions.pop(session, 0)
        _keep(self._sessions, session, number + 1, _MAX_SESSIONS)
        return number


@dataclass(slots=True)
class _Allowance:
    """Packets that may still be answered: refilled at `rate_pps`, up to those of one second."""

    rate_pps: float
    left: float = 1.0
    since_ns: int = 0

    def take(self, now_ns: int) -> bool:
        """Takes one, if there is one."""
        refilled = (now_ns - self.since_ns) / 1e9 * self.rate_pps
        self.left, self.since_ns = min(self.left + refilled, self.rate_pps), now_ns
        if self.left < 1:
            return False
        self.left -= 1
        return True


def _keep(kept: "OrderedDict[KeyT, ValueT]", key: KeyT, value: ValueT, most: int) -> None:
    """Keeps the newest `most`."""
    kept[key] = value
    if len(kept) > most:
        kept.popitem(last=False)


def _without_zone(address: str) -> str:
    return address.partition("%")[0]


def _is_in(address: str, networks: Sequence[Network]) -> bool:
    found = ipaddress.ip_address(address)
    return any(found.version == network.version and found in network for network in networks)


def _open(settings: ReflectorSettings) -> list[socket.socket]:
    sockets: list[socket.socket] = []
    try:
        for family in families_of(settings.host):
            sock = socket.socket(family, socket.SOCK_DGRAM)
            sockets.append(sock)
            if family == socket.AF_INET6:
                sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            tell_times(sock)
            tell_own_address(sock)
            sock.bind((settings.host or "", settings.port))
            sock.setblocking(False)
    except OSError as error:
        for sock in sockets:
            sock.close()
        raise NearEndError(
            f"the reflector cannot use UDP port {settings.port}: {error.strerror}",
            "Another station may be running; choose another --delay-port, or another --port.",
        ) from error
    return sockets
