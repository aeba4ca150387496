"""The tests of RFC 2889 of a LAN switch, for every frame size that was asked for."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Literal

from harvok.core.ends import Stream
from harvok.core.figures import Figure
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import FrameSettings, FrameSize, FramesSent, frames_sent, measured, trial
from harvok.core.procedures.parts import run_parts, with_ports_enough
from harvok.core.procedures.switch_addresses import (
    USUAL_LEARNING_FPS,
    AddressBench,
    address_capacity,
    address_rate,
    check_wiring,
)
from harvok.core.procedures.switch_patterns import (
    broadcast,
    congestion,
    max_forwarding_rate,
    measure_pattern,
)
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep

SwitchTestName = Literal[
    "mesh", "one-to-many", "many-to-one", "congestion", "max-forwarding-rate", "address-capacity", "address-rate",
    "errored-frames", "broadcast",
]  # fmt: skip
SWITCH_TESTS: tuple[SwitchTestName, ...] = (
    "mesh", "one-to-many", "many-to-one", "congestion", "max-forwarding-rate", "address-capacity", "address-rate",
    "errored-frames", "broadcast",
)  # fmt: skip
_PORTS_NEEDED: dict[SwitchTestName, int] = {"congestion": 4, "address-capacity": 3, "address-rate": 3}
MAX_ADDRESSES = 16384
_OVERSIZE_FPS = 100.0
_NOT_MADE = (
    "errored frames: this tester sends oversized ones alone; undersized ones, those with a wrong FCS and those with "
    "bits left over it cannot make, since a network card pads frames and appends their FCS itself"
)

Trials = Procedure[FrameTrial, FrameTrialResult]


@dataclass(frozen=True, slots=True)
class SwitchTest:
    """What to measure between which ports, in their order: the first is the one of one-to-many and many-to-one, and
    that behind which addresses are. `learning_fps` is how fast addresses are shown to the switch and asked for,
    `oversize_bytes` the size of frames that are too long."""

    tests: tuple[SwitchTestName, ...]
    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    ports: tuple[str, ...]
    learning_fps: float = USUAL_LEARNING_FPS
    max_addresses: int = MAX_ADDRESSES
    oversize_bytes: int = 0
    kind: Literal["rfc2889"] = "rfc2889"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"{self.kind} {'all' if len(self.tests) == len(SWITCH_TESTS) else ' '.join(self.tests)}"

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds: an estimate, since searches end when they have found."""
        settings = self.settings
        trial_s, search_s = settings.trial_s, settings.search_s
        asked_s = 2 * self.max_addresses / self.learning_fps + settings.aging_s
        of_a_size = {"congestion": trial_s, "max-forwarding-rate": search_s + 10 * trial_s, "broadcast": 4 * trial_s}
        once = {"address-capacity": 4 * asked_s, "address-rate": 10 * settings.aging_s, "errored-frames": trial_s}
        per_size = sum(of_a_size.get(test, search_s + trial_s) for test in self.tests if test not in once)
        return len(self.sizes) * per_size + sum(once.get(test, 0.0) for test in self.tests)


def sent_by_rfc2889(test: SwitchTest) -> FramesSent:
    """The frames that its trials send."""
    sent = frames_sent(test)
    asks_addresses = {"address-capacity", "address-rate"} & set(test.tests)
    oversize = [test.oversize_bytes] if "errored-frames" in test.tests and test.oversize_bytes else []
    return FramesSent([*sent.sizes, *oversize], max(sent.pairs, test.max_addresses if asks_addresses else 0))


def rfc2889(test: SwitchTest, context: Context, findings: Findings) -> Trials:
    """Runs the tests for each frame size in turn, then those that have none. A test that the tester itself could not
    do, or for which there are too few ports, is left out and named; raises TesterLimitError when nothing could be
    measured."""
    tests = with_ports_enough(test.tests, _PORTS_NEEDED, len(test.ports), findings)
    parts = [
        (f"{name} at {size.name} B", _OF_EACH_SIZE[name](_settings_for(test, name), test.ports, size, findings))
        for size in test.sizes
        for name in tests
        if name in _OF_EACH_SIZE
    ]
    if {"address-capacity", "address-rate"} & set(tests):
        parts.append(("addresses", _addresses(test, tests, findings)))
    if "errored-frames" in tests:
        parts.append(("errored frames", _errored_frames(test, findings)))
    yield from run_parts(parts, findings)


_OfASize = Callable[[FrameSettings, Sequence[str], FrameSize, Findings], Trials]
_OF_EACH_SIZE: dict[SwitchTestName, _OfASize] = {
    "mesh": partial(measure_pattern, "mesh"),
    "one-to-many": partial(measure_pattern, "one-to-many"),
    "many-to-one": partial(measure_pattern, "many-to-one"),
    "congestion": congestion,
    "max-forwarding-rate": max_forwarding_rate,
    "broadcast": broadcast,
}


def _settings_for(test: SwitchTest, name: SwitchTestName) -> FrameSettings:
    """What the tester can do was calibrated with a mesh, which says little of other streams."""
    return test.settings if name == "mesh" else test.settings.uncalibrated


def _addresses(test: SwitchTest, tests: list[SwitchTestName], findings: Findings) -> Trials:
    """With the smallest frames, of which a switch can be shown most a second."""
    smallest = min(test.sizes, key=lambda size: size.mean_bytes)
    bench = AddressBench(test.settings.uncalibrated, test.ports[:3], smallest, test.learning_fps)
    yield from check_wiring(bench)
    capacity = None
    if "address-capacity" in tests:
        capacity = yield from address_capacity(bench, test.max_addresses, findings)
    if "address-rate" in tests:
        yield from address_rate(bench, capacity, findings)


def _errored_frames(test: SwitchTest, findings: Findings) -> Trials:
    """Whether the device forwards what it has to drop (RFC 2889 §5.9)."""
    findings.notices.append(_NOT_MADE)
    if not test.oversize_bytes:
        findings.notices.append("oversized frames are left out: their size was not given")
        return
    one, other = test.ports[:2]
    settings = test.settings.uncalibrated.sending((Stream(f"errored-frames: {one} to {other}", one, other),))
    long = FrameSize(str(test.oversize_bytes), (test.oversize_bytes,))
    wired = min(test.sizes, key=lambda size: size.mean_bytes)
    about = "errored frames: are the ports wired?"
    yield from measured(trial(settings, wired, LoadStep(_OVERSIZE_FPS, 0.2), pause_s=0.0, about=about))
    about = f"errored frames: {long.name} B"
    result = yield from measured(trial(settings, long, LoadStep(_OVERSIZE_FPS, test.settings.full_s), about=about))
    (got,) = result.directions
    forwarded = got.received_frames / max(got.sent_frames, 1)
    findings.figures.append(Figure("errored-forwarded", forwarded, {"direction": "oversize", "frame-size": long.name}))
