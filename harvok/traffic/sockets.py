"""Data connections: options set and read back, the kernel's view of them, and ports to bind on both IP versions."""

import _socket
import contextlib
import errno
import os
import socket
import struct
from dataclasses import dataclass, replace

from harvok.core.trials.tcp import Connection, SocketOptions, TcpInfo
from harvok.core.wire.tcp_info import SEGMENTS_INFO_BYTES, TCP_INFO_BYTES, decode_segments, decode_tcp_info
from harvok.errors import NearEndError, UnsupportedError

_SO_MAX_PACING_RATE = 47  # Linux uapi asm-generic/socket.h; Python has no name for it
_LISTEN_BACKLOG = 128
_MTU_DISCOVER = {socket.AF_INET: (socket.IPPROTO_IP, 10), socket.AF_INET6: (socket.IPPROTO_IPV6, 23)}
_DO, _PROBE = 2, 3  # IP_PMTUDISC_DO, IP_PMTUDISC_PROBE, uapi linux/in.h


@dataclass(frozen=True, slots=True)
class Source:
    """Where connections leave from: a local address, an interface, both, or whatever the routes say."""

    address: str | None = None
    interface: str | None = None
    clients: tuple[str, ...] = ()
    """Further local addresses, from which users of application traffic come in turn."""


def has_tcp_info() -> bool:
    """Whether this system tells about its TCP connections."""
    return hasattr(socket, "TCP_INFO")


def missing_here() -> list[str]:
    """What a TCP test leaves out on this system, by name."""
    return [] if has_tcp_info() else ["tcp_info (windows, RTT, retransmissions, what limited the sender)"]


def apply_options(sock: socket.socket, options: SocketOptions) -> None:
    """Sets what was asked for on a socket that is not connected yet, so that the handshake already knows it.

    Raises UnsupportedError for what this system lacks, and NearEndError for what its kernel refuses.
    """
    if options.socket_buffer_bytes is not None:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, options.socket_buffer_bytes)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, options.socket_buffer_bytes)
    if options.mss_bytes is not None:
        _set(sock, socket.IPPROTO_TCP, socket.TCP_MAXSEG, options.mss_bytes, "--mss")
    if options.congestion_control is not None:
        _set_congestion_control(sock, options.congestion_control)
    if options.dscp is not None:
        _set_dscp(sock, options.dscp)
    if options.pacing_bps is not None:
        _set_pacing(sock, options.pacing_bps)


def _set(sock: socket.socket, level: int, option: int, value: int | bytes, asked: str) -> None:
    try:
        sock.setsockopt(level, option, value)
    except OSError as error:
        raise NearEndError(
            f"the kernel refuses {asked} {value!r}: {error.strerror}", f"Choose another value, or leave out {asked}."
        ) from error


def _set_congestion_control(sock: socket.socket, name: str) -> None:
    if not hasattr(socket, "TCP_CONGESTION"):
        raise UnsupportedError("this system does not let a program choose congestion control", "Leave it out.")
    try:
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, name.encode())
    except OSError as error:
        raise NearEndError(
            f"congestion control '{name}' is not available: {error.strerror}",
            "See net.ipv4.tcp_available_congestion_control, and load its kernel module at both ends.",
        ) from error


def _set_dscp(sock: socket.socket, dscp: int) -> None:
    """DSCP is the upper six bits of the traffic class (RFC 2474 §3)."""
    if sock.family == socket.AF_INET6:
        _set(sock, socket.IPPROTO_IPV6, socket.IPV6_TCLASS, dscp << 2, "--dscp")
    else:
        _set(sock, socket.IPPROTO_IP, socket.IP_TOS, dscp << 2, "--dscp")


def _set_pacing(sock: socket.socket, pacing_bps: float) -> None:
    if not has_tcp_info():  # pacing of sockets came to Linux long before anything else
        raise UnsupportedError("this system cannot pace a socket", "Leave out --pacing.")
    _set(sock, socket.SOL_SOCKET, _SO_MAX_PACING_RATE, struct.pack("=Q", round(pacing_bps / 8)), "--pacing")


def never_fragment(sock: socket.socket, whatever_the_kernel_believes: bool = False) -> None:
    """Lets nothing leave in pieces: what is larger than the path's MTU is an error, or else sent whole all the same."""
    level, option = _MTU_DISCOVER[socket.AddressFamily(sock.family)]
    sock.setsockopt(level, option, _PROBE if whatever_the_kernel_believes else _DO)


def read_tcp_info(sock: socket.socket) -> TcpInfo | None:
    """The kernel's view of a connection; None where the system tells none, or the connection is gone."""
    if not has_tcp_info():
        return None
    try:
        return decode_tcp_info(sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, TCP_INFO_BYTES))
    except OSError:
        return None


