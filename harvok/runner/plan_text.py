"""Commented plans to start from, one for each usual job."""

import json
import math
from typing import Literal

from harvok.core.units import parse_rate_bps, write_speed

Job = Literal["cable", "nic", "switch", "router", "link", "change"]
JOBS: dict[Job, str] = {
    "cable": "a lead between two hosts, against a known-good one",
    "nic": "a port pair between two hosts, both directions at once as well",
    "switch": "a switch between two ports, RFC 2544",
    "router": "a router between two ports, RFC 2544 with small and large frames",
    "link": "a quick health check of a link between two hosts",
    "change": "before and after a change, alternating so that drift cancels out",
}

_HEAD = """\
# A plan of Harvok: {about}. docs/plans.md explains every key.
version = 1
name = {name}
about = {about_quoted}
{between}
unit = ["asset", "serial"]   # asked for before the first run, or given with --with asset=…
repeats = {repeats}
min_repeats = {min_repeats}
max_spread = "5%"            # (max − min) / median of the repeats: more is an unstable result, and gets no verdict
"""
_TCP = """
[[steps]]
name = {name}
test = "tcp"
direction = "{direction}"
duration = "{duration}"
instruction = {instruction}
{again}"""
_FRAMES = """
[[steps]]
name = "benchmark"
test = "rfc2544"
tests = ["throughput", "latency", "loss"]
{sizes}duration = "{duration}"
instruction = "Wire both tester ports to the device, and nothing else. Let it run warm for ten minutes."
"""
_UDP = """
[[steps]]                # the second way to the figure: the highest UDP rate without loss
name = {name}
test = "udp"
rate = "{rated}"
search = true
duration = "{duration}"
repeats = 2
"""
_AGREEMENT = """
[[agreements]]           # both on layer 2: where they differ, what limited the lower one is said
steps = [{first}, {second}]
within = "3%"
"""
_TCP_MIN = """
[[criteria]]             # the settled goodput of each direction, in % of what the arithmetic allows
figure = "ceiling-share"
min = "95%"
"""
_HALF = """
[[steps]]                # at half the rate nothing fills up: what is lost there is lost by a fault
name = {name}
test = "udp"
rate = "{half}"
duration = "{duration}"
"""
_CLEAN = """
[[criteria]]
figure = "datagram-loss"
step = {step}
max = "{most}"
"""
_TCP_REGRESSION = """
[[criteria]]             # no worse than the step it is compared with
figure = "goodput-settled"
step = {step}
against = {against}
max_regression = "2%"
changed = []             # conditions that differ on purpose, such as "near.interface"
"""
_FRAMES_CRITERIA = """
[[criteria]]             # every frame size at line rate
figure = "throughput-share"
min = "99.9%"

[[criteria]]
figure = "latency-p999"
max = "{max_delay}"

[[criteria]]             # nothing lost at a tenth less than line rate
figure = "frame-loss"
load = "90 %"
max = "0%"
"""


DURATIONS_S = (60, 30, 20, 10, 5, 2, 1)
"""How long a trial or run may be, longest first; RFC 2544 §24 asks for 60 s."""


def plan_text(job: Job, name: str, where: str, rated: str, repeats: int, duration_s: int | None = None) -> str:
    """The text of a plan for a job: `where` is a station, or the rig file of a switch or router; `rated` as in 1G. A
    duration is that of a frame trial or a TCP run; 60 s and 10 s without."""
    frames = job in ("switch", "router")
    between = f"rig = {json.dumps(where)}" if frames else f'station = {json.dumps(where)}\nrated = "{rated}"'
    about = JOBS[job]
    head = _HEAD.format(
        name=json.dumps(name),
        about=about,
        about_quoted=json.dumps(about),
        between=between,
        repeats=repeats,
        min_repeats=min(repeats, 5),
    )
    return head + (_frames(job, duration_s or 60) if frames else _tcp(job, rated, duration_s or 10, repeats))


