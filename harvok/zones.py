"""Link-local addresses of IPv6, which mean something only with the zone they are of (RFC 4007 §11): fe80::1%eth0."""

import socket
from typing import Any


def with_zone(address: tuple[Any, ...]) -> str:
    """The host of a socket's address, with its zone where it needs one."""
    host, scope = str(address[0]).partition("%")[0], address[3] if len(address) > 3 else 0
    if not scope or not host.lower().startswith("fe8"):
        return host
    try:
        return f"{host}%{socket.if_indextoname(scope)}"
    except OSError:
        return f"{host}%{scope}"


def socket_address(host: str, port: int) -> tuple[Any, ...]:
    """What a socket is connected or bound to for an address, which may have a zone. Raises OSError for a zone that this
    host does not have."""
    if "%" not in host:
        return host, port
    return socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM, flags=socket.AI_NUMERICHOST)[0][4]
