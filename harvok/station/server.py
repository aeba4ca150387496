"""Serves a station: binds its port on both IP versions, sweeps dead sessions, stops cleanly on SIGINT and SIGTERM."""

import asyncio
import contextlib
import signal
from collections.abc import Callable, Iterator
from socket import socket

import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from harvok.clock import SYSTEM
from harvok.station.http import make_app
from harvok.station.service import Station, StationSettings
from harvok.traffic.reflector import Reflector
from harvok.traffic.sockets import listen

_SWEEP_S = 0.5
_FIRST_REQUEST_S = 10.0
_MAX_CONNECTIONS = 64


class _PatientProtocol(H11Protocol):
    """HTTP/1.1 that hangs up on a connection which never sends a request, so that idle ones cannot pile up."""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self.loop.call_later(_FIRST_REQUEST_S, self._hang_up_if_silent)

    def _hang_up_if_silent(self) -> None:
        if self.cycle is None and not self.transport.is_closing():
            self.transport.close()


class _Server(uvicorn.Server):
    """Leaves signals to us: a station that was asked to stop ends with exit code 0."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


def serve(settings: StationSettings, ready: Callable[[], None], tell: Callable[[str], None]) -> None:
    """Serves until SIGINT or SIGTERM. `ready` is called once near ends can connect, `tell` for each thing that happens.

    Raises NearEndError when the port is taken.
    """
    sockets = listen(settings.host, settings.control_port)
    for probe in listen(settings.host, settings.data_port):  # say now, not in mid-test, that the port is taken
        probe.close()
    reflector = Reflector(settings.reflector, SYSTEM) if settings.reflector else None
    try:
        asyncio.run(_serve(settings, sockets, ready, tell))
    finally:
        if reflector:
            reflector.close()


async def _serve(
    settings: StationSettings, sockets: list[socket], ready: Callable[[], None], tell: Callable[[str], None]
) -> None:
    station = Station(settings, SYSTEM, tell)
    config = uvicorn.Config(
        make_app(station),
        http=_PatientProtocol,
        log_config=None,
        lifespan="off",
        access_log=False,
        server_header=False,
        limit_concurrency=_MAX_CONNECTIONS,
        timeout_keep_alive=10,
        timeout_graceful_shutdown=1,
        h11_max_incomplete_event_size=16 * 1024,
    )
    server = _Server(config)
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, setattr, server, "should_exit", True)
    sweeper = loop.create_task(_sweep(station))
    loop.call_soon(ready)
    try:
        await server.serve(sockets)
    finally:
        sweeper.cancel()
        await asyncio.to_thread(station.close)


async def _sweep(station: Station) -> None:
    while True:
        await asyncio.sleep(_SWEEP_S)
        await asyncio.to_thread(station.sweep)
