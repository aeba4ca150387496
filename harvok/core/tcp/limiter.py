"""The limiter: what held a direction down, with its evidence, and what to try next.

The rules stand in the order in which they are asked; the first that holds is the answer. The order is the argument.
What is plainly so comes first: a slower negotiated speed that is full, a full link, pacing that was asked for. A small
window or buffer comes next, since it explains a goodput whatever else is busy, and only then a worker that has no more
of its core. Where loss or a window account for the goodput by arithmetic alone, a busy core beside them is beside the
point. What only might be so comes last: a busy core, a window still opening, loss. When no rule holds, nothing but the
link held the result.

Whether equipment may be blamed at all follows from the answer: `equipment` limits speak of the device, `settings` of
how the test was set up, and `tester` means that this tester could not show more, so that there is no verdict.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

from harvok.core.ends import End
from harvok.core.ethernet import bandwidth_delay_product_bytes
from harvok.core.limiter import Limiter, LimiterKind
from harvok.core.link import Link
from harvok.core.tcp.bounds import square_root_bps, window_bound_bps
from harvok.core.tcp.ceiling import Ceiling, ceiling_at
from harvok.core.tcp.evidence import Cpu, Evidence
from harvok.core.tcp.settling import Settling
from harvok.core.trials.tcp import SocketOptions
from harvok.core.units import format_duration, format_rate, format_share, format_size, format_speed

FULL_SHARE = 0.97
"""Of the ceiling: from here on the link is full, whatever else was busy. With both directions full, acknowledgements of
the other take one frame of 84 B on the line for every two segments of 1538 B: 2.7 %."""
_PACED_SHARE = 0.93
"""Of the pacing rate. The kernel paces IP packets with their Ethernet header, of which 1448 of 1514 B are payload:
0.956, less what its rounding to whole segments and the start take."""
_MUCH_OF_THE_TIME = 0.4
"""Of the time in which the sender had data. Measured over a virtual link: windows of 4 to 128 kB, which limit a
flow, hold it back 0.43 to 0.66 of the time, the rest being wake-ups; one of 1 MB, which a slow reader shut, 0.37;
automatic ones, 0.01."""
_BUSY_WORKER = 0.85
"""Of one core, or of what the hypervisor left of it. The kernel does part of a worker's work in interrupts that are
counted elsewhere, so that a worker at its end shows 0.9 to 1.0; use is read in ticks of 10 ms."""
_SPENT_WORKER = 0.95
"""Of one core: with so little left, a larger window would only queue. Below, a small window and a slow host look alike
in goodput and RTT, and only this tells them apart."""
_BUSY_CORE = 0.95
"""Of a core on which anything may have run. Its counters move in ticks of 10 ms, and a core that is the limit is
idle for a moment at times."""
_TELLING_LOSS = 0.0005
"""Share of the bytes that were sent again. At 1 ms RTT and 1448 B the square-root law lets one flow have 630 Mb/s with
it: below, loss hardly shows at gigabit speed on a local network."""
_AS_THE_LAW_SAYS = 2.0
"""Times the square-root law, or a share of it. Its constant alone lies between 0.87 and 1.31 by how losses fall and are
acknowledged (Mathis et al., table 1); a factor of two leaves room for senders that are not Reno's."""
_AS_THE_WINDOW_SAYS = 0.85
"""Of window / RTT. A window that is the limit gives all of it, less what the mean RTT over a test differs from that of
the full window."""
_TELLING_RTT_S = 0.002
"""Below, the hosts' own queues are most of an RTT, and window / RTT = goodput holds whatever the reason is."""
_QUEUE_GROWTH = 1.5
"""RTT under load over idle RTT from which a queue stood somewhere on the path: half of the path's own time again."""
_QUEUE_DELAY_S = 0.0005
"""And at least this: interrupt coalescing and wake-ups of the hosts alone add some hundred microseconds."""
_WINDOW_SLACK = 4.0
"""A window that would allow this many times the goodput is not what limits it: it was shut since the reader was
slow. The 1 MB window above would have allowed far more than that."""
_OPENING_GROWTH = 1.2
"""Growth of the congestion window over the second half of a test: CUBIC gives up 30 % at a loss and grows them back, so
that halves of a settled test differ by less than this; a window in slow start doubles each round trip."""


@dataclass(frozen=True, slots=True)
class Case:
    """Everything that the rules look at, for one direction."""

    goodput_bps: float
    settling: Settling
    evidence: Evidence
    ceiling: Ceiling | None
    link: Link
    options: SocketOptions

    @property
    def flow_goodput_bps(self) -> float:
        return self.goodput_bps / self.evidence.flows


def find_limiter(case: Case) -> Limiter:
    """Asks the rules in order; when none holds, nothing but the link itself held the result."""
    for rule in _RULES:
        found = rule(case)
        if found:
            return found
    return _link(case)


