"""The limiter: what held a direction down, with its evidence, and what to try next.

The rules stand in the order in which they are asked; the first that holds is the answer. The order is the argument.
What is plainly so comes first: more than the link can carry, a slower negotiated speed that is full, a full link,
pacing that was asked for. A small window or buffer comes next, since it explains a goodput whatever else is busy, and
a test that was too short for its path. Then the path itself shows: by a queue that stood, which no busy host makes last
for milliseconds, or by loss that alone accounts for the goodput. Only then a host that was short of CPU: a core that
somebody else keeps busy is beside the point as long as this test's own workers got theirs. What only might be so comes
last: little loss, a window still opening, a reader that did not read, one flow behind the others.

`link` needs proof: a full ceiling or a standing queue. Where no rule holds, the answer is that nothing proves anything.

Whether equipment may be blamed at all follows from the answer: `equipment` limits speak of the device, `settings` of
how the test was set up, and `tester` means that this tester could not show more, so that there is no verdict. The
figures behind the thresholds are those of the truth matrix (docs/decision-quality.md).
"""

import math
from collections.abc import Callable

from harvok.core.ends import End
from harvok.core.ethernet import bandwidth_delay_product_bytes
from harvok.core.limiter import MAX_SHARE, Limiter, LimiterKind
from harvok.core.tcp.bounds import square_root_bps, window_bound_bps
from harvok.core.tcp.case import BUSY_CORE, Case, shortage_of
from harvok.core.tcp.ceiling import ceiling_at
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
_WINDOW_SLACK = 4.0
"""A window that would allow this many times the goodput is not what limits it: it was shut since the reader was
slow. The 1 MB window above would have allowed far more than that."""
_SPENT_WORKER = 0.95
"""Of one core: with so little left, a larger window would only queue. Below, a small window and a slow host look alike
in goodput and RTT, and only this tells them apart."""
_MIN_ROUND_TRIPS = 25
"""Idle round trips that a test needs. Slow start takes 10 to 15 for windows of megabytes, and a loss at its end as many
again: tests of 5 to 20 round trips reached 2 to 87 % of a ceiling that longer ones filled (17 runs)."""
_ENOUGH_ROUND_TRIPS = 100
_ONE_SEGMENTED_WRITE_BYTES = 65_536
"""What the kernel queues beyond the send buffer: it stops at the first piece that does not fit, of up to 64 KiB."""
_TELLING_RTT_S = 0.002
"""Below, the hosts' own queues are most of an RTT, and window / RTT = goodput holds whatever the reason is."""
_TELLING_LOSS = 0.0005
"""Share of the bytes that were sent again. At 1 ms RTT and 1448 B the square-root law lets one flow have 630 Mb/s with
it: below, loss hardly shows at gigabit speed on a local network."""
_MUCH_LOSS = 0.01
"""From here on loss alone holds any flow down, busy host or not: the square-root law leaves a window of 12 segments.
Hosts that are flat out lose up to 0.6 % of their own segments."""
_FEW_FLOWS = 4
"""One to eight flows that filled a queue of 64 to 256 kB sent 0.005 to 0.4 % of their bytes again; many more share such
a queue with windows of a few segments each, and lose as much as a lossy path does."""
_LAWFUL_LOSS = 0.0002
"""What is enough where the goodput is what the square-root law says."""
_STEADY = 0.03
"""Deviation of the goodput of seconds over its mean. A policer lets the same through each second; under random loss
windows and with them seconds differ by 5 to 50 %."""
_VERY_STEADY = 0.005
"""The same for a link without loss: shaped paths gave 0.0 to 0.3 %, hosts that were flat out 5 % and more."""
_SPARE_WORKER = 0.3
"""Of a core, by the busiest worker: with less there is time to spare."""
_AS_THE_LAW_SAYS = 2.0
"""Times the square-root law, or a share of it. Its constant alone lies between 0.87 and 1.31 by how losses fall and are
acknowledged (Mathis et al., table 1); a factor of two leaves room for senders that are not Reno's."""
_AS_THE_WINDOW_SAYS = 0.85
"""Of window / RTT. A window that is the limit gives all of it, less what the mean RTT over a test differs from that of
the full window."""
_OPENING_GROWTH = 1.2
"""Growth of the congestion window over the second half of a test: CUBIC gives up 30 % at a loss and grows them back, so
that halves of a settled test differ by less than this; a window in slow start doubles each round trip."""
_SLOW_FLOW = 0.5
"""Of an even share: flows that share a queue differ by a third over a few seconds, and come back."""


