"""Groups of multicast streams, joined and left at the ports where these come out, also in the middle of a trial."""

from collections.abc import Callable, Iterator
from dataclasses import replace

from harvok.core.ends import Stream
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial
from harvok.core.wire.groups import join, leave
from harvok.traffic.frames import Reports

GroupWord = Callable[[str, bytes, str], bytes]
"""Makes the frame with which a group is joined or left: its address, the port's hardware address, its IP address."""


class Meanwhile:
    """What is done at moments of a trial."""

    def __init__(self) -> None:
        self._due: list[tuple[float, Callable[[], object]]] = []

    def add(self, at_s: float, do: Callable[[], object]) -> None:
        """At this time of the trial, or soon after it."""
        self._due.append((at_s, do))

    def do_until(self, at_s: float) -> None:
        """Does what is due by now, each once."""
        due = [do for due_s, do in self._due if due_s <= at_s]
        self._due = [(due_s, do) for due_s, do in self._due if due_s > at_s]
        for do in due:
            do()


class Groups:
    """The groups of a trial: joined and left where its multicast streams come out."""

    def __init__(self, trial: FrameTrial, tell: Callable[[Stream, GroupWord], int]) -> None:
        self._trial, self._tell = trial, tell
        self._streams = [
            stream
            for stream in trial.streams
            if trial.frames(stream.name).cast == "multicast" and stream.name not in trial.bystanders
        ]
        self._joined_ns: dict[Stream, int] = {}
        self._left_ns: dict[Stream, int] = {}

    def moments(self) -> Iterator[tuple[float, Callable[[], object]]]:
        """What is to be done when in mid-trial."""
        if self._streams and self._trial.join_at_s is not None:
            yield self._trial.join_at_s, self.join
        if self._streams and self._trial.leave_at_s is not None:
            yield self._trial.leave_at_s, self.leave

    def join(self) -> None:
        """Joins them all."""
        for stream in self._streams:
            self._joined_ns[stream] = self._tell(stream, join)

    def leave(self) -> None:
        """Leaves them all, once."""
        for stream in self._streams:
            if stream not in self._left_ns:
                self._left_ns[stream] = self._tell(stream, leave)

    def told(self, stream: Stream, result: FrameDirectionResult, report: Reports) -> FrameDirectionResult:
        """The result of a stream, with how long joining and leaving took to show."""
        joined_ns, left_ns, came = self._joined_ns.get(stream), self._left_ns.get(stream), report.received
        return replace(
            result,
            join_delay_s=(came.first_ns - joined_ns) / 1e9 if joined_ns and came.first_ns else None,
            leave_delay_s=(came.last_ns - left_ns) / 1e9 if left_ns and came.last_ns else None,
        )
