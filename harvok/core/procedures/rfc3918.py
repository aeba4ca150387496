"""The tests of RFC 3918 of a device that forwards multicast: from the first port to all others."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.ends import Stream
from harvok.core.figures import Figure, Mark, counted_share
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import (
    FrameSettings,
    FrameSize,
    FramesSent,
    frames_sent,
    measured,
    trial,
)
from harvok.core.procedures.parts import run_parts, with_ports_enough
from harvok.core.procedures.switch_patterns import delays_at, from_first, port_throughput
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.core.units import counted, format_share

GroupTestName = Literal["throughput", "mixed", "scaled", "join-delay", "leave-delay", "capacity"]
GROUP_TESTS: tuple[GroupTestName, ...] = ("throughput", "mixed", "scaled", "join-delay", "leave-delay", "capacity")
MAX_GROUPS = 4096
"""As many joins are said before a trial, twenty microseconds apart."""
_PORTS_NEEDED: dict[GroupTestName, int] = {"capacity": 3}
_DELAY_LOAD_FPS, _JOIN_AT_S, _AFTER_JOIN_S = 2000.0, 1.0, 3.0
_ASKED_FPS = 2000.0

Trials = Procedure[FrameTrial, FrameTrialResult]


@dataclass(frozen=True, slots=True)
class GroupTest:
    """What to measure from the first of `ports` to the others, in so many `groups`. `share` is that of multicast frames
    in mixed traffic, `leave_s` how long to wait for the end of a group that was left."""

    tests: tuple[GroupTestName, ...]
    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    ports: tuple[str, ...]
    groups: int = 10
    share: float = 0.5
    leave_s: float = 10.0
    max_groups: int = MAX_GROUPS
    kind: Literal["rfc3918"] = "rfc3918"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"{self.kind} {'all' if len(self.tests) == len(GROUP_TESTS) else ' '.join(self.tests)}"

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds: an estimate, since searches end when they have found."""
        settings = self.settings
        trial_s, search_s = settings.trial_s, settings.search_s
        of_a_size = {"throughput": search_s + 2 * trial_s, "mixed": search_s, "scaled": 4 * trial_s}
        once = {"join-delay": 8.0, "leave-delay": self.leave_s + 5, "capacity": 12 * (self.leave_s + 2)}
        per_size = sum(of_a_size.get(test, 0.0) for test in self.tests)
        return len(self.sizes) * per_size + sum(once.get(test, 0.0) for test in self.tests)

    def to_groups(self, what: str, groups: int, first: int = 0) -> FrameSettings:
        """From the first port to each other one, to so many groups from a first one on."""
        frames = StreamFrames(cast="multicast", addresses=groups, address_set=first)
        return self.settings.uncalibrated.sending(from_first(what, self.ports), frames)


def sent_by_rfc3918(test: GroupTest) -> FramesSent:
    """The frames that its trials send."""
    sent = frames_sent(test)
    return FramesSent(sent.sizes, max(sent.pairs, test.max_groups if "capacity" in test.tests else test.groups))


def rfc3918(test: GroupTest, context: Context, findings: Findings) -> Trials:
    """Runs the tests for each frame size in turn, then those that have none. A test that the tester itself could not
    do, or for which there are too few ports, is left out and named; raises TesterLimitError when nothing could be
    measured."""
    tests = with_ports_enough(test.tests, _PORTS_NEEDED, len(test.ports), findings)
    smallest = min(test.sizes, key=lambda size: size.mean_bytes)
    wanted = [(f"{name} at {size.name} B", name, size) for size in test.sizes for name in tests if name in _OF_A_SIZE]
    wanted += [(name, name, smallest) for name in tests if name not in _OF_A_SIZE]
    yield from run_parts([(what, _PARTS[name](test, size, findings)) for what, name, size in wanted], findings)


def _throughput(test: GroupTest, size: FrameSize, findings: Findings) -> Trials:
    """The highest load of which every port gets all frames of all groups (§4.3), and their delay at it (§5.1, §5.2)."""
    settings = test.to_groups("multicast", test.groups)
    found = yield from port_throughput("multicast", settings, size, findings)
    yield from delays_at("multicast", settings, size, found.fps, findings)


def _mixed(test: GroupTest, size: FrameSize, findings: Findings) -> Trials:
    """The same beside unicast frames to the same ports, which share the rest of the load (§4.1)."""
    multicast, unicast = (from_first(f"mixed, {cast}", test.ports) for cast in ("multicast", "unicast"))
    to_groups = StreamFrames(load_share=test.share, cast="multicast", addresses=test.groups)
    rest = StreamFrames(load_share=(1 - test.share) / len(unicast))
    own = {stream.name: to_groups for stream in multicast} | {stream.name: rest for stream in unicast}
    settings = replace(test.settings.uncalibrated, streams=(*multicast, *unicast), frames_of=own)
    yield from port_throughput(f"mixed, {format_share(test.share)} multicast", settings, size, findings)


