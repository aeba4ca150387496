"""Made-up TCP transfers with known properties, for testing what reads them."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace

from harvok.core.ends import TWO_WAY, CpuUse, Role
from harvok.core.observer import Observer, started
from harvok.core.samples import Sample
from harvok.core.trials.tcp import (
    Connection,
    DirectionResult,
    TcpInfo,
    TcpInterval,
    TcpSummary,
    TcpTrial,
    TcpTrialResult,
)

TICKS_A_SECOND = 10
_ORIGIN_NS = 1_800_000_000_000_000_000
IDLE = TcpInfo(
    options=7,
    mss_bytes=1448,
    path_mtu_bytes=1500,
    rtt_us=200,
    min_rtt_us=200,
    cwnd_segments=100,
    peer_window_bytes=4_000_000,
    sent_bytes=0,
    acked_bytes=0,
    retransmitted_bytes=0,
    busy_us=0,
    window_limited_us=0,
    buffer_limited_us=0,
)
"""A healthy connection before its first byte: full-sized segments on Ethernet, 0.2 ms away."""

CALM = CpuUse(cores=[0.2, 0.1], workers=[0.15])


def transfer(
    rate_bps: Callable[[float], float] | float,
    seconds: int = 10,
    *,
    direction: str = "send",
    flows: int = 1,
    state: Callable[[int, TcpInfo], TcpInfo] = lambda _, info: info,
    near_cpu: CpuUse = CALM,
    far_cpu: CpuUse = CALM,
    buffer_bytes: int = 4_000_000,
    idle_us: int = 200,
) -> DirectionResult:
    """One direction that goes at `rate_bps` (a constant, or a function of the time in seconds).

    `idle_us` is the round trip of the handshakes. `state` makes each flow's kernel state at the end of second n from a
    healthy one with its counters moved on.
    """
    rate = rate_bps if callable(rate_bps) else lambda _: float(rate_bps)
    sender_cpu, receiver_cpu = (near_cpu, far_cpu) if direction == "send" else (far_cpu, near_cpu)
    halves: dict[Role, list[TcpInterval]] = {"sender": [], "receiver": []}
    total = 0.0
    for second in range(seconds):
        ticks, before = [], total
        for tick in range(1, TICKS_A_SECOND + 1):
            at_s = second + tick / TICKS_A_SECOND
            total += rate(at_s - 0.5 / TICKS_A_SECOND) / 8 / TICKS_A_SECOND
            ticks.append((at_s, int(total)))
        moved = [int((total - before) / flows)] * flows
        info = state(second + 1, _moved_on(second + 1, int(total / flows)))
        for role, cpu in (("sender", sender_cpu), ("receiver", receiver_cpu)):
            infos = [info] * flows
            halves[role].append(  # type: ignore[index]
                TcpInterval(direction, role, second, second, second + 1, ticks, moved, infos, cpu)  # type: ignore[arg-type]
            )
    return DirectionResult(
        direction=direction,
        sender_intervals=halves["sender"],
        receiver_intervals=halves["receiver"],
        sender=_summary(direction, "sender", seconds, [int(total / flows)] * flows, buffer_bytes, idle_us),
        receiver=_summary(direction, "receiver", seconds, [int(total / flows)] * flows, buffer_bytes, idle_us),
    )


def _moved_on(seconds: int, sent_bytes: int) -> TcpInfo:
    return replace(IDLE, sent_bytes=sent_bytes, acked_bytes=sent_bytes, busy_us=seconds * 1_000_000)


def _summary(
    direction: str, role: Role, seconds: int, flow_bytes: Sequence[int], buffer_bytes: int, idle_us: int
) -> TcpSummary:
    idle = replace(IDLE, rtt_us=idle_us, min_rtt_us=idle_us)
    connections = [
        Connection(flow, "198.18.0.1:40000", "198.18.0.2:26471", buffer_bytes, buffer_bytes, "cubic", idle)
        for flow in range(len(flow_bytes))
    ]
    return TcpSummary(direction, role, float(seconds), list(flow_bytes), connections)


class ScriptedRig:
    """A rig that answers each trial with what `answer` makes of it, and remembers the trials."""

    def __init__(self, answer: Callable[[TcpTrial], TcpTrialResult]) -> None:
        self.trials: list[TcpTrial] = []
        self._answer = answer

    def run(self, trial: TcpTrial, observer: Observer) -> TcpTrialResult:
        self.trials.append(trial)
        result = self._answer(trial)
        observer.happened([started(_ORIGIN_NS)])
        for samples in samples_of(result.directions):
            observer.samples(samples)
        return result


def samples_of(directions: Iterable[DirectionResult]) -> Iterator[list[Sample]]:
    """What a rig tells of transfers: a list for each interval of each half."""
    for direction in directions:
        for half in (*direction.sender_intervals, *direction.receiver_intervals):
            yield list(half.samples(TWO_WAY[half.direction].end_of(half.role), 0.0))
