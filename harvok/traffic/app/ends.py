"""Both ends of application traffic in a trial. The service listens as soon as the trial is prepared; users connect when
they begin, and what they ask proves that they belong to the trial (core.wire.app).
"""

import socket
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from harvok.core.ends import RECEIVE, SEND, End
from harvok.core.trials.app import AppTrial
from harvok.core.wire.app import proof_of
from harvok.traffic.app.orders import UsersOrders
from harvok.traffic.app.watch import ServiceWatch, UsersWatch
from harvok.traffic.sockets import Source, listen
from harvok.traffic.tcp import CONNECT_TIMEOUT_S, DataTarget, open_connection
from harvok.traffic.trial_end import Watch
from harvok.traffic.udp import udp_listeners

_SPEAKS_WITHIN_S = 1
"""Users speak first, whatever the protocol: the kernel hands a connection over when its first request is there."""
_BACKLOG = 65_535
"""As many new connections as the kernel keeps (net.core.somaxconn)."""


SERVICE_ABOVE = 1
"""The near end's service listens this far above the station's data port, for users at the station."""
MEDIA_ABOVE = {"far": 2, "near": 3}
"""Media streams come to the UDP port so far above the data port, at each end."""


@dataclass(frozen=True, slots=True)
class AppSide:
    """What one end has of a trial: where its service listens, also for datagrams of media streams, where its users go
    and from where, and what requests carry."""

    listeners: Sequence[socket.socket]
    target: tuple[str, int]
    source: Source
    proof: str
    media: Sequence[socket.socket] = ()
    media_port: int = 0


class AppListener:
    """The far end's half: listens on the data port until the trial is over; its own users go to `peer`."""

    def __init__(self, trial: AppTrial, trial_id: bytes, key: bytes, host: str | None, port: int, peer: str) -> None:
        self._proof, self._target = proof_of(trial_id, key), (peer, port + SERVICE_ABOVE)
        self._media_port = port + MEDIA_ABOVE["near"]
        ports = port, port + MEDIA_ABOVE["far"]
        self._listeners, self._media = _service(trial, host, *ports) if SEND in trial.streams else ([], [])

    def sockets(self, timeout_s: float) -> AppSide:
        """Who may be asked from now on; they are no longer this one's."""
        listeners, media, self._listeners, self._media = self._listeners, self._media, [], []
        return AppSide(listeners, self._target, Source(), self._proof, media, self._media_port)

    def close(self) -> None:
        """Stops listening, where nobody took over."""
        _close([*self._listeners, *self._media])
        self._listeners, self._media = [], []


def open_users(trial: AppTrial, target: DataTarget, source: Source) -> AppSide:
    """The near end's half: sees whether the data port can be reached, and listens where users are at the station.
    Raises DataBlockedError, and NearEndError for a port that is taken."""
    if SEND in trial.streams:
        open_connection(target, source, CONNECT_TIMEOUT_S).close()
    port = target.address[1]
    ports = port + SERVICE_ABOVE, port + MEDIA_ABOVE["near"]
    listeners, media = _service(trial, source.address, *ports) if RECEIVE in trial.streams else ([], [])
    proof = proof_of(target.trial_id, target.key)
    return AppSide(listeners, target.address, source, proof, media, port + MEDIA_ABOVE["far"])


def _service(
    trial: AppTrial, host: str | None, port: int, media_port: int
) -> tuple[list[socket.socket], list[socket.socket]]:
    """What a service hears: where it listens, and where datagrams of media streams come to, if any do."""
    listeners = _listeners(host, port)
    try:
        return listeners, udp_listeners(host, media_port) if trial.mix.has_media else []
    except BaseException:
        _close(listeners)
        raise


def _listeners(host: str | None, port: int) -> list[socket.socket]:
    listeners = listen(host, port)
    for listener in listeners:
        listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_DEFER_ACCEPT, _SPEAKS_WITHIN_S)
        listener.listen(_BACKLOG)
    return listeners


def app_watches(end: End, trial: AppTrial, side: AppSide) -> Iterator[Watch]:
    """The users, or the service, or both, that one end has in a trial."""
    for stream in trial.streams:
        if stream.role_at(end) == "receiver":
            fds = [listener.fileno() for listener in side.listeners]
            media = [sock.fileno() for sock in side.media]
            yield ServiceWatch(end, stream.name, trial, side.proof, fds, media=media)
        else:
            orders = UsersOrders(trial, side.target, side.proof, side.source, media_port=side.media_port)
            yield UsersWatch(end, stream.name, trial, orders)


def close_side(side: AppSide) -> None:
    """Nobody is listened for any more."""
    _close([*side.listeners, *side.media])


def _close(listeners: Sequence[socket.socket]) -> None:
    for listener in listeners:
        listener.close()
