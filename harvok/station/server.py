"""Serves a station: binds its port on both IP versions, sweeps dead sessions, stops cleanly when told to end."""

import asyncio
import contextlib
from collections.abc import Callable, Iterator
from socket import socket

import uvicorn
from starlette.types import ASGIApp
from uvicorn.protocols.http.h11_impl import H11Protocol

from harvok.clock import SYSTEM
from harvok.signals import heeded
from harvok.station.browser.door import Begin, Door
from harvok.station.doors import Doors
from harvok.station.http import make_app
from harvok.station.keys import server_context
from harvok.station.service import Station, StationSettings
from harvok.traffic.reflector import Reflector
from harvok.traffic.sockets import listen
from harvok.zones import with_zone

_SWEEP_S = 0.5


class _Protocol(H11Protocol):
    """HTTP/1.1 on a connection that came through the doors."""

    doors: Doors

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        peer = transport.get_extra_info("peername")
        self.client = (with_zone(peer), int(peer[1]))

    def connection_lost(self, exc: Exception | None) -> None:
        super().connection_lost(exc)
        self.doors.leave(self.client)


class _Server(uvicorn.Server):
    """Leaves signals to us: a station that was asked to stop ends with exit code 0."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


MakeBegin = Callable[[Station], Begin]
"""Makes what receives the browsers that visit a station's page."""


def serve(
    settings: StationSettings,
    ready: Callable[[], None],
    tell: Callable[[str], None],
    make_begin: MakeBegin | None = None,
) -> None:
    """Serves until a signal ends it. `ready` is called once near ends can connect, `tell` for each thing that happens;
    browsers are received where there is a page and something receives them.

    Raises NearEndError when the port is taken.
    """
    sockets = listen(settings.host, settings.control_port)
    for probe in listen(settings.host, settings.data_port):  # say now, not in mid-test, that the port is taken
        probe.close()
    reflector = Reflector(settings.reflector, SYSTEM) if settings.reflector else None
    door = None
    try:
        on_guest = reflector.serve_guest if reflector else lambda _: None
        station = Station(settings, SYSTEM, tell, on_guest)
        if settings.page and make_begin:
            listeners = listen(settings.host, settings.page.port)
            door = Door(listeners, settings.name, settings.page.code, make_begin(station), SYSTEM)
            door.serve()
        asyncio.run(_serve(station, sockets, ready))
    finally:
        if door:
            door.close()
        if reflector:
            reflector.close()


async def _serve(station: Station, sockets: list[socket], ready: Callable[[], None]) -> None:
    keys = station.settings.keys
    doors = Doors(server_context(keys, station.settings.only_paired) if keys else None)
    server = _Server(_config(make_app(station, doors)))
    loop = asyncio.get_running_loop()
    for number in heeded():
        loop.add_signal_handler(number, setattr, server, "should_exit", True)

    def make_protocol() -> _Protocol:
        protocol = _Protocol(server.config, server.server_state, {})
        protocol.doors = doors
        return protocol

    beside = [loop.create_task(doors.accept(listener, make_protocol)) for listener in sockets]
    beside.append(loop.create_task(_sweep(station)))
    loop.call_soon(ready)
    try:
        await server.serve([])
    finally:
        for task in beside:
            task.cancel()
        doors.close()
        for listener in sockets:
            listener.close()
        await asyncio.to_thread(station.close)


def _config(app: ASGIApp) -> uvicorn.Config:
    return uvicorn.Config(
        app,
        http=_Protocol,
        log_config=None,
        lifespan="off",
        access_log=False,
        server_header=False,
        timeout_keep_alive=10,
        timeout_graceful_shutdown=1,
        h11_max_incomplete_event_size=16 * 1024,
    )


async def _sweep(station: Station) -> None:
    while True:
        await asyncio.sleep(_SWEEP_S)
        await asyncio.to_thread(station.sweep)
