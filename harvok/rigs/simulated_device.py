"""The device of a simulated rig, from its own side: it tells its counters in virtual time."""

from collections.abc import Iterator

from harvok.core.device.counters import Refresh, Totals
from harvok.core.device.model import AgentFaults, ModelAgent
from harvok.core.device.reading import DeviceReading
from harvok.core.ends import Stream
from harvok.core.models.device import USUAL_EVERY_S
from harvok.core.models.rig import SimulatedAgentKeys, SimulatedRig
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, FrameTrialResult
from harvok.device.watch import Heard
from harvok.host.port_counters import FramesCounted

DEVICE_PORTS = {"port1": "device1", "port2": "device2"}
_FCS_BYTES = 4  # RFC 3635 §3.2.6 has agents count it; the kernel, and with it our own agents, do not
_TICK_S = 1e-3


class FollowedModel:
    """Counts what the trials of a rig carried, and is followed like any other device. Its clock stands still while
    nothing is sent, but when it is asked to sleep."""

    def __init__(self, rig: SimulatedRig, keys: SimulatedAgentKeys) -> None:
        faults = AgentFaults(keys.refresh, keys.bits, keys.wraps_after, keys.restart_at)
        self._agent = ModelAgent(rig.name, list(DEVICE_PORTS.values()), rig.rated, faults)
        self._bad_lead = keys.bad_lead
        self._now_s = 0.0
        self.facts = self._agent.facts(0.0)
        self.watched = list(DEVICE_PORTS.values())
        self.every_s, self.refresh, self.unanswered = USUAL_EVERY_S, Refresh(USUAL_EVERY_S), 0
        self.on_reading: Heard | None = None
        self._totals = Totals(self.facts.wide)
        self._sent = dict.fromkeys(DEVICE_PORTS, 0)
        self._received = dict.fromkeys(DEVICE_PORTS, 0)

    # Its clock

    def now_ns(self) -> int:
        return round(self._now_s * 1e9)

    def wall_ns(self) -> int:
        return self.now_ns()

    def sleep(self, duration_s: float) -> None:
        """Time passes, and nothing happens."""
        self._now_s += duration_s

    # As a device that is followed

    @property
    def restarts(self) -> int:
        return self._totals.restarts

    def read_now(self) -> DeviceReading | None:
        self._now_s += _TICK_S
        return self._read()

    def close(self) -> None:
        self.on_reading = None

    def _read(self) -> DeviceReading:
        reading = self._totals.add(self._agent.reading(self._now_s))
        self.refresh.add(reading)
        if self.on_reading:
            self.on_reading(reading)
        return reading

    # As what the rig's ports are wired to

    def tester_counts(self) -> dict[str, FramesCounted]:
        """What the tester's modelled ports have counted."""
        return {port: FramesCounted(0, self._received[port], 0, 0, 0, self._sent[port], 0, 0) for port in DEVICE_PORTS}

    def carry(self, trial: FrameTrial, result: FrameTrialResult) -> None:
        """Counts what became of a trial, evenly over its time, and is asked meanwhile."""
        moments = list(self._moments(trial.duration_s))
        done = [0.0] * len(result.directions)
        for at_s, share in moments:
            for number, (stream, got) in enumerate(zip(trial.streams, result.directions, strict=True)):
                self._count(stream, got, trial.mean_size_bytes, done[number], share)
                done[number] = share
            self._now_s = at_s
            self._read()
        self._now_s += trial.pause_s

    def _moments(self, duration_s: float) -> Iterator[tuple[float, float]]:
        """When it is asked during a trial, and how much of it has passed then."""
        begins_s, number = self._now_s, 1
        while number * self.every_s < duration_s:
            yield begins_s + number * self.every_s, number * self.every_s / duration_s
            number += 1
        yield begins_s + duration_s, 1.0

    def _count(self, stream: Stream, got: FrameDirectionResult, size: float, before: float, now: float) -> None:
        """The frames of a stretch of a trial: what is lost is lost inside, unless a lead is bad."""
        source, destination = ports_of(stream)
        entry, exit_ = DEVICE_PORTS[source], DEVICE_PORTS[destination]

        def part(count: int) -> int:
            return round(count * now) - round(count * before)

        sent, received = part(got.sent_frames), part(got.received_frames)
        lost, octets = sent - received, round(size) - _FCS_BYTES
        self._sent[source] += sent
        self._received[destination] += received
        if self._bad_lead == source:  # reaches the device in pieces
            self._agent.count(entry, frames_in=received, octets_in=received * octets, errors_in=lost, fcs_errors=lost)
            self._agent.count(exit_, frames_out=received, octets_out=received * octets)
        elif self._bad_lead == destination:  # left the device whole
            self._agent.count(entry, frames_in=sent, octets_in=sent * octets)
            self._agent.count(exit_, frames_out=sent, octets_out=sent * octets)
        else:
            self._agent.count(entry, frames_in=sent, octets_in=sent * octets)
            self._agent.count(exit_, frames_out=received, octets_out=received * octets, discards_out=lost)


def ports_of(stream: Stream) -> tuple[str, str]:
    """The two ports that a stream of a simulated rig joins."""
    by_shorthand = {"near": "port1", "far": "port2"}
    return by_shorthand.get(stream.source, stream.source), by_shorthand.get(stream.destination, stream.destination)
