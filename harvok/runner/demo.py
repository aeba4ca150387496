"""The demo: a station on loopback, and a short before and after, in the world of a mountain observatory.

All of it is real traffic; only the names are made up. `dome` is the near end, `hall` the far end, and what goes wrong
after the re-cabling is a socket buffer that somebody left far too small.
"""

import contextlib
import os
import secrets
import socket
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from harvok.core.ethernet import RFC2544_FRAME_SIZES
from harvok.core.judgement.compare import Comparison, Criteria
from harvok.core.mixes import frame_size
from harvok.core.observer import Observer
from harvok.core.procedures.frames import FrameSettings
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.tcp import TcpTest
from harvok.core.sweeps.axes import FRAME_AXES, parse_axis
from harvok.core.sweeps.reading import SweepReading
from harvok.core.trials.tcp import SocketOptions, TcpTrial
from harvok.errors import NearEndError
from harvok.rigs.rig_files import read_rig
from harvok.rigs.stations import StationsSettings
from harvok.runner.compare import compare_series
from harvok.runner.recorder import OnRecord
from harvok.runner.request import Label, RigPlace, TestRequest
from harvok.runner.run import run_test
from harvok.runner.sweeps import SayPoint, SweepRequest, run_sweep
from harvok.station.contact import Access
from harvok.station.keys import KEYS_FOLDER, Keys
from harvok.worker.parent import module_command

REPEATS = 5
SMALL_BUFFER_BYTES = 8000
BEFORE, AFTER = "before-recabling", "after-recabling"
CHANGED = "socket-buffer"

TODAY, OFFERED = "dome-sw-a", "dome-sw-b"
SWEEP = "offered-under-load"
VARIED, HELD = "load=10%..100%/10", ("frame-size=64", "load=30%")

_RIGS = Path(__file__).parents[1] / "rigs" / "demo"
_DURATION_S = 0.8
_TICK_S = 0.02
_READY = "is ready"


@dataclass(frozen=True, slots=True)
class DemoStation:
    """A station that runs on loopback for the time of the demo."""

    address: str
    access: Access


@contextlib.contextmanager
def demo_station(name: str = "hall", options: Sequence[str] = ()) -> Iterator[DemoStation]:
    """Starts a station as a process of its own, with options of its own, known to nobody else, and ends it. Raises
    NearEndError when it does not start."""
    port, token = _free_ports(), secrets.token_hex(8)
    command = module_command("harvok", "station", "--host", "127.0.0.1", "--port", str(port), "--name", name, *options)
    with tempfile.TemporaryDirectory() as folder:
        process = subprocess.Popen(
            command,
            env=os.environ | {"HARVOK_TOKEN": token, KEYS_FOLDER: folder},
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,
        )
        try:
            _await_ready(process)
            keys = Keys(Path(folder))
            yield DemoStation(f"127.0.0.1:{port}", Access(token, keys.code, keys=keys))
        finally:
            process.terminate()
            process.communicate()


def _await_ready(process: "subprocess.Popen[str]") -> None:
    assert process.stdout
    line = process.stdout.readline()
    if _READY not in line:
        raise NearEndError(f"the demo's station did not start: {line.strip()}", "Run `harvok station` to see why.")


def _free_ports() -> int:
    """A loopback port that is free, and whose upper neighbour is free as well."""
    for _ in range(50):
        with socket.socket() as lower, socket.socket() as upper:
            lower.bind(("127.0.0.1", 0))
            port = int(lower.getsockname()[1])
            with contextlib.suppress(OSError, OverflowError):
                upper.bind(("127.0.0.1", port + 1))
                return port
    raise NearEndError("no two free ports in a row on loopback", "Close other programs, and try again.")


def new_demo_logbook(folder: Path) -> Path:
    """Where the demo keeps its runs; those of an earlier demo are forgotten."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "demo.sqlite"
    path.unlink(missing_ok=True)
    return path


def measure_series(
    station: DemoStation, series: str, socket_buffer_bytes: int | None, place: str, observer: Observer, tell: OnRecord
) -> None:
    """Takes the repeats of one series of the demo."""
    options = SocketOptions(socket_buffer_bytes=socket_buffer_bytes)
    trial = TcpTrial((), duration_s=_DURATION_S, interval_s=_DURATION_S / 2, tick_s=_TICK_S, options=options)
    request = TestRequest(
        place=StationsSettings(station.address, station.access, near_name="dome"),
        test=TcpTest("each", trial),
        logbook=place,
        command=["harvok", "demo"],
        label=Label(series=series, attributes={"lead": "spectro-lead-07"}, note="made by harvok demo"),
        repeat=REPEATS,
        wait_s=60.0,
    )
    run_test(request, observer, tell)


def compare_demo(place: str) -> Comparison:
    """Before against after, with the changed buffer declared."""
    return compare_series(place, BEFORE, AFTER, Criteria(), [CHANGED])


def benchmark_switch(name: str, place: str, observer: Observer, tell: OnRecord) -> None:
    """Takes the repeats of one simulated switch, in virtual time; the series has the switch's name."""
    rig = read_rig(_RIGS / f"{name}.toml")
    sizes = tuple(frame_size(str(size)) for size in RFC2544_FRAME_SIZES)
    test = FrameTest(("throughput", "latency", "loss"), sizes, FrameSettings(line_bps=rig.rated))
    request = TestRequest(RigPlace(rig), test, place, ["harvok", "demo"], Label(series=name), REPEATS)
    run_test(request, observer, tell)


def sweep_switch(place: str, observer: Observer, tell: OnRecord, say: SayPoint) -> list[SweepReading]:
    """What the offered switch makes of small frames as the load on it is raised, in virtual time."""
    rig = read_rig(_RIGS / f"{OFFERED}.toml")
    test = LoadTest((1.0,), (frame_size("64"),), FrameSettings(line_bps=rig.rated))
    base = TestRequest(RigPlace(rig), test, place, ["harvok", "demo"], Label(series=SWEEP))
    held = tuple(parse_axis(text, FRAME_AXES, min_values=1).values[0] for text in HELD)
    return run_sweep(SweepRequest(base, (parse_axis(VARIED, FRAME_AXES),), held), observer, tell, say)


def compare_switches(place: str) -> Comparison:
    """The switch that is offered against today's."""
    return compare_series(place, TODAY, OFFERED, Criteria())
