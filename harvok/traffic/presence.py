"""Whether a host is there at all, when its station does not answer."""

import select

from harvok.clock import SYSTEM
from harvok.errors import NearEndError
from harvok.traffic.delay import EchoProber
from harvok.traffic.icmp_errors import who_refuses
from harvok.traffic.sockets import Source

_UNUSED_PORT = 33_434
_WAIT_S = 1.0
_PAYLOAD_BYTES = 16


def is_there(address: str) -> bool:
    """Whether anything at an address answers a ping, or says itself that a port is not in use. False may also be a
    firewall that drops everything."""
    return _answers_echo(address) or _answers_datagram(address)


def _answers_echo(address: str) -> bool:
    try:
        prober = EchoProber(address, Source(), _PAYLOAD_BYTES)
    except (NearEndError, OSError):  # this user may not
        return False
    with prober.sock:
        try:
            prober.sock.send(prober.request(0, SYSTEM.wall_ns()))
            return bool(select.select([prober.sock], [], [], _WAIT_S)[0]) and bool(prober.sock.recv(2048))
        except OSError:
            return False


def _answers_datagram(address: str) -> bool:
    refusal = who_refuses(address, _UNUSED_PORT)
    return refusal is not None and refusal.by == address
