"""What a person at the bench should know before believing a TCP result."""

from collections.abc import Iterator, Sequence

from harvok.core.link import Link
from harvok.core.tcp.reading import Reading
from harvok.core.trials.tcp import DirectionResult
from harvok.core.units import format_share, format_speed

_TELLING_STEAL = 0.02
"""Of the CPU: as much as the 2 % by which a change is judged by default."""


def link_notices(link: Link) -> Iterator[str]:
    """About the link, before anything is sent."""
    for end, port in (("near", link.near), ("far", link.far)):
        if port and port.negotiated_bps and link.rated_bps and port.negotiated_bps < link.rated_bps:
            yield (
                f"{port.interface} at the {end} end negotiated {format_speed(port.negotiated_bps)}, "
                f"below the rated {format_speed(link.rated_bps)}"
            )


def result_notices(results: Sequence[DirectionResult], readings: Sequence[Reading]) -> Iterator[str]:
    """About the results of a finished test."""
    for reading in readings:
        if not reading.settling.settled:
            yield f"{reading.direction}: the goodput never settled, so test longer before you trust the settled figure"
    stolen = [i.cpu.stolen for result in results for i in result.sender_intervals if i.cpu]
    if stolen and max(stolen) > _TELLING_STEAL:
        yield f"a hypervisor took up to {format_share(max(stolen))} of the CPU away during the test"
    missing = sorted(
        {m for result in results for half in (result.sender, result.receiver) if half for m in half.missing}
    )
    yield from (f"not reported by this system: {what}" for what in missing)