def _frames(job: Job, duration_s: int) -> str:
    sizes = "frame_sizes = [64, 512, 1518]\n" if job == "router" else ""
    steps = _FRAMES.format(sizes=sizes, duration=f"{duration_s}s")
    return steps + _FRAMES_CRITERIA.format(max_delay="1ms" if job == "router" else "100us")


def _step(name: str, direction: str, duration: str, instruction: str, again: str = "") -> str:
    return _TCP.format(
        name=json.dumps(name),
        direction=direction,
        duration=duration,
        instruction=json.dumps(instruction),
        again=f"instruction_again = {json.dumps(again)}\n" if again else "",
    )


_LONGEST_UDP_TRIAL_S = 3
"""Of a search, which takes about ten in each direction."""
_USUAL_LOSS_TRIAL_S, _LONGEST_LOSS_TRIAL_S = 5, 30
_MAX_LOSSES = (0.0001, 0.001)
"""The stricter where it can be shown in the usual time; links of 10 Mb/s and less take too long to send as much."""
_COUNTED_FOR_A_LIMIT = 7
"""Datagrams for each that a limit lets be lost: where none of so many is, it is met with a confidence of 99.8 %."""
_DATAGRAM_L2_BITS = 1518 * 8


def _by_udp(first: str, rated: str, duration_s: int, repeats: int) -> tuple[str, str]:
    """The steps that measure by UDP what another measured by TCP, and what they must come to: the same figure, and
    nothing lost where nothing fills up."""
    half, second = json.dumps(f"{first}-half"), json.dumps(f"{first}-udp")
    half_bps, lasts_s = parse_rate_bps(rated) / 2, min(duration_s, _LONGEST_UDP_TRIAL_S)
    most, counted_s = _strictest_limit(half_bps, min(duration_s, _USUAL_LOSS_TRIAL_S) * repeats)
    half_lasts_s = max(lasts_s, min(math.ceil(counted_s / repeats), _LONGEST_LOSS_TRIAL_S))
    steps = _HALF.format(name=half, half=write_speed(half_bps), duration=f"{half_lasts_s}s")
    steps += _UDP.format(name=second, rated=rated, duration=f"{lasts_s}s")
    clean = _CLEAN.format(step=half, most=f"{most * 100:g}%")
    return steps, clean + _AGREEMENT.format(first=json.dumps(first), second=second)


def _strictest_limit(rate_bps: float, within_s: float) -> tuple[float, float]:
    """How little may be lost, as datagrams at a rate show within a time where they can, and the time that it takes."""
    needed_s = [(most, _COUNTED_FOR_A_LIMIT / most * _DATAGRAM_L2_BITS / rate_bps) for most in _MAX_LOSSES]
    return next((one for one in needed_s if one[1] <= within_s), needed_s[-1])


def _tcp(job: Job, rated: str, duration_s: int, repeats: int) -> str:
    lasts = f"{duration_s}s"
    if job == "link":
        udp, asked = _by_udp("health", rated, duration_s, repeats)
        return _step("health", "each", lasts, "") + udp + _TCP_MIN + asked
    if job == "nic":
        alone = _step("each-way", "each", lasts, "Join the port under test to a known-good port with a short lead.")
        udp, asked = _by_udp("each-way", rated, duration_s, repeats)
        return alone + _step("both-ways", "both", lasts, "") + udp + _TCP_MIN + asked
    before, after = ("known-good", "under-test") if job == "cable" else ("before", "after")
    swap = "Swap in the lead under test." if job == "cable" else "Make the change."
    first = "Wire the known-good lead." if job == "cable" else "Leave everything as it is today."
    undo, redo = ("Undo the change: all as it was.", "Make the change again.") if job == "change" else ("", "")
    steps = _step(before, "each", lasts, first, undo) + _step(after, "each", lasts, swap, redo)
    regression = _TCP_REGRESSION.format(step=json.dumps(after), against=json.dumps(before))
    alternate = "alternate = true         # A B A B: swaps between all runs, so that drift cancels out\n"
    udp, asked = _by_udp(after, rated, duration_s, repeats)
    if job == "change":
        return alternate + steps + udp + regression + asked
    return steps + udp + regression + _TCP_MIN + asked