_IDLE_WAITING = 0.05
"""Of the time, in which a worker could have run and had no core: half of what counts as a shortage by itself."""
_OTHER_TRAFFIC = 0.1
"""Of this transfer's own bytes, on the interfaces of its ends, beyond them. What is sent after the last counter of a
test of a second was read, and acknowledgements of the other direction, come to 1 to 4 %."""


def find_limiter(case: Case) -> Limiter:
    """Asks the rules in order; when none holds, nothing proves what held the result."""
    for rule in _RULES:
        found = rule(case)
        if found:
            return found
    return _unknown(case)


def _above_ceiling(case: Case) -> Limiter | None:
    share = case.ceiling_share
    if share is None or share <= MAX_SHARE:
        return None
    ports = [port.interface for port in (case.link.near, case.link.far) if port]
    by = f"; it went by {' and '.join(dict.fromkeys(ports))}" if ports else ""
    return Limiter(
        "above-ceiling",
        f"goodput was {format_share(share)} of the ceiling, which no link of that rating can carry{by}.",
        "Check --rated, and that the addresses are those of the ports under test.",
    )


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


def _pacing(case: Case) -> Limiter | None:
    pacing_bps = case.options.pacing_bps
    if not pacing_bps or case.flow_goodput_bps < _PACED_SHARE * pacing_bps:
        return None
    return Limiter(
        "pacing",
        f"each flow was paced at {format_rate(pacing_bps)} and reached {format_rate(case.flow_goodput_bps)}.",
        "Leave out --pacing to see what the link carries.",
    )


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
    """The peer's window or the own send buffer, whichever held the sender back longer. Close by, a reader that is short
    of CPU keeps its window small as well, since it is tuned by what is read: there that one comes first."""
    time, evidence = case.evidence.sender_time, case.evidence
    near_by = (evidence.rtt_mean_s or 0.0) < _TELLING_RTT_S and case.options.socket_buffer_bytes is None
    if near_by and any(shortage_of(cpu) for cpu in evidence.cpu.values()):
        return None
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


def _explains(window_bytes: float, case: Case) -> bool:
    """Whether a window is small enough to be the reason.

    One that would allow several times the goodput was shut because the receiver read slowly. And where a worker was
    short of CPU, queues lengthen the RTT, so that only the min RTT tells what the window allows.
    """
    if not case.window_explains(window_bytes, _WINDOW_SLACK):
        return False
    evidence = case.evidence
    if max((cpu.busiest_worker for cpu in evidence.cpu.values()), default=0.0) < _SPENT_WORKER:
        return True
    max_bps = _WINDOW_SLACK * case.flow_goodput_bps
    return evidence.rtt_min_s is not None and window_bound_bps(window_bytes, evidence.rtt_min_s) <= max_bps


def _full_send_buffer(case: Case) -> Limiter | None:
    """A send buffer that the system keeps small: it holds a flow back without being counted as the limit, since the
    kernel takes it for a program that has no more to send. What is in flight then fills the buffer, and neither the
    congestion window nor the peer's."""
    evidence, in_flight = case.evidence, case.in_flight_bytes
    buffer, rtt_s = evidence.send_buffer_bytes, evidence.rtt_mean_s
    windows = [window for window in (evidence.cwnd_bytes, evidence.window_bytes) if window]
    if not buffer or not rtt_s or rtt_s < _TELLING_RTT_S or not windows or min(windows) < 2 * in_flight:
        return None
    if not buffer / 2 <= in_flight <= 1.1 * (buffer + _ONE_SEGMENTED_WRITE_BYTES):
        return None
    held = f"{format_size(in_flight)} were in flight, where the windows allowed {format_size(min(windows))}"
    return _small_buffer("send-buffer", held, buffer, "the socket had", case)


def _too_short(case: Case) -> Limiter | None:
    trips = case.round_trips
    if trips is None or trips >= _MIN_ROUND_TRIPS:
        return None
    idle_s = case.evidence.rtt_idle_s or 0.0
    return Limiter(
        "too-short",
        f"the test lasted {trips:.0f} round trips of {format_duration(idle_s)}, in which a flow has hardly begun.",
        f"Test longer: --duration {math.ceil(_ENOUGH_ROUND_TRIPS * idle_s)}s.",
    )


def _full_link(case: Case) -> Limiter | None:
    return _link(case) if case.ceiling_share is not None and case.ceiling_share >= FULL_SHARE else None


def _standing_queue(case: Case) -> Limiter | None:
    return _link(case) if case.has_standing_queue else None


