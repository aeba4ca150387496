"""The HTTP face of a station: JSON on one TCP port. docs/control-protocol.md describes it.

Nothing of a request is read before its token is found right, and no body may be large.
"""

import secrets
from collections.abc import Iterator

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, StreamingResponse
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from harvok import __version__
from harvok.core.conditions import HostConditions, InterfaceCounters
from harvok.core.models.control import (
    FarEndResult,
    PreparedTrial,
    Session,
    SessionRequest,
    StationFacts,
    TrialRequest,
)
from harvok.errors import BusyError, HarvokError, LimitError, ProtocolError, TokenError
from harvok.host.facts import host_conditions, interface_counters
from harvok.station.far_end import FarEnd, fault_of
from harvok.station.service import Station

_LARGEST_BODY_BYTES = 64 * 1024
_SAME_VERSION = "Upgrade the older end of the two."
_STATUS = {BusyError: 409, ProtocolError: 409, LimitError: 422, TokenError: 401}


def make_app(station: Station) -> FastAPI:
    """The service of a station as an ASGI application."""
    app = FastAPI(title="Harvok station", version=__version__, docs_url=None, redoc_url=None)

    @app.exception_handler(HarvokError)
    def harvok_error(_: Request, error: HarvokError) -> JSONResponse:
        return JSONResponse(fault_of(error).model_dump(), _STATUS.get(type(error), 500))

    @app.exception_handler(RequestValidationError)
    def unreadable(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        fault = ProtocolError(f"the request is not readable at {place}: {first['msg']}", _SAME_VERSION)
        return JSONResponse(fault_of(fault).model_dump(), 422)

    @app.exception_handler(HTTPException)
    def no_such_call(_: Request, error: HTTPException) -> JSONResponse:
        fault = ProtocolError(f"the station knows no such call: {error.detail}", _SAME_VERSION)
        return JSONResponse(fault_of(fault).model_dump(), error.status_code)

    _add_session_routes(app, station)
    _add_half_routes(app, station)
    app.add_middleware(Guard, token=station.settings.token)
    return app


def _add_session_routes(app: FastAPI, station: Station) -> None:
    @app.get("/v1/station")
    def facts() -> StationFacts:
        return station.facts()

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


def _add_half_routes(app: FastAPI, station: Station) -> None:
    @app.post("/v1/sessions/{session}/trial", status_code=201)
    def prepare(session: str, body: TrialRequest) -> PreparedTrial:
        station.sessions.renew(session)
        return station.prepare(body.trial)

    @app.post("/v1/sessions/{session}/trial/start", status_code=204)
    def start(session: str) -> None:
        station.sessions.renew(session)
        station.far_end.start()

    @app.get("/v1/sessions/{session}/trial/progress")
    def progress(session: str) -> StreamingResponse:
        station.sessions.renew(session)
        return StreamingResponse(_lines(station.far_end), media_type="application/jsonl")

    @app.get("/v1/sessions/{session}/trial/result")
    def result(session: str) -> FarEndResult:
        station.sessions.renew(session)
        return station.far_end.result()

    @app.delete("/v1/sessions/{session}/trial", status_code=204)
    def release(session: str) -> None:
        station.sessions.renew(session)
        station.far_end.release()


def _peer(request: Request) -> str:
    return request.client.host if request.client else "unknown"


def _lines(far_end: FarEnd) -> Iterator[str]:
    """Progress as JSON Lines; an empty line says that the station still lives."""
    for message in far_end.progress():
        yield "\n" if message is None else message.model_dump_json(exclude_none=True) + "\n"


class Guard:
    """Lets only requests with the right token and a small body through to the service."""

    def __init__(self, app: ASGIApp, token: str) -> None:
        self._app = app
        self._wanted = f"Bearer {token}".encode()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return
        got = dict(scope["headers"]).get(b"authorization", b"")
        if not secrets.compare_digest(got, self._wanted):
            error = TokenError("the station does not accept this token", "Use the token that the station printed.")
            response = JSONResponse(fault_of(error).model_dump(), 401, headers={"WWW-Authenticate": "Bearer"})
            await response(scope, receive, send)
            return
        await self._app(scope, _bounded(receive), send)


def _bounded(receive: Receive) -> Receive:
    """Reads a body, and stands in for the client hanging up once more came than any real request holds."""
    read = 0

    async def bounded() -> Message:
        nonlocal read
        message = await receive()
        read += len(message.get("body", b""))
        return {"type": "http.disconnect"} if read > _LARGEST_BODY_BYTES else message

    return bounded
