"""Varies one or two settings of a TCP test, each point as often as asked, between two baselines, and reads it all."""

import random
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from itertools import product

from harvok.clock import SYSTEM, Clock
from harvok.core.figures import find
from harvok.core.judgement.sample import Series
from harvok.core.judgement.sweep import (
    Order,
    Point,
    Setting,
    SweepReading,
    order_of,
    read_sweep,
    window_bound_bps,
)
from harvok.core.observer import Observer
from harvok.core.procedures.tcp import TcpTest
from harvok.core.units import parse_rate_bps, parse_size_bytes
from harvok.errors import BadQuantityError, NothingFoundError, UsageError
from harvok.logbook.store import Logbook
from harvok.runner.flows import FlowRequest, run_flows
from harvok.runner.keeping import OnRecord
from harvok.runner.samples import series_of

QUANTITY = "goodput-settled"
_BASELINES = ("baseline-before", "baseline-after")

SayPoint = Callable[[int, int, str], None]
"""(number, of how many, what is measured next)."""


@dataclass(frozen=True, slots=True)
class Axis:
    """What is varied, over which values."""

    name: str
    values: tuple[Setting, ...]


@dataclass(frozen=True, slots=True)
class SweepRequest:
    """Everything that `harvok sweep` was asked for. `base` is the test with everything that is not varied; its label's
    series is the name of the sweep."""

    base: FlowRequest
    axes: tuple[Axis, ...]
    repeats: int = 3
    order: Order = "interleaved"
    seed: int = 1

    @property
    def name(self) -> str:
        return self.base.label.series or "sweep"

    @property
    def points(self) -> list[Point]:
        return list(product(*(axis.values for axis in self.axes)))

    @property
    def runs(self) -> int:
        return (len(self.points) + len(_BASELINES)) * self.repeats


def _number(text: str) -> float:
    if not text.isdigit():
        raise BadQuantityError(f"'{text}' is not a whole number", "Give a number such as 4.")
    return float(text)


_READ: dict[str, Callable[[str], float]] = {
    "socket-buffer": lambda text: float(parse_size_bytes(text)),
    "flows": _number,
    "mss": _number,
    "dscp": _number,
    "pacing": parse_rate_bps,
}
AXES = (*_READ, "congestion-control")


def parse_axis(text: str) -> Axis:
    """Reads `flows=1,2,4` or `socket-buffer=64k,256k,1M`. Raises UsageError naming what is wrong."""
    name, sign, values = text.partition("=")
    if not sign or name not in AXES:
        raise UsageError(f"'{text}' varies nothing known", f"Write NAME=VALUE,VALUE,… with one of {', '.join(AXES)}.")
    settings = []
    for value in filter(None, (part.strip() for part in values.split(","))):
        try:
            settings.append(Setting(name, value, _READ[name](value) if name in _READ else None))
        except BadQuantityError as error:
            raise UsageError(f"{name}: {error.message}", error.hint) from error
    if len(settings) < 2:
        raise UsageError(f"{name} has fewer than two values", "A sweep needs something to vary.")
    return Axis(name, tuple(settings))


def run_sweep(
    request: SweepRequest, observer: Observer, on_record: OnRecord, say: SayPoint, clock: Clock = SYSTEM
) -> list[SweepReading]:
    """Measures the baseline, every point in its turn, and the baseline again; returns a reading for each direction.

    Raises whatever breaks a run off; what was measured until then is in the logbook.
    """
    points = request.points
    sequence: list[tuple[str, Point | None]] = [(_BASELINES[0], None)] * request.repeats
    shuffle = random.Random(request.seed).shuffle if request.order == "random" else None
    turns = order_of(len(points), request.repeats, shuffle)
    sequence += [(point_name(points[turn]), points[turn]) for turn in turns]
    sequence += [(_BASELINES[1], None)] * request.repeats
    for number, (name, point) in enumerate(sequence, 1):
        say(number, len(sequence), name.replace("baseline-", "baseline, "))
        run_flows(_flow_request(request, name, point), observer, on_record, clock)
    return read(request)


def _flow_request(request: SweepRequest, name: str, point: Point | None) -> FlowRequest:
    base = request.base
    attributes = base.label.attributes | {setting.name: setting.text for setting in point or ()}
    label = replace(base.label, series=f"{request.name}.{name}", attributes=attributes)
    test = base.test
    for setting in point or ():
        assert isinstance(test, TcpTest)
        test = _with_setting(test, setting)
    return replace(base, test=test, label=label, repeat=1)


def _with_setting(test: TcpTest, setting: Setting) -> TcpTest:
    """The test with one setting changed."""
    trial, number = test.trial, setting.number
    if setting.name == "flows":
        return replace(test, trial=replace(trial, flows=int(number or 1)))
    options = {
        "socket-buffer": {"socket_buffer_bytes": int(number or 0)},
        "mss": {"mss_bytes": int(number or 0)},
        "dscp": {"dscp": int(number or 0)},
        "pacing": {"pacing_bps": number},
        "congestion-control": {"congestion_control": setting.text},
    }[setting.name]
    return replace(test, trial=replace(trial, options=replace(trial.options, **options)))  # type: ignore[arg-type]


def point_name(point: Point) -> str:
    """A point as part of a series' name."""
    return "_".join(f"{setting.name}-{setting.text}" for setting in point)


def read(request: SweepRequest) -> list[SweepReading]:
    """Reads a sweep from the logbook: one reading for each direction that was measured."""
    with closing(Logbook(request.base.logbook)) as logbook:
        points = [(point, _series(logbook, request, point_name(point))) for point in request.points]
        before, after = (_series(logbook, request, name) for name in _BASELINES)
        rtts_s = {way: _least_rtt_s([before, *(series for _, series in points)], way) for way in ("send", "receive")}
    readings = []
    for direction in ("send", "receive"):
        theory = [_theory(point, rtts_s[direction]) for point in request.points]
        found = read_sweep(points, before, after, QUANTITY, direction, theory)
        if found:
            readings.append(found)
    return readings


def _series(logbook: Logbook, request: SweepRequest, name: str) -> Series:
    try:
        return series_of(logbook, f"{request.name}.{name}")
    except NothingFoundError:
        return Series(name, [])


def _least_rtt_s(series: Sequence[Series], direction: str) -> float | None:
    found = [find(run.figures, "rtt-least", direction=direction) for one in series for run in one.runs]
    return min((value for value in found if value), default=None)


def _theory(point: Point, rtt_s: float | None) -> float | None:
    """What a window lets through: of a socket buffer, for each of the flows."""
    flows = next((s.number for s in point if s.name == "flows"), 1.0) or 1.0
    buffer = next((s.number for s in point if s.name == "socket-buffer"), None)
    if buffer is None or not rtt_s:
        return None
    return window_bound_bps(buffer, rtt_s) * flows
