"""The HTTP face of a station: JSON on one TCP port. docs/control-protocol.md describes it.

Nothing of a request is read before its token is found right, and no body may be large.
"""

import asyncio
import secrets
from collections.abc import Iterator

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, StreamingResponse
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from harvok import __version__
from harvok.core.conditions import HostConditions, InterfaceCounters, InterfaceFacts
from harvok.core.models.control import (
    ErrandRequest,
    FarEndResult,
    FrameAnswer,
    FrameOrder,
    KernelDrops,
    LentPortCounts,
    NearEnd,
    Pass,
    PassRequest,
    PreparedTrial,
    Progress,
    Session,
    SessionRequest,
    StationFacts,
    TrialRequest,
    WallClock,
)
from harvok.errors import FarEndError, HarvokError, LimitError, NearEndError, ProtocolError, TokenError
from harvok.host.facts import host_conditions, interface_counters
from harvok.station.doors import Doors
from harvok.station.far_end import fault_of
from harvok.station.passes import Passes
from harvok.station.service import Station

_LARGEST_BODY_BYTES = 512 * 1024
_BODY_S = 10.0
_CLOSE = {"Connection": "close"}
_SAME_VERSION = "Upgrade the older end of the two."
_STATUS: list[tuple[type[HarvokError], int]] = [
    (TokenError, 401),
    (LimitError, 422),
    (NearEndError, 422),  # what this host's kernel refuses of a request, or lacks for it
    (FarEndError, 409),
    (HarvokError, 503),
]
"""The status of an error; the first that fits."""


