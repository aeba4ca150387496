"""What is looked at before a test, and what each look comes to: ok, a warning, or a reason to stop.

Every function here is handed what was found, and says what it means and what to do.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from harvok.core.conditions import HostConditions, InterfaceCounters, InterfaceFacts
from harvok.core.ethernet import bandwidth_delay_product_bytes
from harvok.core.link import Link
from harvok.core.time_axis import ClockOffset
from harvok.core.units import format_duration, format_rate, format_share, format_size, format_speed

Outcome = Literal["ok", "warning", "stop", "unknown"]

_BUSY_SHARE = 0.5
"""Of all cores, by the load average: a test of one flow needs a core at each end, and half of two is one."""
_STOLEN = 0.02
"""Of the CPU: as much as the 2 % by which a change is judged by default."""
_OTHER_SHARE = 0.01
"""Of the line rate: half of that again."""
_OTHER_BPS = 10e6
"""Where no line rate is known: a percent of a gigabit."""
_FAR_OFF_S = 0.001
"""A clock bound that is too wide for one-way delay on a local network, which is below a millisecond."""
_ENOUGH = 0.95
"""Of a ceiling: a result that shows that these hosts can fill the link, with the same margin as a calibration."""


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was looked at. `found` is a sentence, `advice` what to do, empty when all is well."""

    topic: str
    outcome: Outcome
    found: str
    advice: str = ""


def quick_checks(near: HostConditions, far: HostConditions | None, link: Link) -> list[Check]:
    """What can be told from the conditions alone, without sending anything: every test keeps these with its run."""
    ends = [("near", near)] + ([("far", far)] if far else [])
    checks = [check for end, host in ends for check in (*interface_checks(end, host, link), *cpu_checks(end, host))]
    if far:
        checks += mtu_agreement(near, far)
    return checks


def interface_checks(end: str, host: HostConditions, link: Link) -> Iterator[Check]:
    """The interface that the test really uses, and what it negotiated."""
    topic, port = f"interface, {end} end", host.interface
    if port:
        yield port_check(topic, port, link.rated_bps)
    else:
        yield Check(topic, "unknown", "this system does not tell which interface is used", "Look it up by hand.")


def port_check(topic: str, port: InterfaceFacts, rated_bps: float | None) -> Check:
    """What an interface negotiated, against what it is rated for."""
    speed = format_speed(port.negotiated_bps) if port.negotiated_bps else "no negotiated speed"
    facts = f"{port.name} ({port.driver or port.kind}), {speed}, MTU {port.mtu_bytes} B"
    if port.kind == "loopback":
        return Check(topic, "warning", f"{facts}: loopback, no link is tested", "Give the address of another host.")
    if port.duplex == "half":
        return Check(
            topic, "stop", f"{facts}, half duplex", "Let both ends auto-negotiate, or set both to full duplex."
        )
    if port.negotiated_bps and rated_bps and port.negotiated_bps < rated_bps:
        return Check(
            topic,
            "stop",
            f"{facts}: below the rated {format_speed(rated_bps)}",
            "Swap the lead, then the port; `harvok ports watch` keeps a record of what each one negotiates.",
        )
    return Check(topic, "ok", facts)


def cpu_checks(end: str, host: HostConditions) -> Iterator[Check]:
    """Cores, governor and load."""
    topic = f"CPU, {end} end"
    facts = f"{host.cores} cores" + (f", load {host.load_1min:.2f}" if host.load_1min is not None else "")
    if host.load_1min is not None and host.load_1min > _BUSY_SHARE * host.cores:
        yield Check(topic, "warning", f"{facts}: busy with something else", "End other work there before you measure.")
    elif host.governor not in (None, "performance"):
        yield Check(
            topic,
            "warning",
            f"{facts}, governor {host.governor}",
            "Set the governor to performance: clocks that change in mid-test change the result.",
        )
    else:
        yield Check(topic, "ok", facts + (f", governor {host.governor}" if host.governor else ""))


def mtu_agreement(near: HostConditions, far: HostConditions) -> Iterator[Check]:
    """Both interfaces with one MTU."""
    mtus = [host.interface.mtu_bytes for host in (near, far) if host.interface and host.interface.mtu_bytes]
    if len(mtus) == 2 and mtus[0] != mtus[1]:
        yield Check(
            "MTU of both ends",
            "warning",
            f"{mtus[0]} B here and {mtus[1]} B there",
            "Set both alike, unless the difference is what you test.",
        )


def path_mtu_check(version: int, interface_mtu: int | None, found: int | None) -> Check:
    """The largest packet that came back whole, against the interface's MTU."""
    topic = f"path MTU, IPv{version}"
    if found is None:
        return Check(
            topic, "unknown", "nothing answered probes of any size", "Let UDP through to the reflector's port."
        )
    if interface_mtu and found < interface_mtu:
        return Check(
            topic,
            "warning",
            f"packets up to {found} B come through, and the interface sends up to {interface_mtu} B",
            "Look for a device with a smaller MTU on the path, or set the MTU of both ends to that.",
        )
    return Check(topic, "ok", f"packets up to {found} B come through and back")