def _negotiated_speed(case: Case) -> Limiter | None:
    negotiated, rated = case.link.negotiated_bps, case.link.rated_bps
    if not negotiated or not rated or negotiated >= rated:
        return None
    reached = case.goodput_bps / ceiling_at(negotiated, "", case.evidence.segment).goodput_bps
    if reached < FULL_SHARE:
        return None
    ports = [p for p in (case.link.near, case.link.far) if p and p.negotiated_bps == negotiated]
    names = " and ".join(port.interface for port in ports)
    return Limiter(
        "negotiated-speed",
        f"{names} negotiated {format_speed(negotiated)} where {format_speed(rated)} is rated, and that slower "
        f"link was {format_share(reached)} full.",
        "Re-seat or swap the lead, and check that both ports allow auto-negotiation up to the rated speed.",
    )


def _full_link(case: Case) -> Limiter | None:
    if case.ceiling and case.goodput_bps >= FULL_SHARE * case.ceiling.goodput_bps:
        return _link(case)
    return None


def _pacing(case: Case) -> Limiter | None:
    pacing_bps = case.options.pacing_bps
    if not pacing_bps or case.flow_goodput_bps < _PACED_SHARE * pacing_bps:
        return None
    return Limiter(
        "pacing",
        f"each flow was paced at {format_rate(pacing_bps)} and reached {format_rate(case.flow_goodput_bps)}.",
        "Leave out --pacing to see what the link carries.",
    )


def _busy_worker(case: Case) -> Limiter | None:
    for end, cpu in case.evidence.cpu.items():
        if _is_short_of_cpu(cpu):
            share = format_share(cpu.busiest_worker)
            return _cpu(end, f"a worker at the {end} end used {share} of a core", case)
    return None


def _is_short_of_cpu(cpu: Cpu) -> bool:
    return cpu.busiest_worker >= _BUSY_WORKER * (1 - cpu.stolen)


def _loopback(case: Case) -> Limiter | None:
    """Over loopback there is no link that could be the limit: this host moves every byte itself."""
    if not case.link.near or not case.link.near.loopback or not case.evidence.cpu:
        return None
    end, cpu = max(case.evidence.cpu.items(), key=lambda item: item[1].busiest_worker)
    share = format_share(cpu.busiest_worker)
    return _cpu(end, f"the traffic never left this host, whose worker at the {end} end used {share} of a core", case)


def _window_opening(case: Case) -> Limiter | None:
    growth = case.evidence.cwnd_growth
    if case.settling.settled or growth is None or growth < _OPENING_GROWTH:
        return None
    return Limiter(
        "window-opening",
        f"the goodput never settled, and the congestion window grew {growth:.1f}-fold in the second half of the test.",
        "Test longer, for example --duration 60s.",
    )


def _windows(case: Case) -> Limiter | None:
    """The peer's window or the own send buffer, whichever held the sender back longer."""
    time, evidence = case.evidence.sender_time, case.evidence
    if not time or time.window_limited + time.buffer_limited < _MUCH_OF_THE_TIME:
        return None
    if time.window_limited >= time.buffer_limited:
        kind: LimiterKind = "receive-window"
        size, got = evidence.window_bytes, "the window was"
        held = f"the receive window held the sender back {format_share(time.window_limited)} of the time"
    else:
        kind, size, got = "send-buffer", evidence.send_buffer_bytes, "the socket had"
        held = f"a full send buffer held the sender back {format_share(time.buffer_limited)} of the time"
    if not size or not _explains(size, case):
        return None
    return _small_buffer(kind, held, size, got, case)


def _explains(window_bytes: float, case: Case) -> bool:
    """Whether a window is small enough to be the reason.

    One that would allow several times the goodput was shut because the receiver read slowly. And where a worker was
    short of CPU, queues lengthen the RTT, so that only the least RTT tells what the window allows.
    """
    evidence, max_bps = case.evidence, _WINDOW_SLACK * case.flow_goodput_bps
    if not evidence.rtt_mean_s or window_bytes * 8 / evidence.rtt_mean_s > max_bps:
        return False
    if max((cpu.busiest_worker for cpu in evidence.cpu.values()), default=0.0) < _SPENT_WORKER:
        return True
    return evidence.rtt_min_s is not None and window_bytes * 8 / evidence.rtt_min_s <= max_bps


def _small_buffer(kind: LimiterKind, held: str, size_bytes: float, got: str, case: Case) -> Limiter:
    """Sets what the socket had against what the path needs: line rate × RTT, shared among the flows."""
    rtt_s = case.evidence.rtt_mean_s or 0.0
    line_rate_bps = case.link.line_rate_bps
    if not line_rate_bps:
        return Limiter(
            kind,
            f"{held}; {got} {format_size(size_bytes)} at an RTT of {format_duration(rtt_s)}.",
            "Try a larger --socket-buffer, such as 4M.",
        )
    needed = bandwidth_delay_product_bytes(line_rate_bps, rtt_s) / case.evidence.flows
    per_flow = " a flow" if case.evidence.flows > 1 else ""
    return Limiter(
        kind,
        f"{held}; {format_duration(rtt_s)} × {format_speed(line_rate_bps)} needs {format_size(needed)}{per_flow}, "
        f"{got} {format_size(size_bytes)}.",
        f"Try --socket-buffer {_round_buffer(2 * needed)}.",
    )