def make_app(station: Station, doors: Doors) -> FastAPI:
    """The service of a station as an ASGI application; it tells the doors who has proven himself."""
    app = FastAPI(title="Harvok station", version=__version__, docs_url=None, redoc_url=None)

    @app.exception_handler(HarvokError)
    def harvok_error(_: Request, error: HarvokError) -> JSONResponse:
        return _refusal(error)

    @app.exception_handler(RequestValidationError)
    def unreadable(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        return _refusal(ProtocolError(f"the request is not readable at {place}: {first['msg']}", _SAME_VERSION), 422)

    @app.exception_handler(HTTPException)
    def no_such_call(_: Request, error: HTTPException) -> JSONResponse:
        unknown = ProtocolError(f"the station knows no such call: {error.detail}", _SAME_VERSION)
        return _refusal(unknown, error.status_code)

    _add_session_routes(app, station)
    _add_half_routes(app, station)
    _add_errand_routes(app, station)
    _add_clock_route(app, station)
    _add_lending_routes(app, station)
    app.add_middleware(Guard, token=station.settings.token, passes=station.passes, doors=doors)
    return app


def _refusal(error: HarvokError, status: int | None = None, headers: dict[str, str] | None = None) -> JSONResponse:
    status = status or next(status for kind, status in _STATUS if isinstance(error, kind))
    return JSONResponse(fault_of(error).model_dump(), status, headers=headers)


def _add_session_routes(app: FastAPI, station: Station) -> None:
    @app.get("/v1/station")
    def facts() -> StationFacts:
        return station.facts()

    @app.put("/v1/pairing", status_code=204)
    def pair(body: NearEnd, request: Request) -> None:
        station.pair(body, _peer(request))

    @app.post("/v1/sessions", status_code=201)
    def claim(body: SessionRequest, request: Request) -> Session:
        return station.claim(body, _peer(request))

    @app.post("/v1/sessions/{session}/renewal", status_code=204)
    def renew(session: str) -> None:
        station.sessions.renew(session)

    @app.delete("/v1/sessions/{session}", status_code=204)
    def give_back(session: str) -> None:
        station.give_back(session)

    @app.get("/v1/sessions/{session}/conditions")
    def conditions(session: str, request: Request) -> HostConditions:
        station.sessions.renew(session)
        return host_conditions(_peer(request), name=station.settings.name)

    @app.get("/v1/sessions/{session}/counters")
    def counters(session: str, request: Request) -> InterfaceCounters | None:
        station.sessions.renew(session)
        port = host_conditions(_peer(request)).interface
        return interface_counters(port.name) if port else None


def _add_clock_route(app: FastAPI, station: Station) -> None:
    @app.get("/v1/sessions/{session}/clock")
    def clock(session: str) -> WallClock:
        station.sessions.renew(session)
        return station.wall_clock()


def _add_half_routes(app: FastAPI, station: Station) -> None:
    @app.post("/v1/sessions/{session}/trial", status_code=201)
    def prepare(session: str, body: TrialRequest, request: Request) -> PreparedTrial:
        return station.prepare(session, body.trial, _peer(request))

    @app.post("/v1/sessions/{session}/trial/start", status_code=204)
    def start(session: str) -> None:
        station.sessions.renew(session)
        station.far_end(session).start()

    @app.get("/v1/sessions/{session}/trial/progress")
    def progress(session: str) -> StreamingResponse:
        station.sessions.renew(session)
        return StreamingResponse(_lines(station.far_end(session).progress()), media_type="application/jsonl")

    @app.get("/v1/sessions/{session}/trial/result")
    def result(session: str) -> FarEndResult:
        station.sessions.renew(session)
        return station.far_end(session).result()

    @app.delete("/v1/sessions/{session}/trial", status_code=204)
    def release(session: str) -> None:
        station.sessions.renew(session)
        station.far_end(session).release()


def _add_errand_routes(app: FastAPI, station: Station) -> None:
    @app.post("/v1/passes", status_code=201)
    def make_pass(body: PassRequest) -> Pass:
        return station.make_pass(body.for_s)

    @app.post("/v1/sessions/{session}/errand", status_code=204)
    def take(session: str, body: ErrandRequest) -> None:
        station.sessions.renew(session)
        station.take_errand(session, body)

    @app.get("/v1/sessions/{session}/errand/progress")
    def progress(session: str) -> StreamingResponse:
        station.sessions.renew(session)
        return StreamingResponse(station.errand(session).lines(), media_type="application/jsonl")

    @app.delete("/v1/sessions/{session}/errand", status_code=204)
    def drop(session: str) -> None:
        station.sessions.renew(session)
        station.drop_errand(session)


def _add_lending_routes(app: FastAPI, station: Station) -> None:
    @app.post("/v1/sessions/{session}/ports", status_code=204)
    def lend(session: str) -> None:
        station.sessions.renew(session)
        station.lend(session)

    @app.get("/v1/sessions/{session}/ports/drops")
    def drops(session: str) -> KernelDrops:
        return KernelDrops(frames=station.lent(session).kernel_drops())

    @app.get("/v1/sessions/{session}/ports/news")
    def news(session: str) -> StreamingResponse:
        station.sessions.renew(session)
        return StreamingResponse(station.lent(session).news(), media_type="application/jsonl")

    @app.get("/v1/sessions/{session}/ports/{port}/facts")
    def facts(session: str, port: str) -> InterfaceFacts:
        return station.lent(session).facts(port)

    @app.get("/v1/sessions/{session}/ports/{port}/counters")
    def counters(session: str, port: str) -> LentPortCounts:
        return station.lent(session).counts(port)

    @app.post("/v1/sessions/{session}/ports/orders", status_code=204)
    def order(session: str, body: FrameOrder) -> None:
        station.sessions.renew(session)
        station.lent(session).order(body)

    @app.post("/v1/sessions/{session}/ports/help")
    def help_(session: str, body: FrameOrder) -> FrameAnswer:
        station.sessions.renew(session)
        return FrameAnswer(line=station.lent(session).help(body))

    @app.post("/v1/sessions/{session}/ports/rows/{row}/begin", status_code=204)
    def begin(session: str, row: int) -> None:
        station.lent(session).begin(row)

    @app.post("/v1/sessions/{session}/ports/rows/{row}/stop", status_code=204)
    def stop(session: str, row: int) -> None:
        station.lent(session).stop(row)


def _peer(request: Request) -> str:
    return request.client.host if request.client else "unknown"


def _lines(progress: Iterator[Progress | None]) -> Iterator[str]:
    """Progress as JSON Lines; an empty line says that the station still lives."""
    for message in progress:
        yield "\n" if message is None else message.model_dump_json(exclude_none=True) + "\n"


class Guard:
    """Lets only requests with the right token or a pass, and a small body that comes in time, through to the
    service."""

    def __init__(self, app: ASGIApp, token: str, passes: Passes, doors: Doors) -> None:
        self._app, self._passes, self._doors = app, passes, doors
        self._wanted = f"Bearer {token}".encode()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return None
        got = dict(scope["headers"]).get(b"authorization", b"")
        if not secrets.compare_digest(got, self._wanted) and not self._passes.admit(got, scope["path"]):
            error = TokenError("the station does not accept this token", "Use the token that the station printed.")
            refusal = _refusal(error, headers=_CLOSE | {"WWW-Authenticate": "Bearer"})
        elif not self._doors.prove(scope.get("client")):
            refusal = _refusal(LimitError("the station has too many connections", "Try again later."), 503, _CLOSE)
        else:
            return await self._let_in(scope, receive, send)
        return await refusal(scope, receive, send)

    async def _let_in(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Hands a request on once it is there whole."""
        try:
            body = await asyncio.wait_for(_whole_body(receive), _BODY_S)
        except TimeoutError:
            late = ProtocolError(f"the request did not come within {_BODY_S:.0f} s", _SAME_VERSION)
            return await _refusal(late, 408, _CLOSE)(scope, receive, send)
        if len(body) > _LARGEST_BODY_BYTES:
            large = ProtocolError(f"no request has more than {_LARGEST_BODY_BYTES} B", _SAME_VERSION)
            return await _refusal(large, 413, _CLOSE)(scope, receive, send)
        return await self._app(scope, _replayed(body, receive), send)


async def _whole_body(receive: Receive) -> bytes:
    """The body of a request, or its beginning once that is more than any real one holds."""
    body, goes_on = b"", True
    while goes_on and len(body) <= _LARGEST_BODY_BYTES:
        message = await receive()
        body += message.get("body", b"")
        goes_on = message.get("more_body", False)
    return body


def _replayed(body: bytes, receive: Receive) -> Receive:
    """Hands on a body that was read, and then whatever else comes."""
    left: list[Message] = [{"type": "http.request", "body": body, "more_body": False}]

    async def replayed() -> Message:
        return left.pop() if left else await receive()

    return replayed