def _scaled(test: GroupTest, size: FrameSize, findings: Findings) -> Trials:
    """Forwarding rate and loss at line rate, with one group, and with more and more (§4.2)."""
    for groups in _up_to(test.groups):
        settings = test.to_groups("scaled", groups)
        step, about = LoadStep(settings.max_fps(size), settings.full_s), f"{groups} groups at {size.name} B, line rate"
        result = yield from measured(trial(settings, size, step, about=about))
        for one in result.directions:
            labels = {"direction": one.direction, "frame-size": size.name, "load": counted(groups, "group")}
            findings.figures.append(counted_share("frame-loss", one.lost_frames, one.sent_frames, labels))
            findings.figures.append(Figure("forwarding-rate", one.forwarding_rate_fps, labels))


def _up_to(groups: int) -> Iterator[int]:
    """1, 10, 100 and so on, and the number itself."""
    number = 1
    while number < groups:
        yield number
        number *= 10
    yield groups


def _join_delay(test: GroupTest, size: FrameSize, findings: Findings) -> Trials:
    """From the word that joins the groups to the first frame (§6.1): to within the gap between frames of a group."""
    settings = test.to_groups("join", test.groups, first=MAX_GROUPS)  # groups in which nobody was before
    wanted = trial(settings, size, LoadStep(_load_fps(settings, size), _JOIN_AT_S + _AFTER_JOIN_S), about="join delay")
    result = yield from measured(replace(wanted, join_at_s=_JOIN_AT_S))
    for one in result.directions:
        if one.join_delay_s is None:
            findings.notices.append(f"{one.direction}: no frame came within {_AFTER_JOIN_S:g} s of joining")
        elif one.join_delay_s < 0:
            findings.notices.append(f"{one.direction}: frames came before joining: the device floods them")
        else:
            findings.figures.append(Figure("group-join-delay", one.join_delay_s, {"direction": one.direction}))


def _leave_delay(test: GroupTest, size: FrameSize, findings: Findings) -> Trials:
    """From the word that leaves the groups to the last frame (§6.2)."""
    settings = test.to_groups("leave", test.groups)
    wanted = trial(settings, size, LoadStep(_load_fps(settings, size), _JOIN_AT_S + test.leave_s), about="leave delay")
    result = yield from measured(replace(wanted, leave_at_s=_JOIN_AT_S))
    for one in result.directions:
        if one.leave_delay_s is None:
            findings.notices.append(f"{one.direction}: no frame came at all")
        elif one.leave_delay_s >= _ALL_THE_TIME * test.leave_s:
            findings.notices.append(f"{one.direction}: frames still came {test.leave_s:g} s after the groups were left")
        else:
            findings.figures.append(
                Figure("group-leave-delay", max(one.leave_delay_s, 0.0), {"direction": one.direction})
            )


_ALL_THE_TIME = 0.98


def _load_fps(settings: FrameSettings, size: FrameSize) -> float:
    """Enough for half a millisecond, and no more than a device is sure to carry."""
    return min(_DELAY_LOAD_FPS, settings.max_fps(size) / 2)


def _capacity(test: GroupTest, size: FrameSize, findings: Findings) -> Trials:
    """The most groups of which a port that joined gets every frame, and one that did not gets none (§7.1)."""
    first, joined, watching = test.ports[:3]
    kept, too_many, guess = 0, test.max_groups + 1, test.max_groups
    while too_many - kept > max(1, kept // 100):
        streams = Stream(f"capacity to {joined}", first, joined), Stream(f"capacity to {watching}", first, watching)
        settings = test.settings.uncalibrated.sending(streams, StreamFrames(cast="multicast", addresses=guess))
        load_fps = min(_ASKED_FPS, settings.max_fps(size) / 2)
        about = f"group capacity: {guess} groups"
        wanted = trial(settings, size, LoadStep(load_fps, guess / load_fps), pause_s=test.leave_s, about=about)
        result = yield from measured(replace(wanted, bystanders=(streams[1].name,)))
        got, flooded = (one.received_frames for one in result.directions)
        passed = got == result.directions[0].sent_frames and not flooded
        kept, too_many = (guess, too_many) if passed else (kept, guess)
        estimate = min(got, guess - flooded)
        guess = estimate if not passed and kept < estimate < too_many else (kept + too_many) // 2
    mark: Mark = "tester-limit" if kept == test.max_groups else ""
    findings.figures.append(Figure("group-capacity", kept, {}, mark, max(0, too_many - kept - 1)))


_OF_A_SIZE = ("throughput", "mixed", "scaled")
_PARTS: dict[GroupTestName, Callable[[GroupTest, FrameSize, Findings], Trials]] = {
    "throughput": _throughput,
    "mixed": _mixed,
    "scaled": _scaled,
    "join-delay": _join_delay,
    "leave-delay": _leave_delay,
    "capacity": _capacity,
}
