"""What was sent and received of each stream of a trial whose packets are counted one by one, whatever kind it is."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from harvok.core.ends import Stream


@dataclass(frozen=True, slots=True)
class StreamCounts:
    """Of one stream: packets, and how many a second were offered."""

    stream: Stream
    sent: int
    received: int
    offered_per_s: float

    @property
    def lost(self) -> int:
        return self.sent - self.received


def stream_counts(trial: Any, result: Any) -> list[StreamCounts]:
    """One entry for each stream of a trial; empty where packets are not counted, or not once."""
    count = _BY_KIND.get(trial.kind)
    return list(count(trial, result)) if count else []


def traffic_ends_s(trial: Any) -> float:
    """When what is sent is no longer all that was asked for; infinite where that is an amount, not a time."""
    if trial.kind == "app":
        return float(max(ends_s for _, _, ends_s in trial.sustained()))
    return float(getattr(trial, "duration_s", None) or "inf")


def _of_frames(trial: Any, result: Any) -> Iterator[StreamCounts]:
    """Not where a frame comes out at several ports, so that ports of the device count others than were sent."""
    if any(trial.frames(stream.name).is_copied for stream in trial.streams):
        return
    for stream, got in zip(trial.streams, result.directions, strict=True):
        yield StreamCounts(stream, got.sent_frames, got.received_frames, got.offered_load_fps)


def _of_datagrams(trial: Any, result: Any) -> Iterator[StreamCounts]:
    for stream, halves in zip(trial.streams, result.directions, strict=True):
        flows = halves.sender.sent
        yield StreamCounts(
            stream,
            sum(flow.datagrams for flow in flows),
            sum(flow.datagrams for flow in halves.receiver.received),
            sum(flow.datagrams / flow.sending_s for flow in flows if flow.sending_s),
        )


_BY_KIND: dict[str, Callable[[Any, Any], Iterator[StreamCounts]]] = {"frames": _of_frames, "udp": _of_datagrams}