def delay_check(sent: int, answered: int, min_s: float | None) -> Check:
    """The reflector's answers to a few packets."""
    if not answered or min_s is None:
        return Check(
            "delay",
            "warning",
            "the far end's reflector does not answer",
            "Let its UDP port through; without it one-way delay and path MTU stay unknown.",
        )
    if answered < sent:
        return Check(
            "delay",
            "warning",
            f"{sent - answered} of {sent} packets got no answer on an idle path",
            "Something loses packets even without load: look at the counters of every port on the way.",
        )
    return Check("delay", "ok", f"two-way delay at least {format_duration(min_s)}, {sent} of {sent} answered")


def clock_check(near: HostConditions, far: HostConditions, offset: ClockOffset | None) -> Check:
    """How well one-way delay can be known."""
    if offset is None:
        return Check("clocks", "unknown", "the clocks could not be compared", "One-way delay will not be told.")
    if not offset.error_s:
        return Check("clocks", "ok", "both ends are one machine and share one clock")
    facts = f"{format_duration(abs(offset.offset_s))} apart, known to ± {format_duration(offset.error_s)}"
    loose = [end for end, host in (("near", near), ("far", far)) if not host.clock.synchronised]
    if offset.error_s > _FAR_OFF_S or loose:
        who = f"; not kept in step: {' and '.join(loose)}" if loose else ""
        return Check(
            "clocks",
            "warning",
            f"{facts}{who}",
            "Rates and losses do not mind. For one-way delay keep both in step with one source (PTP or NTP).",
        )
    return Check("clocks", "ok", facts)


def calibration_check(run: str, taken: str) -> Check:
    """Whether it is known what the tester itself can do on a rig, by which run and when."""
    topic = "ability of the tester"
    if not run:
        return Check(
            topic,
            "warning",
            "no calibration in this logbook is of these ports",
            "Join the ports by a known-good lead, and run `harvok calibrate`; else its limit passes for the device's.",
        )
    return Check(topic, "ok", f"calibrated in run {run}, {taken}")


def traffic_check(
    where: str, before: InterfaceCounters | None, after: InterfaceCounters | None, line_bps: float | None
) -> Iterator[Check]:
    """Other traffic on the interface just now, and errors that grow."""
    topic = f"other traffic, {where}"
    if not before or not after or after.at_s <= before.at_s:
        yield Check(topic, "unknown", "this system does not count it", "")
        return
    passed_s = after.at_s - before.at_s
    max_bps = max(after.received_bytes - before.received_bytes, after.sent_bytes - before.sent_bytes) * 8 / passed_s
    facts = f"{format_rate(max_bps)} on {after.name} just now"
    if max_bps > (line_bps * _OTHER_SHARE if line_bps else _OTHER_BPS):
        share = f" ({format_share(max_bps / line_bps)} of the line)" if line_bps else ""
        yield Check(topic, "warning", f"{facts}{share}", "End it: two tests at once spoil each other.")
    else:
        yield Check(topic, "ok", facts)
    if after.faults > before.faults:
        yield Check(
            f"errors, {where}",
            "warning",
            f"{after.faults - before.faults} more errors or drops on {after.name} within {format_duration(passed_s)}",
            "Look at the lead and its connectors; `harvok ports` shows every counter.",
        )


def buffers_check(near: HostConditions, far: HostConditions, link: Link, rtt_s: float | None) -> Check:
    """Whether the windows that TCP may grow to fill the path."""
    topic, rate_bps = "socket buffers", link.line_rate_bps
    if not rate_bps or not rtt_s:
        return Check(topic, "unknown", "the rate or the delay of the path is not known", "Give --rated.")
    need = bandwidth_delay_product_bytes(rate_bps, rtt_s)
    limits = {
        "near": near.socket_limits.tcp_send_bytes,
        "far": far.socket_limits.tcp_receive_bytes,
    }
    short = {end: triple[2] for end, triple in limits.items() if triple and triple[2] < 2 * need}
    facts = f"{format_rate(rate_bps)} × {format_duration(rtt_s)} need {format_size(need)} in flight"
    if short:
        ends = ", ".join(f"{format_size(maximum)} at the {end} end" for end, maximum in short.items())
        return Check(
            topic,
            "warning",
            f"{facts}, and TCP may grow to {ends} only, of which about half carries data",
            "Raise net.ipv4.tcp_wmem and tcp_rmem there, or use more --flows.",
        )
    return Check(topic, "ok", f"{facts}; TCP may grow beyond that at both ends")


def ability_check(best_bps: float | None, run: str, ceiling_bps: float | None) -> Check:
    """Whether an earlier result shows that these two hosts can fill the link."""
    topic = "ability of the hosts"
    if best_bps is None:
        return Check(
            topic,
            "unknown",
            "no run in this logbook shows what these two hosts can do together",
            "Join them by a known-good lead alone, and run `harvok tcp` once.",
        )
    facts = f"run {run} carried {format_rate(best_bps)} between them"
    if ceiling_bps and best_bps < _ENOUGH * ceiling_bps:
        return Check(
            topic,
            "warning",
            f"{facts}, their best, and the ceiling is {format_rate(ceiling_bps)}",
            "They may be too slow for this link: a result below the ceiling may be theirs.",
        )
    return Check(topic, "ok", facts)