def _steady_rate(case: Case) -> Limiter | None:
    """A path that gives the same each second while both hosts have time to spare: nothing else is as even. It is how a
    link shows to a congestion control that keeps its queue short."""
    evidence = case.evidence
    if evidence.unsteadiness is None or evidence.unsteadiness >= _VERY_STEADY or not evidence.cpu:
        return None
    if any(cpu.busiest_worker >= _SPARE_WORKER or shortage_of(cpu) for cpu in evidence.cpu.values()):
        return None
    return _link(case, f"every second brought the same, to within {format_share(evidence.unsteadiness)}")


def _much_loss(case: Case) -> Limiter | None:
    """Loss that no queue explains: few flows keep one filled with a tenth of it, unless they send on whatever is lost,
    and a queue may be of the other direction."""
    again = case.evidence.retransmitted
    overfills = case.evidence.flows > _FEW_FLOWS or _sends_on_whatever_is_lost(case)
    if not again or again < _MUCH_LOSS or (case.has_standing_queue and overfills):
        return None
    unsteadiness = case.evidence.unsteadiness
    if unsteadiness is not None and unsteadiness < _STEADY and not case.has_standing_queue:
        return Limiter(
            "policer",
            f"{format_share(again)} of the bytes had to be sent again and no queue stood on the path, while every "
            f"second brought the same: {format_rate(case.goodput_bps)} to within {format_share(unsteadiness)}.",
            "Look for a rate limit (policer) on the way that drops what is above it; shape instead, or buy the rate.",
        )
    return _lossy(case)


def _sends_on_whatever_is_lost(case: Case) -> bool:
    """Whether the congestion control goes by the rate that is delivered, and not by loss: four such flows that filled a
    queue of 25 ms sent 3 to 27 % of their bytes again, and the link was full."""
    return (case.evidence.congestion_control or "").startswith("bbr")


def _shortage(case: Case) -> Limiter | None:
    for end, cpu in case.evidence.cpu.items():
        if words := shortage_of(cpu):
            return _cpu(end, f"a worker at the {end} end {words}", case)
    return None


def _cpu(end: End, busy: str, case: Case) -> Limiter:
    stolen = case.evidence.cpu[end].stolen
    also = f", and a hypervisor took {format_share(stolen)} of its time away" if stolen > 0.02 else ""
    return Limiter(
        "cpu-near" if end == "near" else "cpu-far",
        f"{busy}{also}: the tester gave no more, which says nothing about the equipment.",
        "Stop what else runs there, use more flows if cores are idle, or take a faster host.",
    )


def _loss_by_the_law(case: Case) -> Limiter | None:
    """Loss that accounts for the goodput by arithmetic, busy host or not."""
    evidence, again = case.evidence, case.evidence.retransmitted
    rtt_s, segment_bytes = evidence.rtt_mean_s, evidence.segment.payload_bytes
    if not rtt_s or not again or again < _LAWFUL_LOSS or not segment_bytes or rtt_s < _TELLING_RTT_S:
        return None
    allowed_bps = square_root_bps(segment_bytes, rtt_s, again)
    as_the_law_says = 1 / _AS_THE_LAW_SAYS <= case.flow_goodput_bps / allowed_bps <= _AS_THE_LAW_SAYS
    return _lossy(case) if as_the_law_says else None


def _some_loss(case: Case) -> Limiter | None:
    again = case.evidence.retransmitted
    return _lossy(case) if again and again >= _TELLING_LOSS else None


def _window_by_arithmetic(case: Case) -> Limiter | None:
    """A window that accounts for the goodput, where the kernel does not say that it held the sender back."""
    rtt_s, window_bytes = case.evidence.rtt_mean_s, case.evidence.window_bytes
    if not rtt_s or rtt_s < _TELLING_RTT_S or not window_bytes:
        return None
    share = case.flow_goodput_bps / window_bound_bps(window_bytes, rtt_s)
    if not _AS_THE_WINDOW_SAYS <= share <= 1 / _AS_THE_WINDOW_SAYS:
        return None
    held = f"the goodput is {format_share(share)} of what the window lets through"
    return _small_buffer("receive-window", held, window_bytes, "the window was", case)


def _other_traffic(case: Case) -> Limiter | None:
    share = case.evidence.foreign_share
    if share is None or share < _OTHER_TRAFFIC:
        return None
    return Limiter(
        "other-traffic",
        f"the interfaces moved {format_rate(share * case.goodput_bps)} of other traffic in this direction meanwhile.",
        "Stop what else uses this link, then measure again; `harvok preflight` shows what does.",
    )


