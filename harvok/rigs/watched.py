"""A port of this host, whose link is watched."""

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from harvok.clock import SYSTEM, Clock
from harvok.core.observer import Observer
from harvok.core.samples import Event
from harvok.core.trials.link import LinkState, LinkTrial, LinkTrialResult, link_event
from harvok.errors import NothingFoundError
from harvok.host.interfaces import link_ups_counted, port_state

_LOOK_EVERY_S = 0.1
_SPEED_COMES_S = 2.0  # a driver may tell the carrier before it tells the speed


@dataclass(frozen=True, slots=True)
class PortSample:
    """The port at one look; `ups` is how often it has come up in all, by the kernel's count, None where that is not
    told."""

    state: LinkState
    speed_bps: float | None = None
    duplex: str | None = None
    ups: int | None = None


def read_port(port: str) -> PortSample:
    """The state of a port of this host now."""
    found = port_state(port)
    if found is None:
        return PortSample("gone")
    state: LinkState = "down" if not found.up else "up" if found.carrier else "no link"
    return PortSample(state, found.facts.negotiated_bps, found.facts.duplex, link_ups_counted(port))


class WatchedRig:
    """Runs link trials until enough was seen, or the keyboard ends them, which is the usual end of a watch."""

    def __init__(
        self,
        read_state: Callable[[str], PortSample] = read_port,
        clock: Clock = SYSTEM,
    ) -> None:
        self._read_state, self._clock = read_state, clock

    def run(self, trial: LinkTrial, observer: Observer) -> LinkTrialResult:
        """Watches until the trial is over. Raises NothingFoundError when there is no such port to begin with."""
        events: list[Event] = []
        with contextlib.suppress(KeyboardInterrupt):
            for event in self._events(trial):
                events.append(event)
                observer.happened([event])
        return LinkTrialResult(events)

    def _events(self, trial: LinkTrial) -> Iterator[Event]:
        """The state at the start, and every change."""
        began_ns, seen = self._clock.now_ns(), self._read_state(trial.port)
        if seen.state == "gone":
            raise NothingFoundError(f"this host has no port {trial.port}", "`harvok ports` lists them.")
        ups = int(seen.state == "up")
        yield self._settled(trial.port, began_ns, seen, 0) if ups else link_event(0.0, seen.state, trial.port)
        while not self._over(trial, began_ns, ups):
            self._clock.sleep(_LOOK_EVERY_S)
            now = self._read_state(trial.port)
            missed = _missed(seen, now)
            if now.state != seen.state or missed:
                ups += now.state == "up"
                yield self._event(trial.port, began_ns, now, missed)
            seen = now

    def _event(self, port: str, began_ns: int, now: PortSample, missed: int) -> Event:
        if now.state == "up":
            return self._settled(port, began_ns, now, missed)
        return link_event((self._clock.now_ns() - began_ns) / 1e9, now.state, port, missed=missed)

    def _settled(self, port: str, began_ns: int, seen: PortSample, missed: int) -> Event:
        """A link-up with its speed, which some drivers tell a little later."""
        at_s = (self._clock.now_ns() - began_ns) / 1e9
        for _ in range(round(_SPEED_COMES_S / _LOOK_EVERY_S)):
            if seen.speed_bps or seen.state != "up":
                break
            self._clock.sleep(_LOOK_EVERY_S)
            seen = self._read_state(port)
        return link_event(at_s, "up", port, seen.speed_bps, seen.duplex, missed)

    def _over(self, trial: LinkTrial, began_ns: int, ups: int) -> bool:
        if trial.link_ups is not None and ups >= trial.link_ups:
            return True
        return trial.duration_s is not None and (self._clock.now_ns() - began_ns) / 1e9 >= trial.duration_s


def _missed(before: PortSample, now: PortSample) -> int:
    """How often the port came up between two looks beyond what they show."""
    if before.ups is None or now.ups is None:
        return 0
    shown = 1 if now.state == "up" and before.state != "up" else 0
    return max(now.ups - before.ups - shown, 0)
