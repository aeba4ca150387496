"""What the frames of a stream may have of their own, where they are not like those of the whole trial."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from harvok.core.ends import Stream
from harvok.core.ethernet import LINE_OVERHEAD_BYTES, VLAN_TAG_BYTES
from harvok.core.units import format_share

Cast = Literal["unicast", "broadcast", "multicast", "learning", "learned"]
"""To whom frames are addressed: a port, everybody, or groups. `learning` frames come from many addresses, from which a
switch learns where those are, and `learned` ones go to the same addresses (RFC 2889 §5.7)."""
_COPIED = ("broadcast", "multicast", "learned")
ADDRESS_CASTS = ("learning", "learned")
"""Those that fill a table of addresses: nothing else may do so beside them."""


@dataclass(frozen=True, slots=True)
class StreamFrames:
    """`load_share` is of the load of the trial, which is a share of line rate. `frame_sizes` stand for those of the
    trial, each without its tags. `vlans` are the tags, the outer one first (IEEE 802.1Q, 802.1ad), and `dscp` the
    class of the packet (RFC 2474). `addresses` is how many pairs of addresses, groups or learned addresses there are, 0
    for those of the trial, and `address_set` which set of them."""

    load_share: float = 1.0
    frame_sizes: tuple[int, ...] = ()
    vlans: tuple[int, ...] = ()
    dscp: int = 0
    cast: Cast = "unicast"
    addresses: int = 0
    address_set: int = 0

    @property
    def is_copied(self) -> bool:
        """Whether streams of one port are the same frames, which may come out at several."""
        return self.cast in _COPIED

    def sizes(self, of_trial: Sequence[int]) -> tuple[int, ...]:
        """The sizes that are sent in turn, without tags."""
        return self.frame_sizes or tuple(of_trial)

    def mean_bytes(self, of_trial: Sequence[int]) -> float:
        """The mean size of a frame, its tags counted."""
        sizes = self.sizes(of_trial)
        return sum(sizes) / len(sizes) + VLAN_TAG_BYTES * len(self.vlans)

    def load_fps(self, load_fps: float, of_trial: Sequence[int]) -> float:
        """The load of the stream in frames/s, given that of a trial with its sizes: the same share of line rate, times
        `load_share`."""
        plain_bytes = sum(of_trial) / len(of_trial) + LINE_OVERHEAD_BYTES
        return load_fps * self.load_share * plain_bytes / (self.mean_bytes(of_trial) + LINE_OVERHEAD_BYTES)

    def __str__(self) -> str:
        parts = [f"{format_share(self.load_share)} of the load"] if self.load_share != 1 else []
        parts += [f"{' '.join(map(str, self.frame_sizes))} B"] if self.frame_sizes else []
        parts += [f"VLAN {' in '.join(map(str, reversed(self.vlans)))}"] if self.vlans else []
        parts += [f"DSCP {self.dscp}"] if self.dscp else []
        parts += [self.cast] if self.cast != "unicast" else []
        parts += [f"{self.addresses} addresses"] if self.addresses else []
        return ", ".join(parts)


PLAIN = StreamFrames()
FramesOf = Mapping[str, StreamFrames]
"""The frames of streams by their names; those that are not named are plain."""


def senders_of(streams: Sequence[Stream], frames_of: FramesOf) -> list[list[Stream]]:
    """The streams of a trial, those together that are the same frames."""
    senders: dict[object, list[Stream]] = {}
    for stream in streams:
        frames = frames_of.get(stream.name, PLAIN)
        senders.setdefault((stream.source, frames) if frames.is_copied else stream, []).append(stream)
    return list(senders.values())


def leaving_share(streams: Sequence[Stream], frames_of: FramesOf) -> float:
    """The load that leaves the busiest port, as a multiple of the load of a trial."""
    leaving: dict[str, float] = {}
    for first, *_ in senders_of(streams, frames_of):
        leaving[first.source] = leaving.get(first.source, 0.0) + frames_of.get(first.name, PLAIN).load_share
    return max(leaving.values(), default=1.0)


def arriving_share(streams: Sequence[Stream], frames_of: FramesOf) -> float:
    """The load that is sent to the port that gets the highest, as a multiple of the load of a trial."""
    arriving: dict[str, float] = {}
    for stream in streams:
        share = frames_of.get(stream.name, PLAIN).load_share
        arriving[stream.destination] = arriving.get(stream.destination, 0.0) + share
    return max(arriving.values(), default=1.0)
