"""The first contact with a station, after which it is known; and what it means when its certificate is another one."""

import socket
import ssl
from collections.abc import Callable
from dataclasses import dataclass, field

from harvok.clock import Clock
from harvok.core.wire.pairing import pairing_code
from harvok.errors import PairingError, SilentError, StationChangedError
from harvok.station.address import StationAddress
from harvok.station.exchange import CONNECT_S
from harvok.station.keys import TLS_NAME, Keys, Known, client_context, first_look_context, own_keys
from harvok.traffic.sockets import Source, bind_source
from harvok.zones import socket_address


@dataclass(frozen=True, slots=True)
class Access:
    """What opens the door of a station: the token; and on first contact its pairing code. `plain` talks in clear, to a
    station that was started so. `certificate` (PEM) is the station's where somebody else vouches for it."""

    token: str
    code: str | None = None
    plain: bool = False
    certificate: str | None = None
    keys: Keys = field(default_factory=own_keys)


def known_context(access: Access, address: StationAddress) -> ssl.SSLContext | None:
    """TLS towards a station that is known; None for one that is not."""
    if access.certificate:
        return client_context(access.keys, access.certificate)
    known = access.keys.station(address.place)
    return client_context(access.keys, known.certificate) if known else None


def make_known(
    access: Access, address: StationAddress, source: Source, clock: Clock, notice: Callable[[str], None]
) -> ssl.SSLContext:
    """Looks at the certificate of a station and believes it if its code is the one that was given.

    Raises PairingError without a code, or with that of another station; StationChangedError for one that was known by
    another certificate; SilentError, or OSError, where no certificate comes.
    """
    if access.certificate:
        raise StationChangedError(
            f"what answers at {address.place} is not the station that was vouched for",
            "See whether that address leads to the same station from both hosts; if it does, somebody is in between.",
        )
    before = access.keys.station(address.place)
    certificate = _certificate_of(address, source)
    code = pairing_code(ssl.PEM_cert_to_DER_cert(certificate))
    if before and code != access.code:
        raise StationChangedError(
            f"the station {address.place} is not the one that it was: its code is {code}, and was {before.code}",
            "If it has a new key, or another host has its address now, take the code from its own screen: --code CODE. "
            "If you cannot tell, somebody may be in between; do not go on.",
        )
    if access.code is None:
        raise PairingError(
            f"the station {address.place} is not known to this user yet",
            "Give the pairing code that it printed, once: --code CODE, or the environment variable HARVOK_CODE.",
        )
    if code != access.code:
        raise PairingError(
            f"the pairing code is not that of the station {address.place}",
            "Take the code from that station's own screen. If it is that one, somebody is in between: do not go on.",
        )
    access.keys.learn_station(Known(address.place, certificate, f"{clock.utc():%Y-%m-%d}"))
    notice(f"{address.place} is known from now on; its code is {code}")
    return client_context(access.keys, certificate)


def _certificate_of(address: StationAddress, source: Source) -> str:
    """The certificate (PEM) that a station shows to anybody. Nothing else is said."""
    family = socket.AF_INET6 if ":" in address.host else socket.AF_INET
    with socket.socket(family, socket.SOCK_STREAM) as sock:
        sock.settimeout(CONNECT_S)
        bind_source(sock, source)
        sock.connect(socket_address(address.host, address.port))
        try:
            with first_look_context().wrap_socket(sock, server_hostname=TLS_NAME) as secured:
                return ssl.DER_cert_to_PEM_cert(secured.getpeercert(binary_form=True) or b"")
        except TimeoutError as error:
            raise SilentError(
                f"{address.place} takes connections and says nothing", "Check the port, and that a station runs there."
            ) from error