def read_segments(sock: _socket.socket) -> tuple[int, int, int] | None:
    """Segments that were sent, received and sent again so far; None where the kernel does not count them."""
    return decode_segments(sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, SEGMENTS_INFO_BYTES))


def describe(sock: socket.socket, flow: int) -> Connection:
    """A connection as it was really made. To be called before any payload flows, so that its RTT is the idle one."""
    control = None
    if hasattr(socket, "TCP_CONGESTION"):
        control = sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, 16).split(b"\0")[0].decode()
    return Connection(
        flow=flow,
        local=format_address(sock.getsockname()),
        remote=format_address(sock.getpeername()),
        send_buffer_bytes=sock.getsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF),
        receive_buffer_bytes=sock.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF),
        congestion_control=control,
        handshake=read_tcp_info(sock),
    )


def with_send_buffer(sock: socket.socket, connection: Connection) -> Connection:
    """The same connection with the send buffer that it has now: the system enlarges it where it tunes it itself."""
    try:
        return replace(connection, send_buffer_bytes=sock.getsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF))
    except OSError:
        return connection


def format_address(address: tuple[str, int] | tuple[str, int, int, int]) -> str:
    """host:port, with brackets round an IPv6 address."""
    host, port = address[0], address[1]
    return f"[{host}]:{port}" if ":" in host else f"{host}:{port}"


def source_options(source: Source) -> list[tuple[int, int, bytes]]:
    """The socket options that bind a connection to an interface."""
    if source.interface and hasattr(socket, "SO_BINDTODEVICE"):
        return [(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, source.interface.encode() + b"\0")]
    return []


def bind_source(sock: socket.socket, source: Source) -> None:
    """Binds a socket to a local address or interface. Raises NearEndError when this host does not have it."""
    if source.interface:
        if not hasattr(socket, "SO_BINDTODEVICE"):
            raise UnsupportedError("this system cannot bind to an interface by name", "Give its --local address.")
        try:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, source.interface.encode() + b"\0")
        except OSError as error:
            raise NearEndError(
                f"this host cannot send through {source.interface}: {error.strerror}",
                "Give --interface the name of an interface of this host.",
            ) from error
    if source.address:
        try:
            sock.bind((source.address, 0))
        except OSError as error:
            raise NearEndError(
                f"this host cannot send from {source.address}: {error.strerror}",
                "Give --local an address of this host and of the station's IP version.",
            ) from error


def check_source(source: Source, towards: str) -> None:
    """Sees whether connections towards an address can leave as asked, before anything is sent; see bind_source."""
    with socket.socket(socket.AF_INET6 if ":" in towards else socket.AF_INET, socket.SOCK_STREAM) as probe:
        bind_source(probe, source)


def listen(host: str | None, port: int, options: SocketOptions | None = None) -> list[socket.socket]:
    """Listening sockets on `port`: one for a given `host`, else one for each IP version that the system has.

    Raises NearEndError when the port is taken or the address is not one of this host's.
    """
    families = families_of(host)
    sockets: list[socket.socket] = []
    try:
        for family in families:
            sockets.append(_listener(family, host, port, options))
    except BaseException as error:
        for sock in sockets:
            sock.close()
        if isinstance(error, OSError):
            raise _listen_error(error, host, port) from error
        raise
    return sockets


def families_of(host: str | None) -> list[socket.AddressFamily]:
    """The IP versions to serve: of a given address, or all that this system has."""
    if host:
        return [socket.AF_INET6 if ":" in host else socket.AF_INET]
    return [socket.AF_INET, socket.AF_INET6] if _ipv6_works() else [socket.AF_INET]


def _ipv6_works() -> bool:
    if not socket.has_ipv6:
        return False
    try:
        with socket.socket(socket.AF_INET6, socket.SOCK_STREAM) as probe:
            probe.bind(("::1", 0))
    except OSError:
        return False
    return True


def _listener(
    family: socket.AddressFamily, host: str | None, port: int, options: SocketOptions | None
) -> socket.socket:
    sock = socket.socket(family, socket.SOCK_STREAM)
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        if options:
            apply_options(sock, options)
        sock.bind((host or "", port))
        sock.listen(_LISTEN_BACKLOG)
    except BaseException:
        sock.close()
        raise
    return sock


def _listen_error(error: OSError, host: str | None, port: int) -> NearEndError:
    if error.errno == errno.EADDRINUSE:
        return NearEndError(
            f"TCP port {port} is already in use on this host",
            "Another station may be running; stop it, or choose another --port.",
        )
    where = f"{host} port {port}" if host else f"port {port}"
    return NearEndError(
        f"cannot listen on {where}: {os.strerror(error.errno or 0)}", "Choose another --host or --port."
    )


def reset_close(sock: socket.socket) -> None:
    """Closes a connection at once, throwing away what is still queued, so that it cannot disturb the next trial."""
    with contextlib.suppress(OSError):  # already gone, which is what was wanted
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    sock.close()
