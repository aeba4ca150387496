"""Everything that the rules of the limiter look at, for one direction, and what follows from it by arithmetic."""

from dataclasses import dataclass

from harvok.core.link import Link
from harvok.core.tcp.bounds import window_bound_bps
from harvok.core.tcp.ceiling import Ceiling
from harvok.core.tcp.evidence import Cpu, Evidence
from harvok.core.tcp.settling import Settling
from harvok.core.trials.tcp import SocketOptions
from harvok.core.units import format_share

_BUSY_WORKER = 0.85
"""Of one core, or of what the hypervisor left of it. The kernel does part of a worker's work in interrupts that are
counted elsewhere, so that a worker at its end shows 0.9 to 1.0; use is read in ticks of 10 ms."""
BUSY_CORE = 0.9
"""Of a core on which anything may have run. Flat out over a virtual link the busiest core of two was busy 0.93 to 1.00
of the time (7 runs): counters move in ticks of 10 ms, and a core that is the limit is idle for a moment at times."""
_MUCH_OF_A_CORE = 0.35
"""Of a core that is busy, by a worker of this test alone. Flat out, workers used 0.41 to 0.66 of a core, the rest of
which were the kernel's interrupts for them; on paths that were shaped to a quarter of that, or lossy, beside busy
neighbours, 0.01 to 0.24 (150 runs)."""
_OWN_WORK = 0.6
"""Of a core that is busy: the worker's share with that of the interrupts, which move its segments."""
_WAITING = 0.1
"""Of the time, in which a worker could have run and had no core."""
_STOLEN = 0.1
"""Of the CPU, by a hypervisor, from a worker that used much of what was left."""
_STANDING_BYTES = 24_000
"""In the queue, all the time: sixteen full segments. Under random loss of 0.1 to 5 % with 0 to 20 ms of delay, what
scheduling alone held up was 0.4 to 13 kB; queues of shaped paths held 62 kB and more (150 runs)."""
_STANDING_S = 0.002
"""And as a delay. Two hosts that are flat out hold up to 0.97 ms of segments themselves; a queue of less than 2 ms on
the path is found by a full ceiling."""


@dataclass(frozen=True, slots=True)
class KnownGood:
    """A run in which these hosts filled this ceiling under like conditions: what they reached, and of how much."""

    run: str
    goodput_bps: float
    share: float


@dataclass(frozen=True, slots=True)
class Case:
    """What is known of one direction."""

    goodput_bps: float
    settling: Settling
    evidence: Evidence
    ceiling: Ceiling | None
    link: Link
    options: SocketOptions
    known_good: KnownGood | None = None

    @property
    def flow_goodput_bps(self) -> float:
        return self.goodput_bps / self.evidence.flows

    @property
    def ceiling_share(self) -> float | None:
        return self.goodput_bps / self.ceiling.goodput_bps if self.ceiling else None

    @property
    def in_flight_bytes(self) -> float:
        """What one flow has under way: goodput × RTT, the smallest that intervals ended with, since a host that stalls
        for a moment makes others look long."""
        return self.flow_goodput_bps * (self.evidence.rtt_standing_s or 0.0) / 8

    @property
    def round_trips(self) -> float | None:
        """How many idle round trips the test lasted."""
        idle_s = self.evidence.rtt_idle_s
        return self.evidence.duration_s / idle_s if idle_s else None

    @property
    def standing_s(self) -> float:
        """The delay of a queue that never emptied; 0 where the RTT is not known."""
        idle_s, standing_s = self.evidence.rtt_idle_s, self.evidence.rtt_standing_s
        return max(standing_s - idle_s, 0.0) if idle_s and standing_s else 0.0

    @property
    def has_standing_queue(self) -> bool:
        """Whether a queue stood on the path, by what it held and for how long it held it up."""
        return self.standing_s >= _STANDING_S and self.standing_bytes >= _STANDING_BYTES

    @property
    def standing_bytes(self) -> float:
        return self.goodput_bps * self.standing_s / 8

    def window_explains(self, window_bytes: float, slack: float) -> bool:
        """Whether a window is small enough to be the reason: it allows no more than `slack` times the goodput."""
        rtt_s = self.evidence.rtt_mean_s
        return bool(rtt_s) and window_bound_bps(window_bytes, rtt_s or 1.0) <= slack * self.flow_goodput_bps


def shortage_of(cpu: Cpu) -> str:
    """How this test was short of CPU at an end, in words; empty where it was not.

    It is what this test's own workers, and the interrupts that moved its segments, had of a core that counts: a core
    that somebody else keeps busy is no limit as long as the workers get theirs.
    """
    if cpu.waiting >= _WAITING:
        return f"waited for a core {format_share(cpu.waiting)} of the time"
    if cpu.busiest_worker >= _BUSY_WORKER * (1 - cpu.stolen):
        return f"used {format_share(cpu.busiest_worker)} of a core"
    if cpu.stolen >= _STOLEN and cpu.busiest_worker >= _MUCH_OF_A_CORE * (1 - cpu.stolen):
        return f"used {format_share(cpu.busiest_worker)} of a core"
    if cpu.busiest_core < BUSY_CORE:
        return ""
    own = cpu.busiest_worker + cpu.interrupts
    if cpu.busiest_worker >= _MUCH_OF_A_CORE or own >= _OWN_WORK:
        return (
            f"used {cpu.busiest_worker * 100:.1f} % of a core that was busy {cpu.busiest_core * 100:.1f} % of the time"
        )
    return ""
