"""The streams of a frame test, as people name them: `port1:port3`, and what their frames have of their own."""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import get_args

from harvok.core.ends import MAX_STREAMS, PORT_STREAMS, Stream, TwoPortDirection
from harvok.core.mixes import frame_size
from harvok.core.procedures.frames import USUAL_AGING_S, FrameSettings, short_trial_s
from harvok.core.stream_frames import PLAIN, Cast, StreamFrames
from harvok.core.units import parse_share
from harvok.core.wire.frame import FrameIp
from harvok.errors import UsageError

ALL = "all"
"""Stands for every port of a rig but the one at the other end of a stream."""
_MAX_VLAN, _MAX_DSCP, _MAX_TAGS, _MAX_PAIRS = 4094, 63, 2, 16384
_CASTS: tuple[Cast, ...] = ("broadcast", "multicast")


@dataclass(frozen=True, slots=True)
class FrameStreams:
    """The streams of a test, and the frames of those that are not plain, by the names of their streams."""

    streams: tuple[Stream, ...]
    frames_of: dict[str, StreamFrames] = field(default_factory=dict)


def frame_streams(named: Collection[str], direction: TwoPortDirection, ports: Sequence[str] = ()) -> FrameStreams:
    """The streams of a frame test: those `named` as `port1:port3`, or the shorthand where none is. `port1:all` is from
    one port to each other one of `ports`, `all:port1` from each to one, and `all:all` a full mesh (RFC 2889 §5.1).
    What their frames have of their own follows: `port1:port3,load=50%,size=512,vlan=10,dscp=46,pairs=100,to=broadcast`.

    Raises UsageError.
    """
    if not named:
        return FrameStreams(PORT_STREAMS[direction])
    found: dict[Stream, StreamFrames] = {}
    for text in named:
        ends, *settings = text.split(",")
        frames = _frames(text, settings)
        found |= dict.fromkeys(_parse_ends(ends, ports), frames)
    if len(found) > MAX_STREAMS:
        raise UsageError(f"{len(found)} streams at once are too many", f"Name {MAX_STREAMS} at most.")
    return FrameStreams(tuple(found), {s.name: frames for s, frames in found.items() if frames != PLAIN})


def full_mesh(ports: Sequence[str]) -> tuple[Stream, ...]:
    """From each port to each other (RFC 2889 §5.1)."""
    return frame_streams([f"{ALL}:{ALL}"], "send", ports).streams


def mesh_settings(
    line_bps: float,
    ports: Sequence[str],
    ip_version: FrameIp,
    full_s: float,
    resolution: float,
    loss_tolerance: float,
    pause_s: float,
    aging_s: float = USUAL_AGING_S,
) -> FrameSettings:
    """What all trials between many ports have in common; the streams are the mesh, for which a tester is calibrated."""
    return FrameSettings(
        line_bps=line_bps,
        streams=full_mesh(ports),
        ip_version=ip_version,
        loss_tolerance=loss_tolerance,
        full_s=full_s,
        short_s=short_trial_s(full_s),
        resolution=resolution,
        pause_s=pause_s,
        aging_s=aging_s,
    )


def _parse_ends(text: str, ports: Sequence[str]) -> Iterator[Stream]:
    source, colon, destination = (part.strip() for part in text.partition(":"))
    if not (source and colon and destination) or source == destination != ALL:
        raise UsageError(f"'{text}' is no stream", "Name two ports of the rig, such as port1:port3.")
    if ALL in (source, destination) and not ports:
        raise UsageError(f"'{text}' does not say which ports are meant", "Name each stream, such as port1:port3.")
    for one in ports if source == ALL else [source]:
        for other in ports if destination == ALL else [destination]:
            if one != other:
                yield Stream(f"{one} to {other}", one, other)


def _frames(text: str, settings: Sequence[str]) -> StreamFrames:
    frames = PLAIN
    for setting in settings:
        key, equals, value = (part.strip() for part in setting.partition("="))
        if key not in _READERS or not equals:
            raise UsageError(
                f"'{text}': a stream has no '{setting.strip()}'",
                f"After its ports it may have {', '.join(f'{key}=…' for key in _READERS)}.",
            )
        try:
            frames = _READERS[key](frames, value)
        except ValueError as error:
            raise UsageError(f"'{text}': {error}", "Correct the stream.") from error
        except UsageError as error:
            raise UsageError(f"'{text}': {error.message}", error.hint) from error
    return frames


def _load(frames: StreamFrames, text: str) -> StreamFrames:
    share = parse_share(text)
    if not 0 < share <= 1:
        raise ValueError("its load is to be above 0, and 100% at most")
    return replace(frames, load_share=share)


def _size(frames: StreamFrames, text: str) -> StreamFrames:
    return replace(frames, frame_sizes=frame_size(text).sizes)


def _vlan(frames: StreamFrames, text: str) -> StreamFrames:
    tags = tuple(_whole(part, "a VLAN", 1, _MAX_VLAN) for part in text.split("."))
    if len(tags) > _MAX_TAGS:
        raise ValueError("a frame carries two tags at most, the outer one first: vlan=100.20")
    return replace(frames, vlans=tags)


def _dscp(frames: StreamFrames, text: str) -> StreamFrames:
    return replace(frames, dscp=_whole(text, "a DSCP", 0, _MAX_DSCP))


def _pairs(frames: StreamFrames, text: str) -> StreamFrames:
    return replace(frames, addresses=_whole(text, "a number of address pairs", 1, _MAX_PAIRS))


def _to(frames: StreamFrames, text: str) -> StreamFrames:
    for cast in _CASTS:
        if text == cast:
            return replace(frames, cast=cast)
    raise ValueError(f"'{text}' is not {' or '.join(_CASTS)}")


def _whole(text: str, what: str, lowest: int, highest: int) -> int:
    if not text.isdecimal() or not lowest <= int(text) <= highest:
        raise ValueError(f"'{text}' is not {what}, {lowest} to {highest}")
    return int(text)


_READERS: dict[str, Callable[[StreamFrames, str], StreamFrames]] = {
    "load": _load, "size": _size, "vlan": _vlan, "dscp": _dscp, "pairs": _pairs, "to": _to,
}  # fmt: skip
assert set(_CASTS) <= set(get_args(Cast))
