"""A hundred devices of known faults, measured and judged as a plan or a comparison would, in virtual time.

What each is worth follows from its model, by arithmetic; the verdict is held against that. An ACCEPT of a device that
is not good enough, or a REJECT of one that is, is wrong; a RETEST never is, but decides nothing.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from harvok.core.judgement.assessment import Criterion, Rules
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.criteria import judge
from harvok.core.judgement.finding import Verdict
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.rfc2544 import FrameTest, TestName
from harvok.rigs.device import Device, carries
from harvok.rigs.simulated import SimulatedPorts
from harvok.testing.measuring import findings_of

_LINE_BPS = 1e9
_SETTINGS = FrameSettings(line_bps=_LINE_BPS)
_REPEATS = 5
_SIZES = (FrameSize("64", (64,)), FrameSize("1518", (1518,)))
_GOOD = Device(_LINE_BPS, latency_s=8e-6, jitter_s=1e-6)
_SHARE = 0.9
"""Of line rate: what the devices are asked to carry."""


@dataclass(frozen=True, slots=True)
class DeviceCase:
    """One device: what it was in each repeat, what is asked of it, and what it is worth.

    With `before` it is compared with that one; else `criterion` is judged. `truth` is ACCEPT or REJECT; RETEST stands
    for a fault that shows in one repeat alone, which is not to be accepted.
    """

    fault: str
    name: str
    size: FrameSize
    devices: tuple[Device, ...]
    truth: Verdict
    criterion: Criterion | None = None
    before: Device | None = None
    tests: tuple[TestName, ...] = ("throughput",)
    full_s: float = _SETTINGS.full_s


def device_cases() -> Iterator[DeviceCase]:
    """All of them."""
    for size in _SIZES:
        yield from _capacities(size)
        yield from _misdeeds(size)
        yield from _latencies(size)
        yield from _intermittent(size)
        yield from _changes(size)


def _same(device: Device) -> tuple[Device, ...]:
    return (device,) * _REPEATS


def _of_share(fault: str, name: str, size: FrameSize, device: Device, minimum: float = _SHARE) -> DeviceCase:
    """A device that is to carry a share of line rate: whether it does, its model says."""
    load_fps = minimum * size.line_fps(_LINE_BPS)
    good = carries(device, size.mean_bytes, load_fps, _SETTINGS.full_s) and not device.loss
    limit = Criterion("throughput-share", "unit", minimum=minimum)
    return DeviceCase(fault, name, size, _same(device), "ACCEPT" if good else "REJECT", limit)


def _capacities(size: FrameSize) -> Iterator[DeviceCase]:
    line_fps = size.line_fps(_LINE_BPS)
    for share in (0.3, 0.7, 0.85, 0.895, 0.905, 0.95, 1.0):
        device = replace(_GOOD, forwarding_fps=share * line_fps, buffer_frames=100)
        yield _of_share("capacity", f"{share:.1%} of line rate", size, device)
    for share in (0.5, 0.8, 0.99):
        device = replace(_GOOD, forwarding_bps=share * line_fps * size.mean_bytes * 8, buffer_bytes=64_000)
        yield _of_share("capacity", f"{share:.0%} in bits", size, device)
    yield _of_share(
        "deep buffer", "half of line rate, unlimited buffer", size, replace(_GOOD, forwarding_fps=line_fps / 2)
    )
    for share in (0.88, 0.92):  # of line rate, with a buffer that hides in 2 s whatever is asked above
        deep = replace(_GOOD, forwarding_fps=share * line_fps, buffer_frames=line_fps)
        limit = Criterion("throughput-share", "unit", minimum=_SHARE)
        truth: Verdict = "ACCEPT" if share > _SHARE else "REJECT"
        name = f"{share:.0%} of line rate, a buffer of 1 s, trials of 2 s"
        yield DeviceCase("deep buffer", name, size, _same(deep), truth, limit, full_s=2.0)
    yield _of_share("dead", "forwards nothing", size, replace(_GOOD, forwarding_fps=0.0, buffer_frames=0.0))
    for share in (0.7, 0.95):
        hot = replace(_GOOD, hot_after_s=20.0, hot_share=share, buffer_frames=100)
        yield _of_share("heat", f"falls to {share:.0%} after 20 s", size, hot)
    gaps = replace(_GOOD, burst_every_s=9.0, burst_s=0.005)
    yield _of_share("gaps", "loses all for 5 ms every 9 s", size, gaps)
    for capacity in (300.0, 5000.0):
        slow = replace(_GOOD, forwarding_fps=capacity, buffer_frames=10)
        for factor in (0.9, 1.1):
            yield _of_share("slow", f"{capacity:g} frames/s", size, slow, factor * capacity / line_fps)


def _misdeeds(size: FrameSize) -> Iterator[DeviceCase]:
    for loss in (1e-5, 1e-3, 0.05):
        yield _of_share("random loss", f"loses {loss:.3%}", size, replace(_GOOD, loss=loss))
    for share in (0.0, 0.0002, 0.005, 0.05):
        truth: Verdict = "ACCEPT" if share <= 0.0005 else "REJECT"
        duplicates = Criterion("frame-duplicates", "unit", maximum=0.0005)
        device = replace(_GOOD, duplication=share)
        yield DeviceCase("duplicates", f"{share:.2%} twice", size, _same(device), truth, duplicates)
        reordered = Criterion("frame-reordered", "unit", maximum=0.0005)
        yield DeviceCase("order", f"{share:.2%} late", size, _same(replace(_GOOD, reordering=share)), truth, reordered)
        altered = Criterion("frame-corrupted", "unit", maximum=0.0005)
        altering = _same(replace(_GOOD, corruption=share))
        yield DeviceCase(
            "content", f"{share:.2%} altered", size, altering, truth, altered, tests=("throughput", "loss")
        )


def _latencies(size: FrameSize) -> Iterator[DeviceCase]:
    for latency_s in (5e-6, 20e-6, 45e-6, 60e-6, 1e-3):
        device = replace(_GOOD, latency_s=latency_s)
        median_s = device.transit_s(size.mean_bytes) + device.jitter_s / 2
        limit = Criterion("latency-median", "unit", maximum=50e-6)
        truth: Verdict = "ACCEPT" if median_s <= 50e-6 else "REJECT"
        name = f"{latency_s * 1e6:g} µs"
        yield DeviceCase("latency", name, size, _same(device), truth, limit, tests=("throughput", "latency"))


def _intermittent(size: FrameSize) -> Iterator[DeviceCase]:
    limit = Criterion("throughput-share", "unit", minimum=_SHARE)
    dead = replace(_GOOD, forwarding_fps=0.0, buffer_frames=0.0)
    half = replace(_GOOD, forwarding_fps=size.line_fps(_LINE_BPS) / 2, buffer_frames=100)
    for bad, what in ((dead, "dead"), (half, "at half")):
        for number in (0, 2, 4):
            devices = tuple(bad if n == number else _GOOD for n in range(_REPEATS))
            yield DeviceCase("intermittent", f"repeat {number + 1} {what}", size, devices, "RETEST", limit)
        twice = (_GOOD, bad, _GOOD, bad, _GOOD)
        yield DeviceCase("intermittent", f"two repeats {what}", size, twice, "RETEST", limit)


def _changes(size: FrameSize) -> Iterator[DeviceCase]:
    """After against before, by what a comparison judges without being asked."""
    before = replace(_GOOD, forwarding_fps=0.8 * size.line_fps(_LINE_BPS), buffer_frames=100)
    changes: Sequence[tuple[str, Device, Verdict]] = (
        ("the same", before, "ACCEPT"),
        ("1 % less", replace(before, forwarding_fps=0.99 * (before.forwarding_fps or 0)), "ACCEPT"),
        ("5 % less", replace(before, forwarding_fps=0.95 * (before.forwarding_fps or 0)), "REJECT"),
        ("5 % more", replace(before, forwarding_fps=1.05 * (before.forwarding_fps or 0)), "ACCEPT"),
        ("loses 0.1 %", replace(before, loss=0.001), "REJECT"),
        ("duplicates 0.3 %", replace(before, duplication=0.003), "REJECT"),
        ("reorders 0.3 %", replace(before, reordering=0.003), "REJECT"),
        ("alters 0.3 %", replace(before, corruption=0.003), "REJECT"),
        ("30 µs slower", replace(before, latency_s=38e-6), "REJECT"),
        ("1 µs slower", replace(before, latency_s=9e-6), "ACCEPT"),
    )
    for name, after, truth in changes:
        yield DeviceCase("change", name, size, _same(after), truth, before=before, tests=("throughput", "latency"))


def verdict_of_case(case: DeviceCase) -> Verdict:
    """Measures a device five times and judges it."""
    after = _series("unit", case, case.devices, seed=100)
    if case.before:
        return compare(_series("before", case, _same(case.before), seed=1), after, Criteria()).verdict
    assert case.criterion
    return judge([case.criterion], {"unit": after}, Rules()).verdict


def is_wrong(case: DeviceCase, verdict: Verdict) -> bool:
    """Whether a verdict says what is not so."""
    if case.truth == "RETEST":
        return verdict == "ACCEPT"
    return verdict not in (case.truth, "RETEST")


def _series(name: str, case: DeviceCase, devices: Sequence[Device], seed: int) -> Series:
    test = FrameTest(case.tests, (case.size,), replace(_SETTINGS, full_s=case.full_s))
    runs = []
    for number, device in enumerate(devices):
        found = findings_of(test, SimulatedPorts(device, seed + number))
        runs.append(RunSample(f"{name}{number}", found.figures, {}))
    return Series(name, runs)