def _stalled_reader(case: Case) -> Limiter | None:
    """A window that was shut much of the time, though it would allow far more: nobody read."""
    time = case.evidence.sender_time
    if not time or time.window_limited < _MUCH_OF_THE_TIME:
        return None
    return Limiter(
        "receiving-host",
        f"the receive window was shut {format_share(time.window_limited)} of the time, though it was large enough: the "
        "receiving host did not read what had come.",
        "Look at what else that host does; this says nothing about the equipment.",
    )


def _slow_flow(case: Case) -> Limiter | None:
    shares = case.evidence.flow_shares
    if len(shares) < 2 or min(shares) >= _SLOW_FLOW:
        return None
    return Limiter(
        "slow-flow",
        f"flow {shares.index(min(shares))} of {len(shares)} got {format_share(min(shares))} of an even share.",
        "Look for a path that spreads flows over several links, of which one is slow.",
    )


def _lossy(case: Case) -> Limiter:
    evidence = case.evidence
    again, loaded_s = evidence.retransmitted or 0.0, evidence.rtt_mean_s
    bound = ""
    queue = "" if case.has_standing_queue else " and no queue stood on the path"
    segment_bytes = evidence.segment.payload_bytes
    if segment_bytes and loaded_s:
        reno_bps = evidence.flows * square_root_bps(segment_bytes, loaded_s, again)
        bound = f" at {format_duration(loaded_s)} RTT that allows a Reno-like sender {format_rate(reno_bps)};"
    again_text = f"{format_share(again)} of the bytes had to be sent again{queue};{bound}"
    return Limiter(
        "loss",
        f"{again_text} congestion control was {evidence.congestion_control or 'unknown'}.",
        "Look at the error counters of every port on the way, re-seat or swap the lead, check duplex.",
    )


def _link(case: Case, proof: str = "") -> Limiter:
    advice = "Nothing at either end held it back." if case.ceiling else "Give --rated to set it against a ceiling."
    return Limiter("link", "; ".join([*_facts(case), *filter(None, [proof])]) + ".", advice)


def _known_good(case: Case) -> Limiter | None:
    """What these hosts did over another path they can do, as long as they are not busy now."""
    good = case.known_good
    busy = any(cpu.waiting >= _IDLE_WAITING or cpu.busiest_core >= BUSY_CORE for cpu in case.evidence.cpu.values())
    if not good or busy or not case.evidence.cpu:
        return None
    return _link(
        case,
        f"in run {good.run} these hosts carried {format_rate(good.goodput_bps)}, {format_share(good.share)} of this "
        "ceiling, under like conditions, and had time to spare now",
    )


def _unknown(case: Case) -> Limiter:
    facts = "; ".join(_facts(case)) or "nothing was found"
    return Limiter(
        "unknown",
        f"{facts}; neither a full link nor a queue, loss, a window or a busy host accounts for that.",
        "Measure these two hosts over a known-good path as well, with the same options and this logbook: a run that "
        "fills the ceiling there is found by later ones, and proves what the hosts can do.",
    )


def _facts(case: Case) -> list[str]:
    evidence, facts = case.evidence, []
    if case.ceiling_share is not None:
        facts.append(f"goodput reached {format_share(case.ceiling_share)} of the ceiling")
    if evidence.sender_time:
        time = evidence.sender_time
        facts.append(
            f"windows and buffers held it {format_share(time.window_limited + time.buffer_limited)} of the time"
        )
    if evidence.cpu:
        facts.append(f"the busiest core was busy {format_share(max(c.busiest_core for c in evidence.cpu.values()))}")
    if evidence.retransmitted and evidence.retransmitted >= _TELLING_LOSS:
        facts.append(f"{format_share(evidence.retransmitted)} of the bytes had to be sent again")
    if evidence.rtt_idle_s and evidence.rtt_mean_s and case.has_standing_queue:
        facts.append(
            f"a queue on the path raised the RTT from {format_duration(evidence.rtt_idle_s)} "
            f"to {format_duration(evidence.rtt_mean_s)}"
        )
    return facts


_RULES: tuple[Callable[[Case], Limiter | None], ...] = (
    _negotiated_speed,
    _above_ceiling,
    _full_link,
    _pacing,
    _windows,
    _loopback,
    _too_short,
    _other_traffic,
    _full_send_buffer,
    _much_loss,
    _standing_queue,
    _loss_by_the_law,
    _shortage,
    _window_by_arithmetic,
    _stalled_reader,
    _window_opening,
    _some_loss,
    _slow_flow,
    _steady_rate,
    _known_good,
)