def _round_buffer(size_bytes: float) -> str:
    """The next power of two, as --socket-buffer takes it."""
    power = max(math.ceil(math.log2(max(size_bytes, 1))), 16)
    return f"{2 ** (power - 20)}Mi" if power >= 20 else f"{2 ** (power - 10)}Ki"


def _busy_core(case: Case) -> Limiter | None:
    end, cpu = max(case.evidence.cpu.items(), key=lambda item: item[1].busiest_core, default=(None, None))
    if end is None or cpu is None or cpu.busiest_core < _BUSY_CORE:
        return None
    return _cpu(end, f"a core at the {end} end was busy {format_share(cpu.busiest_core)} of the time", case)


def _cpu(end: End, busy: str, case: Case) -> Limiter:
    stolen = case.evidence.cpu[end].stolen
    also = f", and a hypervisor took {format_share(stolen)} of its time away" if stolen > 0.02 else ""
    return Limiter(
        "cpu-near" if end == "near" else "cpu-far",
        f"{busy}{also}: the tester gave no more, which says nothing about the equipment.",
        "Stop what else runs there, use more flows if cores are idle, or take a faster host.",
    )


def _loss(case: Case) -> Limiter | None:
    again = case.evidence.retransmitted
    return _lossy(case) if again and again >= _TELLING_LOSS else None


def _arithmetic(case: Case) -> Limiter | None:
    """Loss or window where they alone explain the goodput: whatever else keeps a core busy is then beside the point."""
    evidence, again = case.evidence, case.evidence.retransmitted
    rtt_s, segment_bytes, window_bytes = evidence.rtt_mean_s, evidence.segment.payload_bytes, evidence.window_bytes
    if rtt_s and again and segment_bytes:
        allowed_bps = square_root_bps(segment_bytes, rtt_s, again)
        as_the_law_says = 1 / _AS_THE_LAW_SAYS <= case.flow_goodput_bps / allowed_bps <= _AS_THE_LAW_SAYS
        if as_the_law_says and (found := _lossy(case)):
            return found
    if rtt_s and rtt_s >= _TELLING_RTT_S and window_bytes:
        allowed_bps = window_bound_bps(window_bytes, rtt_s)
        if _AS_THE_WINDOW_SAYS <= case.flow_goodput_bps / allowed_bps <= 1 / _AS_THE_WINDOW_SAYS:
            held = f"the goodput is {format_share(case.flow_goodput_bps / allowed_bps)} of what the window lets through"
            return _small_buffer("receive-window", held, window_bytes, "the window was", case)
    return None


def _lossy(case: Case) -> Limiter | None:
    """Loss that no queue of the path's own explains."""
    evidence = case.evidence
    again, idle_s, loaded_s = evidence.retransmitted, evidence.rtt_idle_s, evidence.rtt_mean_s
    if not again or _queue_stood(idle_s, loaded_s):
        return None
    bound = ""
    segment_bytes = evidence.segment.payload_bytes
    if segment_bytes and loaded_s:
        reno_bps = evidence.flows * square_root_bps(segment_bytes, loaded_s, again)
        bound = f" at {format_duration(loaded_s)} RTT that allows a Reno-like sender {format_rate(reno_bps)};"
    return Limiter(
        "loss",
        f"{format_share(again)} of the bytes had to be sent again and no "
        f"queue stood on the path;{bound} congestion control was {evidence.congestion_control or 'unknown'}.",
        "Look at the error counters of every port on the way, re-seat or swap the lead, check duplex.",
    )


def _queue_stood(idle_s: float | None, loaded_s: float | None) -> bool:
    if not idle_s or not loaded_s:
        return False
    return loaded_s > _QUEUE_GROWTH * idle_s and loaded_s - idle_s > _QUEUE_DELAY_S


def _link(case: Case) -> Limiter:
    evidence, facts = case.evidence, []
    if case.ceiling:
        facts.append(f"goodput reached {format_share(case.goodput_bps / case.ceiling.goodput_bps)} of the ceiling")
    if evidence.sender_time:
        time = evidence.sender_time
        facts.append(
            f"windows and buffers held it {format_share(time.window_limited + time.buffer_limited)} of the time"
        )
    if evidence.cpu:
        facts.append(f"the busiest core was busy {format_share(max(c.busiest_core for c in evidence.cpu.values()))}")
    if evidence.rtt_idle_s and evidence.rtt_mean_s and _queue_stood(evidence.rtt_idle_s, evidence.rtt_mean_s):
        facts.append(
            f"a queue on the path raised the RTT from {format_duration(evidence.rtt_idle_s)} "
            f"to {format_duration(evidence.rtt_mean_s)}"
        )
    advice = "Nothing at either end held it back." if case.ceiling else "Give --rated to set it against a ceiling."
    return Limiter("link", "; ".join(facts) + "." if facts else "nothing else was found.", advice)


_RULES: tuple[Callable[[Case], Limiter | None], ...] = (
    _negotiated_speed,
    _full_link,
    _pacing,
    _windows,
    _busy_worker,
    _arithmetic,
    _busy_core,
    _window_opening,
    _loopback,
    _loss,
)
