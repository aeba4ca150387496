"""Counters that wrap, that restart, and that are told late: made into totals that only grow, and into rates.

Many agents read their hardware every few seconds and answer from memory in between. How often a device's counters
really change is seen from the moments at which they do, so that a rate is taken over the time it belongs to, and counts
are compared only when they are fresh.
"""

import statistics
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from harvok.core.device.reading import ALWAYS_NARROW, COUNTS, DeviceReading, PortCounts
from harvok.core.samples import DEVICE, Sample

_NARROW = 2**32
_REFRESHES_KEPT = 64
_ENOUGH_FRAMES, _LONGEST_FRAME = 20, 1518
_SLOWEST_S = 10.0
_LATE = 1.5
"""An agent that is asked twice as often as it refreshes shows a change at every second answer."""


class Totals:
    """Readings whose counters only grow: wraps are undone, and a restart goes on from where it was."""

    def __init__(self, wide: bool) -> None:
        self._wide = wide
        self._raw: DeviceReading | None = None
        self._total: DeviceReading | None = None
        self.restarts = 0

    def add(self, raw: DeviceReading) -> DeviceReading:
        """The same reading with totals since the first, which stays as it is."""
        before, total = self._raw, self._total
        self._raw = raw
        if before is None or total is None:
            self._total = raw
            return raw
        restarted = has_restarted(before, raw)
        self.restarts += restarted
        ports = {
            name: self._grown(total.ports.get(name), before.ports.get(name), counts, restarted)
            for name, counts in raw.ports.items()
        }
        self._total = replace(raw, ports=ports)
        return self._total

    def _grown(
        self, total: PortCounts | None, before: PortCounts | None, now: PortCounts, restarted: bool
    ) -> PortCounts:
        if total is None or before is None:
            return now
        grown: dict[str, int | None] = {}
        for name in COUNTS:
            sum_, old, new = getattr(total, name), getattr(before, name), getattr(now, name)
            if new is None or old is None or sum_ is None:
                grown[name] = new
            elif restarted:
                grown[name] = sum_ + new
            else:
                grown[name] = sum_ + self._difference(name, old, new)
        return PortCounts(**grown)

    def _difference(self, name: str, old: int, new: int) -> int:
        """A counter of 64 bits that went back was cleared by somebody: what it counts since is all that is known."""
        if new >= old:
            return new - old
        is_narrow = name in ALWAYS_NARROW or not self._wide
        return new - old + _NARROW if is_narrow and old > _NARROW // 2 else new


_UPTIME_SLACK_S = 2.0  # its clock and ours differ, and its uptime may be told as late as its counters
_UPTIME_WRAPS_S = 2**32 / 100


def has_restarted(before: DeviceReading, after: DeviceReading) -> bool:
    """Whether the device started anew between two readings: its uptime went back, and has not just wrapped."""
    passed_s = (after.at_ns - before.at_ns) / 1e9
    expected_s = before.uptime_s + passed_s
    wrapped = expected_s > _UPTIME_WRAPS_S - _UPTIME_SLACK_S and after.uptime_s < passed_s + _UPTIME_SLACK_S
    return after.uptime_s < before.uptime_s - _UPTIME_SLACK_S and not wrapped


def difference(before: PortCounts, after: PortCounts) -> PortCounts:
    """What was counted between two totals."""
    changes: dict[str, int | None] = {}
    for name in COUNTS:
        old, new = getattr(before, name), getattr(after, name)
        changes[name] = None if old is None or new is None else new - old
    return PortCounts(**changes)


class Refresh:
    """How often the device's counters really change, seen while traffic flows (`flows`, `quiet`). `poll_s` is how often
    it is asked."""

    def __init__(self, poll_s: float, flows: bool = False) -> None:
        self._poll_s, self._gaps_s = poll_s, list[float]()
        self._flows = flows
        self._last: DeviceReading | None = None
        self._changed_ns: int | None = None
        self._looks = self._changes = 0

    def flows(self) -> None:
        """Traffic begins, without a pause."""
        self._flows, self._changed_ns = True, None
        self._looks = self._changes = 0

    def quiet(self) -> None:
        """Traffic is over: what changes next is not a refresh of it."""
        self._flows = False

    def add(self, reading: DeviceReading) -> None:
        """Takes a reading."""
        before, self._last = self._last, reading
        if before is None or not self._flows:
            return
        self._looks += 1
        if not has_moved(before, reading):
            return
        self._changes += 1
        if self._changed_ns is not None:
            self._gaps_s = [*self._gaps_s, (reading.at_ns - self._changed_ns) / 1e9][-_REFRESHES_KEPT:]
        self._changed_ns = reading.at_ns

    @property
    def period_s(self) -> float | None:
        """The median time between two changes; None until three were seen. That of polls where each brings new ones."""
        return statistics.median(self._gaps_s) if len(self._gaps_s) > 1 else None

    @property
    def is_late(self) -> bool:
        """Whether the device tells its counters more seldom than it is asked."""
        return self.period_s is not None and self.period_s > _LATE * self._poll_s

    @property
    def may_be_late(self) -> bool:
        """Whether too few changes were seen to tell, and fewer than looks: what flowed was over before the next."""
        return self.period_s is None and self._looks > 1 and self._changes <= self._looks / _LATE

    @property
    def is_fresh(self) -> bool:
        """Whether the device is known to tell its counters as they are."""
        return self.period_s is not None and not self.is_late


