"""A STAMP reflector (RFC 8762 §4.3): answers each packet with one of the same size, and nothing else with anything.

It counts for itself what it got in each session, so that a sender can tell loss there from loss back. It keeps a
bounded number of sessions; a packet that came before, or is malformed, disturbs none but its own sender's count.
"""

import contextlib
import ipaddress
import select
import socket
import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass

from harvok.clock import Clock
from harvok.core.wire.stamp import ReflectorPacket, decode_sender, encode_reflector, error_estimate
from harvok.errors import NearEndError
from harvok.signals import uninterrupted
from harvok.traffic.own_address import tell_own_address
from harvok.traffic.sockets import families_of
from harvok.traffic.stamps import ReceivedDatagram, receive, tell_times

_MAX_BYTES = 9216
_MAX_SESSIONS = 1024

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


@dataclass(frozen=True, slots=True)
class ReflectorSettings:
    """Where to listen, what must be proven, and to whom to answer: `allowed` empty answers everybody.

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
        self._sockets = _open(settings)
        self._wake, self._woken = socket.socketpair()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        with uninterrupted():
            self._thread.start()

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
        settings = self._settings
        if settings.allowed and not _is_in(got.peer[0], settings.allowed):
            return
        packet = decode_sender(got.data, settings.key)
        if packet is None:
            return
        number = self._count((got.peer[0], got.peer[1], packet.ssid))
        answer = ReflectorPacket(
            number, self._clock.wall_ns(), self._error, packet.ssid, got.at_ns, packet, got.hops_left
        )
        sock.sendmsg([encode_reflector(answer, got.data, settings.key)], got.answer_from, 0, got.peer)

    def _count(self, session: tuple[str, int, int]) -> int:
        """How many packets of this session came before this one; the sessions longest silent are forgotten."""
        number = self._sessions.pop(session, 0)
        self._sessions[session] = number + 1
        if len(self._sessions) > _MAX_SESSIONS:
            self._sessions.popitem(last=False)
        return number


def _is_in(address: str, networks: Sequence[Network]) -> bool:
    found = ipaddress.ip_address(address.partition("%")[0])
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
