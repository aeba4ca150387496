"""TLS on the sockets of application traffic: as much as an epoll loop needs, on the object below ssl.SSLSocket, whose
own methods cost more than the cipher for small messages.

The service has a certificate of its own for each trial, which users do not check: this is traffic and holds no secret.
"""

import _socket
import os
import ssl
from typing import Any

_WAIT = (ssl.SSLWantReadError, ssl.SSLWantWriteError)
_END = (ssl.SSLZeroReturnError, ssl.SSLEOFError)
HTTP1, HTTP2 = "http/1.1", "h2"
"""RFC 7301 and its registry: how ALPN calls the protocols."""
RECORD_BYTES = 16_384
"""RFC 8446 §5.1: what one record holds."""


def users_context(protocol: str) -> ssl.SSLContext:
    """For users who speak `protocol`, as ALPN calls it: any certificate will do."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.set_alpn_protocols([protocol])
    return context


def service_context(certificate: bytes) -> ssl.SSLContext:
    """For a service with a certificate and its key, both PEM in one."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.set_alpn_protocols([HTTP2, HTTP1])
    fd = os.memfd_create("certificate")
    try:
        os.write(fd, certificate)
        context.load_cert_chain(f"/proc/self/fd/{fd}")
    finally:
        os.close(fd)
    return context


class TlsSocket(_socket.socket):
    """A socket that TLS can refer to without keeping it."""

    __slots__ = ("__weakref__",)


class TlsStream:
    """TLS on a socket that does not block, with the calls that the socket has itself."""

    __slots__ = ("_tls",)

    def __init__(self, context: ssl.SSLContext, sock: TlsSocket, is_service: bool) -> None:
        self._tls: Any = context._wrap_socket(sock, is_service)  # type: ignore[attr-defined]

    def is_ready(self) -> bool:
        """Goes on with the handshake; whether it is done. Raises OSError when it failed."""
        try:
            self._tls.do_handshake()
        except _WAIT:
            return False
        return True

    @property
    def protocol(self) -> str | None:
        """What both ends agreed upon (ALPN, RFC 7301)."""
        agreed: str | None = self._tls.selected_alpn_protocol()
        return agreed

    def recv_into(self, buffer: Any, most: int = 0, flags: int = 0) -> int:
        """As a socket's; 0 where the other end has said goodbye. `flags` are for plain sockets."""
        try:
            got: int = self._tls.read(most or len(buffer), buffer)
        except _WAIT:
            raise BlockingIOError from None
        except _END:
            return 0
        return got

    def send(self, data: Any, flags: int = 0) -> int:
        """As a socket's."""
        try:
            sent: int = self._tls.write(data)
        except _WAIT:
            raise BlockingIOError from None
        return sent

    def say_goodbye(self) -> None:
        """Tells the other end that nothing more comes (close_notify)."""
        try:
            self._tls.shutdown()
        except OSError:  # it need not be answered
            return
