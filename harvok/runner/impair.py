"""Runs an impairment between two ports of this host, lets another terminal ask after it, change it and end it."""

import contextlib
import json
import os
import socket
import threading
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from harvok.clock import SYSTEM, Clock
from harvok.core.impairment import ImpairmentReport
from harvok.core.models.impairment import ImpairmentFile, ImpairmentRecord
from harvok.errors import NothingFoundError, UsageError
from harvok.host.interfaces import port_that_is_up
from harvok.host.netem import is_on, put_on, take_off
from harvok.host.offloads import one_frame_at_a_time, restore_features
from harvok.host.state import (
    CHANGED_FEATURES,
    IMPAIRMENT_SOCKET,
    KERNEL_IMPAIRMENT,
    has_state,
    read_state,
    remove_state,
    state_path,
    write_state,
)
from harvok.rigs.impaired import ImpairedPath, OnReport

_POLL_S = 0.1
_MAX_BYTES = 65536


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
        only_one() as listener,  # first, so that one which is refused has touched nothing
        one_frame_at_a_time(request.ports, CHANGED_FEATURES),
        ImpairedPath(request.ports, request.file.plan(), on_report=on_report) as path,
    ):
        control = ImpairmentControl(listener, path, request.file, request.ports)
        deadline_ns = None if request.duration_s is None else clock.now_ns() + int(request.duration_s * 1e9)
        with contextlib.suppress(KeyboardInterrupt):
            while path.runs and not control.ended and (deadline_ns is None or clock.now_ns() < deadline_ns):
                clock.sleep(_POLL_S)
        return path.stop()


def _check(name: str) -> None:
    """Raises PortError unless frames may be carried through a port."""
    port_that_is_up(
        name,
        "`harvok ports` lists them.",
        "An impairment would carry that network over to the other port: take ports that nothing else uses.",
    )


@contextlib.contextmanager
def only_one(place: Path | None = None) -> Iterator[socket.socket]:
    """Where others come to ask, usually of the whole host. Raises UsageError when an impairment answers there now."""
    place = place or state_path(IMPAIRMENT_SOCKET)
    if _is_served(place):
        raise UsageError("an impairment runs on this host already", "End it first: harvok impair stop")
    place.unlink(missing_ok=True)
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as listener:
        listener.bind(str(place))
        place.chmod(0o600)
        listener.listen(4)
        try:
            yield listener
        finally:
            place.unlink(missing_ok=True)


class ImpairmentControl:
    """Answers `harvok impair show`, `change` and `stop` from other terminals of the same user, until its door shuts."""

    def __init__(
        self, listener: socket.socket, path: ImpairedPath, file: ImpairmentFile, ports: tuple[str, str]
    ) -> None:
        self.ended = False
        self._listener, self._path, self._file, self._ports = listener, path, file, ports
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                guest, _ = self._listener.accept()
            except OSError:
                return
            with guest, contextlib.suppress(OSError, ValueError, KeyError, TypeError):
                guest.settimeout(2)
                asked = json.loads(guest.recv(_MAX_BYTES))
                guest.sendall(json.dumps(self._answer(asked)).encode())

    def _answer(self, asked: dict[str, Any]) -> dict[str, Any]:
        if asked["do"] == "stop":
            self.ended = True
        elif asked["do"] == "change":
            file = ImpairmentFile.model_validate(asked["impairment"])
            self._path.apply(file.plan())
            self._file = file
        report = self._path.last
        return {
            "name": self._file.name,
            "process": os.getpid(),
            "ports": self._ports,
            "impairment": self._file.model_dump(exclude_defaults=True) | {"version": self._file.version},
            "report": asdict(report) if report else None,
        }


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
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as control:
        try:
            control.settimeout(5)
            control.connect(str(state_path(IMPAIRMENT_SOCKET)))
            control.sendall(json.dumps(asked).encode())
            answer = b"".join(iter(lambda: control.recv(_MAX_BYTES), b""))
            reported: dict[str, Any] = json.loads(answer)
        except (OSError, ValueError) as error:
            raise NothingFoundError(
                "no impairment runs on this host", "Start one: harvok impair start PORT OTHER metro"
            ) from error
    return reported


def at_work() -> ImpairmentRecord | None:
    """The impairment that runs on this host just now, by a bridge or by its kernel; None when there is none."""
    if has_state(IMPAIRMENT_SOCKET):
        with contextlib.suppress(NothingFoundError):
            reported = ask("show")
            file = ImpairmentFile.model_validate(reported["impairment"])
            return ImpairmentRecord(carried_out_by="bridge", impairment=file, ports=reported["ports"])
    notes = read_state(KERNEL_IMPAIRMENT)
    if notes is None:
        return None
    try:
        reported = json.loads(notes)
        file = ImpairmentFile.model_validate(reported["impairment"])
        if is_on(reported["port"]):
            return ImpairmentRecord(carried_out_by="kernel", impairment=file, ports=[reported["port"]])
    except (ValueError, KeyError):
        return None
    return None


@contextlib.contextmanager
def borrowed_bridge() -> Iterator[ImpairmentFile]:
    """What the bridge of this host does, which may be changed meanwhile (`ask("change", …)`); it is put back after.

    Raises NothingFoundError when none runs.
    """
    found = at_work()
    if not found or found.carried_out_by != "bridge":
        raise NothingFoundError(
            "no impairment runs on this host, so there is none to vary",
            "Start one between two ports: harvok impair start PORT OTHER clean. Or try it on virtual ports: "
            "harvok impair try clean sweep --over …, or run PLAN.",
        )
    try:
        yield found.impairment
    finally:
        with contextlib.suppress(NothingFoundError):
            ask("change", found.impairment)


def put_on_kernel(port: str, file: ImpairmentFile) -> None:
    """Lets the kernel impair what a port sends, and notes it for the records of runs. Raises as `netem.put_on` does,
    and UsageError for a schedule, which the kernel does not keep."""
    if file.schedule:
        raise UsageError("the kernel keeps no schedule", "Use the bridge: harvok impair start PORT OTHER FILE")
    put_on(port, file.plan().stages[0].send)
    reported = {"port": port, "impairment": file.model_dump(exclude_none=True)}
    write_state(KERNEL_IMPAIRMENT, json.dumps(reported))


def clear_kernel(port: str) -> None:
    """Takes it off again. Raises as `netem.take_off` does."""
    take_off(port)
    remove_state(KERNEL_IMPAIRMENT)


def restore_all_features() -> list[str]:
    """Puts back what a killed impairment left changed of its ports; returns their names."""
    return restore_features(CHANGED_FEATURES)
