"""Other traffic on the interfaces of a test: what they counted while it ran, beyond what the test itself sent."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from harvok.core.conditions import InterfaceCounters
from harvok.core.ends import TWO_WAY
from harvok.core.ethernet import ETHERNET_HEADER_BYTES, IP_HEADER_BYTES, TCP_HEADER_BYTES, TCP_TIMESTAMPS_BYTES
from harvok.core.trials.tcp import DirectionResult

_HEADER_BYTES = ETHERNET_HEADER_BYTES + IP_HEADER_BYTES[6] + TCP_HEADER_BYTES + TCP_TIMESTAMPS_BYTES

Counted = dict[str, tuple[InterfaceCounters, InterfaceCounters]]
"""What the interface of each end had counted before a trial and after it, where that is known."""


def with_foreign_share(results: Sequence[DirectionResult], counted: Counted) -> list[DirectionResult]:
    """The same results, each with the largest share of other traffic that either end's interface counted."""
    own = {result.direction: _own_bytes(result) for result in results}
    return [replace(result, foreign_share=_foreign_share(result, own, counted)) for result in results]


_ACKNOWLEDGEMENTS = 0.05
"""Of the bytes of the other direction, at most, that its acknowledgements come to: 66 B for every segment of 1448 B."""


def _own_bytes(result: DirectionResult) -> float | None:
    """What the sender sent, with its headers; None where its kernel does not tell."""
    last = result.sender_intervals[-1].tcp if result.sender_intervals else []
    sent = [info.sent_bytes for info in last]
    if not last or None in sent:
        return None
    mss_bytes = min((info.mss_bytes for info in last if info.mss_bytes), default=1448)
    return sum(filter(None, sent)) * (1 + _HEADER_BYTES / mss_bytes)


def _foreign_share(result: DirectionResult, own: Mapping[str, float | None], counted: Counted) -> float | None:
    """Bytes beyond those of this transfer, over those of this direction; None where the sender's kernel or no interface
    tells."""
    own_bytes = own[result.direction]
    if not own_bytes:
        return None
    others = sum(bytes_ or 0.0 for direction, bytes_ in own.items() if direction != result.direction)
    elapsed_s = result.sender.elapsed_s if result.sender else 0.0
    shares = []
    for end, (before, after) in counted.items():
        sends = TWO_WAY[result.direction].role_at(end) == "sender"
        around = max((after.at_s - before.at_s) / elapsed_s, 1.0) if elapsed_s else 1.0  # it goes on until it is closed
        expected_bytes = around * (own_bytes + _ACKNOWLEDGEMENTS * others)
        moved = after.sent_bytes - before.sent_bytes if sends else after.received_bytes - before.received_bytes
        shares.append(max(moved - expected_bytes, 0.0) / own_bytes)
    return max(shares, default=None)
