"""Judges what a port negotiated, plug by plug."""

from collections.abc import Sequence

from harvok.core.judgement.finding import Finding
from harvok.core.samples import Event
from harvok.core.trials.link import MISSED, SPEED
from harvok.core.units import format_speed


def judge_link(port: str, link_ups: Sequence[Event], rated_bps: float | None, minimum: int) -> list[Finding]:
    """REJECT for a single link-up below the rated speed or at half duplex; ACCEPT needs `minimum` that were right."""
    if rated_bps is None:
        return []
    where, count = port, len(link_ups)
    slow = [event.values[SPEED] for event in link_ups if event.values.get(SPEED, rated_bps) < rated_bps]
    half = [event for event in link_ups if event.labels.get("duplex") == "half"]
    flaps = round(sum(event.values.get(MISSED, 0) for event in link_ups))
    if slow:
        speeds = ", ".join(sorted({format_speed(speed_bps) for speed_bps in slow}))
        clause = f"{len(slow)} of {count} times the link came up at {speeds}, below {format_speed(rated_bps)}"
        return [
            Finding("REJECT", where, clause, "Try a known-good lead on the same ports: then it is the lead, or not.")
        ]
    if half:
        return [Finding("REJECT", where, f"{len(half)} of {count} times at half duplex", "Check both ends' settings.")]
    if flaps:
        return [Finding("REJECT", where, f"link losses too short to be seen: {flaps}", "Swap the lead.")]
    if any(SPEED not in event.values for event in link_ups):
        return [Finding("RETEST", where, "this port does not report its speed", "Watch a physical port.")]
    if count < minimum:
        more = f"{count} link-ups are too few: {minimum} are needed"
        return [Finding("RETEST", where, more, "Unplug and plug it more often, coiled and uncoiled.")]
    return [Finding("ACCEPT", where, f"{count} of {count} times the link came up at {format_speed(rated_bps)} or more")]
