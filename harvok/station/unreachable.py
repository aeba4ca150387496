"""What it means that a station cannot be reached: the one table from failures of a connection to who must act."""

import errno
import os
import ssl
from collections.abc import Iterator

import httpcore2

from harvok.errors import (
    FarEndError,
    HarvokError,
    HostDownError,
    NoRouteError,
    PairingError,
    ProtocolError,
    RefusedError,
    RejectedError,
    SilentError,
    StationChangedError,
    StationLostError,
)
from harvok.station.address import StationAddress
from harvok.station.exchange import CONNECT_S
from harvok.traffic.icmp_errors import who_refuses
from harvok.traffic.presence import is_there
from harvok.traffic.sockets import format_address

_HUNG_UP = (errno.ECONNRESET, errno.EPIPE)


def unreachable(address: StationAddress, error: Exception, plain: bool) -> HarvokError:
    """The error to show for a first request that failed."""
    where = format_address((address.host, address.port))
    if is_another_certificate(error):
        return StationChangedError(
            f"{where} shows one certificate and then another", "Somebody is in between: do not go on."
        )
    if _tls_error(error) or isinstance(error, httpcore2.ProtocolError) or _system_error(error) in _HUNG_UP:
        return _not_understood(where, error, plain)
    if isinstance(error, (httpcore2.TimeoutException, TimeoutError)):
        if isinstance(error, httpcore2.ReadTimeout):
            return SilentError(
                f"{where} takes connections and does not answer", "Check the port, and that a station runs there."
            )
        return _no_answer(address, where)
    number = _system_error(error)
    if number == errno.ECONNREFUSED:
        return RefusedError(
            f"{where} refused the connection: the host is there, and no station listens on that port",
            "Start `harvok station` there, or give the port that it printed.",
        )
    if number in (errno.EHOSTUNREACH, errno.ENETUNREACH):
        return _no_way(address, where, number)
    why = os.strerror(number) if number else str(error)
    return FarEndError(
        f"cannot reach a station at {where}: {why}",
        "Check the address, the route and the cable; a firewall that rejects connections looks the same.",
    )


def _no_answer(address: StationAddress, where: str) -> HarvokError:
    """A connection that was neither taken nor refused: the host is there, or it is not."""
    if is_there(address.host):
        return SilentError(
            f"no answer from {where} in {CONNECT_S:.0f} s, though the host is there: a firewall drops the connection",
            f"Let TCP port {address.port} through, at the host and on the way.",
        )
    return HostDownError(
        f"no answer from {where} in {CONNECT_S:.0f} s, nor to a ping",
        f"Check that the host is up and wired, and that its firewall lets TCP port {address.port} through.",
    )


def _no_way(address: StationAddress, where: str, number: int) -> HarvokError:
    """What says that there is no way: a firewall, a router, or this host itself."""
    refusal = who_refuses(address.host, address.port)
    if refusal and refusal.prohibited:
        return RejectedError(
            f"cannot reach a station at {where}: a firewall there or on the way rejects the connection (ICMP of "
            f"{refusal.by})",
            f"Let TCP port {address.port} through; the route and the cable work, since somebody answered.",
        )
    if refusal:
        return NoRouteError(
            f"cannot reach a station at {where}: the router {refusal.by} has no route to it",
            "Check the address, and the routes of that router.",
        )
    if number == errno.ENETUNREACH:
        return NoRouteError(f"this host has no route to {where}", "Check the address, and this host's routes.")
    return HostDownError(
        f"cannot reach a station at {where}: no host answers at that address of this link",
        "Check the address, the cable, and that the host is up.",
    )


def lost(address: StationAddress, error: Exception) -> StationLostError:
    """The error to show for a request that failed in mid-test."""
    silent = isinstance(error, httpcore2.TimeoutException)
    return StationLostError(
        f"the station {address.name} {'fell silent' if silent else 'went away'} in mid-test",
        "See whether it still runs and whether the path is up; what was measured until then is kept.",
    )


def is_another_certificate(error: Exception) -> bool:
    """Whether a station showed another certificate than the one that it is known by."""
    return any(isinstance(one, ssl.SSLCertVerificationError) for one in _chain(error))


def _not_understood(where: str, error: Exception, plain: bool) -> HarvokError:
    if plain and isinstance(error, httpcore2.RemoteProtocolError) and "disconnected" not in str(error):
        return ProtocolError(f"what answers at {where} is no station: {error}", "Check the port.")
    if plain:
        return ProtocolError(
            f"what answers at {where} does not talk in clear",
            "Leave out --plain: a station encrypts unless it was started with --plain as well.",
        )
    if not _tls_error(error):  # it has shaken hands, and then read this end's certificate, or missed it
        return PairingError(
            f"the station at {where} hung up on this near end: it serves those alone that are paired with it, or too "
            "many strangers crowd it",
            "Ask for it to be started with --pair for a moment, and run `harvok pairing make` here meanwhile.",
        )
    return ProtocolError(
        f"what answers at {where} does not talk TLS 1.3",
        "Check the port: it may be no station. Or it is one of before encryption, or was started with --plain.",
    )


def _tls_error(error: Exception) -> ssl.SSLError | None:
    return next((one for one in _chain(error) if isinstance(one, ssl.SSLError)), None)


def _system_error(error: Exception) -> int:
    """The operating system's error number at the bottom of a chain of errors; 0 when there is none."""
    found = (one for one in _chain(error) if isinstance(one, OSError) and not isinstance(one, ssl.SSLError))
    return next((one.errno for one in found if one.errno), 0)


def _chain(error: BaseException | None) -> Iterator[BaseException]:
    """The error and what led to it, each once: one that was raised again leads back to itself."""
    seen = set[int]()
    while error and id(error) not in seen:
        seen.add(id(error))
        yield error
        error = error.__cause__ or error.__context__
