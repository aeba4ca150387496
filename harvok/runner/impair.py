"""Runs an impairment between two ports of this host, lets another terminal ask after it, change it and end it."""

import contextlib
import json
import os
import socket
import tempfile
import threading
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from harvok.clock import SYSTEM, Clock
from harvok.core.impairment import ImpairmentReport
from harvok.core.models.impairment import ImpairmentFile
from harvok.errors import NothingFoundError, PortError, UsageError
from harvok.host.interfaces import port_state
from harvok.host.left_over import CHANGED_FEATURES, notes_path
from harvok.host.offloads import one_frame_at_a_time, restore_features
from harvok.rigs.impaired import ImpairedPath, OnReport

_POLL_S = 0.1
_SOCKET = "harvok-impairment.sock"
_MOST_BYTES = 65536


@dataclass(frozen=True, slots=True)
class ImpairRequest:
    """Everything that `harvok impair start` was asked for. `duration_s` None goes on until it is ended."""

    ports: tuple[str, str]
    file: ImpairmentFile
    duration_s: float | None = None


def impair(request: ImpairRequest, on_report: OnReport, clock: Clock = SYSTEM) -> ImpairmentReport | None:
    """Impairs the path until the time is over, the keyboard or `harvok impair stop` ends it; returns what it did.

    Raises PortError for ports that cannot be used, UsageError while another impairment runs on this host.
    """
    if request.ports[0] == request.ports[1]:
        raise UsageError("an impairment stands between two ports", "Name two different ones.")
    for port in request.ports:
        _check(port)
    with (
        _only_one() as door,  # first, so that one which is refused has touched nothing
        one_frame_at_a_time(request.ports, notes_path(CHANGED_FEATURES)),
        ImpairedPath(request.ports, request.file.plan(), on_report=on_report) as path,
    ):
        desk = _Desk(door, path, request.file.name)
        deadline_ns = None if request.duration_s is None else clock.now_ns() + int(request.duration_s * 1e9)
        with contextlib.suppress(KeyboardInterrupt):
            while path.runs and not desk.ended and (deadline_ns is None or clock.now_ns() < deadline_ns):
                clock.sleep(_POLL_S)
        return path.stop()


def _check(name: str) -> None:
    """Raises PortError unless frames may be carried through a port."""
    state = port_state(name)
    if state is None:
        raise PortError(f"this host has no port {name}", "`harvok ports` lists them.")
    if state.facts.kind == "loopback" or not state.up:
        raise PortError(f"{name} is {'loopback' if state.up else 'down'}", f"Bring it up: ip link set {name} up")
    if state.default_route:
        raise PortError(
            f"this host reaches its network through {name} (default route)",
            "An impairment would carry that network over to the other port: take ports that nothing else uses.",
        )


@contextlib.contextmanager
def _only_one() -> Iterator[socket.socket]:
    """Where other terminals come to ask. Raises UsageError when an impairment already answers there."""
    place = _socket_path()
    if _is_served(place):
        raise UsageError("an impairment runs on this host already", "End it first: harvok impair stop")
    place.unlink(missing_ok=True)
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as door:
        door.bind(str(place))
        place.chmod(0o600)
        door.listen(4)
        try:
            yield door
        finally:
            place.unlink(missing_ok=True)


class _Desk:
    """Answers `harvok impair show`, `change` and `stop` from other terminals of the same user, until its door shuts."""

    def __init__(self, door: socket.socket, path: ImpairedPath, name: str) -> None:
        self.ended = False
        self._door, self._path, self._name = door, path, name
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                guest, _ = self._door.accept()
            except OSError:
                return
            with guest, contextlib.suppress(OSError, ValueError, KeyError):
                guest.settimeout(2)
                asked = json.loads(guest.recv(_MOST_BYTES))
                guest.sendall(json.dumps(self._answer(asked)).encode())

    def _answer(self, asked: dict[str, Any]) -> dict[str, Any]:
        if asked["do"] == "stop":
            self.ended = True
        elif asked["do"] == "change":
            file = ImpairmentFile.model_validate(asked["impairment"])
            self._path.become(file.plan())
            self._name = file.name
        report = self._path.last
        return {"name": self._name, "process": os.getpid(), "report": asdict(report) if report else None}


def _is_served(place: Path) -> bool:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
        try:
            probe.connect(str(place))
        except OSError:
            return False
    return True


def ask(do: str, file: ImpairmentFile | None = None) -> dict[str, Any]:
    """Asks the impairment that runs on this host for a report, a change or its end. Raises NothingFoundError."""
    asked: dict[str, Any] = {"do": do} | ({"impairment": file.model_dump(exclude_none=True)} if file else {})
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as desk:
        try:
            desk.settimeout(5)
            desk.connect(str(_socket_path()))
            desk.sendall(json.dumps(asked).encode())
            answer = b"".join(iter(lambda: desk.recv(_MOST_BYTES), b""))
            told: dict[str, Any] = json.loads(answer)
        except (OSError, ValueError) as error:
            raise NothingFoundError(
                "no impairment runs on this host", "Start one: harvok impair start PORT OTHER metro"
            ) from error
    return told


def _socket_path() -> Path:
    return Path(tempfile.gettempdir()) / _SOCKET


def put_back_features() -> list[str]:
    """Puts back what a killed impairment left changed of its ports; returns their names."""
    return restore_features(notes_path(CHANGED_FEATURES))
