"""How many addresses a switch keeps, and how fast it learns them (RFC 2889 §5.7, §5.8).

Frames from many addresses come in at the first port, from which the switch learns that these are there. Then frames go
to all of them from the second port, and the third watches: what comes out there was flooded, so that its address was
not known. Between two attempts the switch is left alone until it has forgotten.

One attempt with more addresses than fit tells how many did fit, so a search takes few attempts: which matters, since a
switch forgets after 300 s as it leaves the factory (IEEE 802.1Q §8.8.3).
"""

from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace

from harvok.core.ends import Stream
from harvok.core.figures import Figure, Mark
from harvok.core.procedure import Findings, Procedure
from harvok.core.procedures.frames import FrameSettings, FrameSize, measured, trial
from harvok.core.procedures.search import retreat
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.core.units import format_frame_rate
from harvok.errors import TesterLimitError

Trials = Generator[FrameTrial, FrameTrialResult, int]

USUAL_LEARNING_FPS = 1000.0
_AGING_MARGIN, _AGING_MARGIN_S = 1.05, 1.0
_FEW = LoadStep(100.0, 0.2)
_OF_AGING = 0.35
"""In which share of the ageing time all addresses are shown, and asked for: none may be forgotten in between."""
_RATE_ADDRESSES = 256
_RATE_RESOLUTION = 0.01
_MAX_ATTEMPTS = 40


@dataclass(slots=True)
class AddressBench:
    """The three ports, what is sent between them, and a count of attempts, each of which takes addresses of its own."""

    settings: FrameSettings
    ports: Sequence[str]
    size: FrameSize
    learning_fps: float
    attempts: int = 0

    @property
    def forgets_s(self) -> float:
        """After how long the switch has certainly forgotten."""
        return self.settings.aging_s * _AGING_MARGIN + _AGING_MARGIN_S

    def trial(
        self, source: str, to: Sequence[str], frames: StreamFrames, step: LoadStep, pause_s: float, about: str
    ) -> FrameTrial:
        """Frames of one kind from a port to others."""
        streams = tuple(Stream(f"addresses: {source} to {port}", source, port) for port in to)
        settings = self.settings.sending(streams, frames)
        return replace(trial(settings, self.size, step, pause_s=pause_s, about=about), hurried=not pause_s)


def check_wiring(bench: AddressBench) -> Procedure[FrameTrial, FrameTrialResult]:
    """Shows that frames get from each of the three ports to the next, and waits until the switch has forgotten it."""
    streams = tuple(
        Stream(f"addresses: {one} to {other}", one, other)
        for one, other in zip(bench.ports, [*bench.ports[1:], bench.ports[0]], strict=True)
    )
    about = f"addresses: are the ports wired? Then {bench.forgets_s:.0f} s, in which the device forgets"
    settings = bench.settings.sending(streams)
    yield from measured(trial(settings, bench.size, _FEW, pause_s=bench.forgets_s, about=about))


def flooded_frames(bench: AddressBench, addresses: int, learning_fps: float, what: str) -> Trials:
    """How many of so many addresses the switch did not know, once all were shown to it at a rate: those that it
    flooded, or, where it is set to drop what it does not know, those that never came. What it lost on the way is shown
    to it again, up to three times."""
    learning, testing, watching = bench.ports
    bench.attempts += 1
    shown = StreamFrames(cast="learning", addresses=addresses, address_set=bench.attempts)
    sent_to = replace(shown, cast="learned")
    hello = StreamFrames(cast="broadcast")
    yield from measured(
        bench.trial(testing, [learning], hello, _FEW, 0.0, f"{what}: the testing port says where it is")
    )
    slowest_fps = addresses / (_OF_AGING * bench.settings.aging_s)
    learning_fps, asking_fps = (max(fps, slowest_fps) for fps in (learning_fps, min(learning_fps, bench.learning_fps)))
    step = LoadStep(learning_fps, addresses / learning_fps)
    about = f"{what}: {addresses} addresses at {format_frame_rate(learning_fps)} frames/s"
    for _ in range(3):
        result = yield from measured(bench.trial(learning, [testing], shown, step, 0.0, f"{about} are shown"))
        if not result.directions[0].lost_frames:
            break
    step = LoadStep(asking_fps, addresses / asking_fps)
    about = f"{about} are asked for, then {bench.forgets_s:.0f} s until they are forgotten"
    result = yield from measured(bench.trial(testing, [learning, watching], sent_to, step, bench.forgets_s, about))
    asked, watched = result.directions
    return max(watched.received_frames, asked.lost_frames)


def address_capacity(bench: AddressBench, maximum: int, findings: Findings) -> Trials:
    """Finds how many addresses the switch keeps, that of the testing port among them (RFC 2889 §5.7); returns it. Up to
    `maximum`, which marks the figure as the tester's limit where all of them are kept."""
    kept, too_many, guess, estimate = 0, maximum + 1, maximum, maximum
    while too_many - kept > 1 and bench.attempts < _MAX_ATTEMPTS:
        flooded = yield from flooded_frames(bench, guess, bench.learning_fps, "address capacity")
        if flooded:
            too_many, estimate = guess, guess - flooded
            wanted = estimate
        else:
            kept, wanted = guess, guess + 1 if guess == estimate else 0
        guess = wanted if kept < wanted < too_many else (kept + too_many) // 2
    mark: Mark = "tester-limit" if kept == maximum else ""
    findings.figures.append(Figure("address-capacity", kept + 1, {}, mark))
    return kept + 1


def address_rate(
    bench: AddressBench, capacity: int | None, findings: Findings
) -> Procedure[FrameTrial, FrameTrialResult]:
    """Finds the highest rate at which the switch still learns every address (RFC 2889 §5.8), to within 1 %."""
    addresses = min(_RATE_ADDRESSES, capacity - 1) if capacity else _RATE_ADDRESSES
    highest_fps = line_fps = bench.size.line_fps(bench.settings.line_bps)
    learned_fps, too_fast_fps, load_fps = 0.0, highest_fps * (1 + _RATE_RESOLUTION), highest_fps
    attempts = bench.attempts
    while too_fast_fps > learned_fps * (1 + _RATE_RESOLUTION) and bench.attempts - attempts < _MAX_ATTEMPTS:
        try:
            flooded = yield from flooded_frames(bench, addresses, load_fps, "address learning rate")
        except TesterLimitError as limit:
            highest_fps = too_fast_fps = load_fps = retreat(load_fps, limit.held_share)
            continue
        if flooded:
            too_fast_fps = load_fps
            guess = load_fps * (1 - flooded / addresses)
            load_fps = guess if learned_fps < guess < too_fast_fps else (learned_fps + too_fast_fps) / 2
        else:
            learned_fps = load_fps
            load_fps = min(load_fps * (1 + _RATE_RESOLUTION), (learned_fps + too_fast_fps) / 2)
        if load_fps < 1:
            break
    by_tester = highest_fps < line_fps and learned_fps * (1 + _RATE_RESOLUTION) >= highest_fps
    mark: Mark = "tester-limit" if by_tester else ""
    resolution = min(learned_fps * _RATE_RESOLUTION, max(line_fps - learned_fps, 0.0))
    findings.figures.append(Figure("address-learning-rate", learned_fps, {}, mark, resolution))