def has_moved(before: DeviceReading, after: DeviceReading) -> bool:
    """Whether a port counted enough for its counters to have been read anew: of a frame now and then the gaps would be
    taken for the agent's. Frames alone are not believed where octets are told as well: some agents begin to tell them
    late, all at once."""
    return any(_is_enough(counts) for counts in changes_between(before, after).values())


def _is_enough(counts: PortCounts) -> bool:
    octets = [count for count in (counts.octets_in, counts.octets_out) if count is not None]
    if max(octets, default=0) >= _ENOUGH_FRAMES * _LONGEST_FRAME:
        return True
    frames = max(counts.frames_in or 0, counts.frames_out or 0)
    return frames >= _ENOUGH_FRAMES and (not octets or max(octets) > 0)


@dataclass(slots=True)
class _Edge:
    """When counters last changed, and to what."""

    at_ns: int
    counts: PortCounts


class PortRates:
    """Makes samples of readings on a trial's axis: rates over the time between two changes of a port's counters, so
    that an agent which tells them late shows no peaks and gaps of its own; and the device's own state."""

    def __init__(self, origin_ns: int, refresh: Refresh) -> None:
        self._origin_ns, self._refresh = origin_ns, refresh
        self._edges: dict[str, _Edge] = {}
        self._first: dict[str, PortCounts] = {}

    def add(self, reading: DeviceReading) -> list[Sample]:
        """What a reading adds to the axis."""
        at_s = round((reading.at_ns - self._origin_ns) / 1e9, 6)
        samples = [
            sample for name, counts in reading.ports.items() for sample in self._of_port(name, counts, reading, at_s)
        ]
        samples += [
            Sample(at_s, DEVICE, "device-cpu", share, {"core": str(number)}) for number, share in enumerate(reading.cpu)
        ]
        if reading.memory is not None:
            samples.append(Sample(at_s, DEVICE, "device-memory", reading.memory))
        samples += [
            Sample(at_s, DEVICE, "device-temperature-c", value, {"sensor": str(number)})
            for number, value in enumerate(reading.temperatures_c)
        ]
        return samples

    def _of_port(self, name: str, counts: PortCounts, reading: DeviceReading, at_s: float) -> Iterator[Sample]:
        edge = self._edges.setdefault(name, _Edge(reading.at_ns, counts))
        first = self._first.setdefault(name, counts)
        passed_s = (reading.at_ns - edge.at_ns) / 1e9
        if counts == edge.counts and self._may_be_old(passed_s):
            return
        changes, since = difference(edge.counts, counts), difference(first, counts)
        self._edges[name] = _Edge(reading.at_ns, counts)
        if not passed_s:
            return
        for way in ("in", "out"):
            labels = {"port": name, "way": way}
            values: list[tuple[str, Any]] = [
                ("port-rate-bps", _times(getattr(changes, f"octets_{way}"), 8 / passed_s)),
                ("port-rate-fps", _times(getattr(changes, f"frames_{way}"), 1 / passed_s)),
                *(
                    (f"port-{what}", getattr(since, f"{what}_{way}"))
                    for what in ("discards", "errors")
                    if getattr(changes, f"{what}_{way}")  # told when they move
                ),
            ]
            yield from (Sample(at_s, DEVICE, key, float(value), labels) for key, value in values if value is not None)

    def _may_be_old(self, passed_s: float) -> bool:
        """Whether counters that did not change may just not have been read anew by the device; as long as it is not
        known how often it does that, most agents would have by now."""
        refresh = self._refresh
        if refresh.period_s is None:
            return passed_s < _SLOWEST_S
        return refresh.is_late and passed_s < _LATE * refresh.period_s


def _times(count: int | None, factor: float) -> float | None:
    return None if count is None else count * factor


def changes_between(before: DeviceReading, after: DeviceReading) -> dict[str, PortCounts]:
    """What each port counted between two readings of totals."""
    return {
        name: difference(before.ports[name], counts) for name, counts in after.ports.items() if name in before.ports
    }
