"""Where a station is, as people write it and as it resolves."""

import socket
from dataclasses import dataclass

from harvok.core.ethernet import IpVersion
from harvok.core.models.control import DEFAULT_CONTROL_PORT
from harvok.errors import UnknownNameError, UsageError
from harvok.traffic.sockets import format_address
from harvok.zones import with_zone


@dataclass(frozen=True, slots=True)
class StationAddress:
    """Where a station is, as the user wrote it and as it resolved."""

    name: str
    host: str
    port: int

    @property
    def place(self) -> str:
        """What it is known by: as the user wrote it, with the port."""
        return format_address((self.name, self.port))


def parse_station(text: str) -> tuple[str, int]:
    """Reads `host`, `host:port`, `address` or `[address]:port`. Raises UsageError."""
    host, port = text, ""
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        port = rest.removeprefix(":") if rest.startswith(":") else rest and "?"
    elif text.count(":") == 1:
        host, _, port = text.partition(":")
    if not host or (port and not (port.isdigit() and 0 < int(port) < 65536)):
        raise UsageError(f"'{text}' is not the address of a station", "Give host, host:port or [IPv6 address]:port.")
    return host, int(port) if port else DEFAULT_CONTROL_PORT


def resolve(text: str, ip_version: IpVersion | None = None) -> StationAddress:
    """Finds the address of a station. Raises UnknownNameError when its name does not resolve."""
    host, port = parse_station(text)
    family = {None: socket.AF_UNSPEC, 4: socket.AF_INET, 6: socket.AF_INET6}[ip_version]
    try:
        found = socket.getaddrinfo(host, port, family, socket.SOCK_STREAM)
    except (socket.gaierror, UnicodeError) as error:
        as_version = f" to an IPv{ip_version} address" if ip_version else ""
        why = error.strerror if isinstance(error, socket.gaierror) else "not a host name"
        raise UnknownNameError(
            f"'{host}' does not resolve{as_version}: {why}",
            "Check the spelling, or give the station's address; `harvok station` prints it.",
        ) from error
    return StationAddress(host, with_zone(found[0][4]), port)
