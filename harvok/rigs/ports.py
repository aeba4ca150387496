"""Tester ports of this host with a device between them: frame trials on real interfaces, or on virtual ones."""

import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

from harvok.clock import SYSTEM, Clock
from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import Stream
from harvok.core.models.rig import DeviceKind, Side
from harvok.core.observer import Observer, started
from harvok.core.procedures.frames import corruption_words
from harvok.core.samples import Event
from harvok.core.time_axis import ClockOffset
from harvok.core.trials.frames import (
    DelaySummary,
    FrameDirectionResult,
    FrameTrial,
    FrameTrialResult,
    LoadStep,
    StepResult,
    TesterHealth,
    progress_samples,
)
from harvok.core.wire.frame import FrameIp, build, min_frame_bytes
from harvok.core.wire.frame_orders import AnswerOrder, LearnOrder, ReceiveOrder, ReceiveReport, SendOrder, SendReport
from harvok.errors import NothingForwardedError, PortError, UsageError
from harvok.host.cpu import avoiding_cores, usable_cores
from harvok.host.port_counters import (
    FramesCounted,
    PortCounters,
    frames_counted,
    read_port_counters,
    trouble_between,
)
from harvok.rigs.addresses import TesterPort, address_pairs, distinct, own_mac
from harvok.traffic.frames import FrameEngine, OwnWorkers, Pair, Reports, WorkerPlace, rows_of
from harvok.traffic.layout import batch_for, blocks_for, slots_for
from harvok.traffic.stream_filter import one_in

_FRAME_BESIDE_MTU = 18  # Ethernet header and FCS
_IN_FLIGHT_SHARE, _MIN_IN_FLIGHT_S = 2 / 7, 0.3  # RFC 2544 §23: 2 s for frames in flight, then 5 s to settle
_LEARNING_PAUSE_S, _LEARNING_A_PAIR_S = 0.1, 20e-6
_PROOF = LoadStep(100.0, 0.1)
_PROOFS = 3
_LARGEST_PAIRS, _LARGEST_LENT_PAIRS = 16384, 1024
"""Orders for ports elsewhere are as large as a request may be."""


@dataclass(frozen=True, slots=True)
class Wiring:
    """What is wired to what: ports by their names, the interface and the addresses of each, the kind of device between
    them, and where they are."""

    name: str
    interfaces: Mapping[str, str]
    sides: Sequence[Side]
    device: DeviceKind
    mtu_bytes: int
    namespaces: Sequence[str] = ()
    places: Mapping[str, str] = field(default_factory=dict)
    """Of ports that are elsewhere: at which station."""
    facts: Sequence[InterfaceFacts] = ()
    """What the interfaces are like, in the order of the ports."""


class PortsElsewhere(WorkerPlace, Protocol):
    """A station that lends ports."""

    def port_counters(self, interface: str) -> PortCounters:
        """What a port has counted so far."""

    def clock_offset(self) -> ClockOffset:
        """How far the clock there is ahead of this host's."""


class FramePorts:
    """Runs frame trials between ports. A context manager that leaves no process behind.

    The first port is the near end as well, and the second the far end.

    `reset_device` is called when a trial asks for it: here it tells the person at the bench. `beside` are processes of
    this host that carry the frames, and must not wait for the core that sends. `counted_by` is a process in the
    namespace of the ports, whose table of interfaces says what they counted.
    """

    def __init__(
        self,
        wiring: Wiring,
        clock: Clock = SYSTEM,
        beside: Sequence[int] = (),
        counted_by: int | str = "self",
        elsewhere: Mapping[str, PortsElsewhere] = {},
    ) -> None:
        self._wiring, self._clock, self.beside, self._counted_by = wiring, clock, beside, counted_by
        self.workers = OwnWorkers(wiring.namespaces)
        self._elsewhere = elsewhere
        self._engine = FrameEngine(self.workers, elsewhere, clock)
        self._ports = {
            name: TesterPort(interface, own_mac(number), side, place=wiring.places.get(name, ""))
            for number, ((name, interface), side) in enumerate(
                zip(wiring.interfaces.items(), wiring.sides, strict=True), 1
            )
        }
        self._streams = random.SystemRandom()
        self._proven: set[tuple[Stream, FrameIp]] = set()
        self._answering: FrameIp | str = "nobody"

    def __enter__(self) -> "FramePorts":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._engine.__exit__(kind, error, trace)

    @property
    def facts(self) -> Sequence[InterfaceFacts]:
        """What the interfaces are like; of a virtual rig nothing."""
        return self._wiring.facts

    def check(self, sizes: Sequence[int], ip: FrameIp, pairs: int) -> None:
        """Raises UsageError for frames that these ports cannot carry, before anything is sent."""
        maximum, minimum = self._wiring.mtu_bytes + _FRAME_BESIDE_MTU, min_frame_bytes(ip)
        if max(sizes) > maximum:
            raise UsageError(
                f"frames of {max(sizes)} B do not fit: the ports' MTU of {self._wiring.mtu_bytes} B allows {maximum} B",
                "Leave them out with --frame-size, or raise the MTU of both ports and of the device.",
            )
        if min(sizes) < minimum:
            raise UsageError(
                f"frames of {min(sizes)} B cannot hold an IPv{ip} header and the test header",
                f"Use {minimum} B or more.",
            )
        maximum_pairs = _LARGEST_LENT_PAIRS if self._elsewhere else _LARGEST_PAIRS
        if pairs > maximum_pairs:
            raise UsageError(
                f"{pairs} address pairs are more than these ports can send", f"Ask for {maximum_pairs} at most."
            )

    def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        """Runs one trial. Raises NothingForwardedError when not one frame gets through the device."""
        if len(trial.steps) > 1 and self._elsewhere:
            raise UsageError(
                "ports of two hosts run one load a trial, since only the sending host knows when the next one begins",
                "Leave out --continuous.",
            )
        self._meet_the_router(trial.ip_version)
        for stream in trial.streams:
            self._prove(trial, stream)
        result = self._measure(trial, observer)
        in_flight_s = self._in_flight_s(trial)
        self._clock.sleep(max(trial.pause_s - in_flight_s, 0.0))
        return result

    def reset_device(self, observer: Observer) -> None:
        """Asks the person at the bench to reset the device; a rig that can do it itself does."""
        observer.notice("reset the device now: switch it off and on, or restart it as planned")

    # --- one trial ---------------------------------------------------------------------------------------------

    def _measure(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        clocks = self._clocks()
        pairs = [self._orders(trial, stream, number, clocks) for number, stream in enumerate(trial.streams)]
        self._learn(trial)
        began_ns, to_reset = self._clock.now_ns(), trial.reset_at_s
        observer.happened([started(self._clock.wall_ns())])

        def reported(number: int, sent: int, received: int, delay_ns: int) -> None:
            nonlocal to_reset
            at_s, delay_s = (self._clock.now_ns() - began_ns) / 1e9, delay_ns / 1e9 if delay_ns else None
            observer.samples(progress_samples(trial.streams[number].name, at_s, sent, received, delay_s))
            if to_reset is not None and at_s >= to_reset:
                to_reset = None
                observer.happened([Event(at_s, "device-reset")])
                self.reset_device(observer)

        before = self._port_counters()
        senders = [pair.send.cpu for pair in pairs if pair.send.cpu is not None and not pair.sent_at]
        with avoiding_cores(senders, self.beside):
            reports = self._engine.run(pairs, self._in_flight_s(trial), reported)
        clocks_after = self._clocks()
        results = [
            _by_two_clocks(_result(stream.name, pair.send, report), pair, clocks, clocks_after)
            for stream, pair, report in zip(trial.streams, pairs, reports, strict=True)
        ]
        troubles = [
            trouble_between(f"{name} ({self._wiring.interfaces[name]})", before[name], after)
            for name, after in self._port_counters().items()
        ]
        for trouble in troubles:
            if trouble and trouble.spoils:
                observer.notice(f"{trouble}: this trial says nothing")
        return FrameTrialResult(_without_each_other(trial.streams, results), ports=list(filter(None, troubles)))

    def _port_counters(self) -> dict[str, PortCounters]:
        """Of real ports; those of a virtual rig live elsewhere, and their links are memory."""
        if self._wiring.namespaces:
            return {}
        places = self._wiring.places
        return {
            name: self._elsewhere[places[name]].port_counters(interface)
            if name in places
            else read_port_counters(interface)
            for name, interface in self._wiring.interfaces.items()
        }

    def _clocks(self) -> dict[str, ClockOffset]:
        """How far the clock of each place is ahead of this host's, just now."""
        return {"": ClockOffset(0.0, 0.0), **{name: place.clock_offset() for name, place in self._elsewhere.items()}}

    def tester_counts(self) -> Mapping[str, FramesCounted]:
        """What this host's kernel has counted at each port so far."""
        with Path(f"/proc/{self._counted_by}/net/dev").open() as table:
            counted = frames_counted(table)
        return {name: counted[interface] for name, interface in self._wiring.interfaces.items()}

    def interface_of(self, port: str) -> str:
        """The interface that is meant by the name of a port of the rig, or of an interface. Raises UsageError for a
        port of another host."""
        if port in self._wiring.places:
            raise UsageError(
                f"the port {port} is at the station {self._wiring.places[port]}, where nothing can be done to its link",
                "Name a port of this host.",
            )
        return self._wiring.interfaces.get(port, port)

    def ports_of(self, stream: Stream) -> tuple[str, str]:
        """The names of the ports that a stream joins."""
        first, second, *_ = self._ports
        by_shorthand = {"near": first, "far": second}
        return by_shorthand.get(stream.source, stream.source), by_shorthand.get(stream.destination, stream.destination)

    def _in_flight_s(self, trial: FrameTrial) -> float:
        return max(trial.pause_s * _IN_FLIGHT_SHARE, _MIN_IN_FLIGHT_S)

    def _between(self, stream: Stream) -> tuple[TesterPort, TesterPort]:
        """The ports that a stream joins."""
        source, destination = self.ports_of(stream)
        return self._ports[source], self._ports[destination]

    def _orders(self, trial: FrameTrial, stream: Stream, number: int, clocks: Mapping[str, ClockOffset]) -> Pair:
        source, destination = self._between(stream)
        sender_row, receiver_row, steps_row = rows_of(number)
        batches = [batch_for(step.load_fps, trial.burst_frames) for step in trial.steps]
        largest = max(batches)
        slots = slots_for(max(trial.frame_sizes), largest, len(trial.frame_sizes), trial.address_pairs)
        ends = address_pairs(source, destination, trial.ip_version, trial.address_pairs, self._routed)
        tag = self._streams.getrandbits(32)
        ahead = _ahead(clocks, source.place, destination.place)
        cores = usable_cores()
        send = SendOrder(
            interface=source.interface,
            ip=trial.ip_version,
            stream=tag,
            slots=slots,
            frame_sizes=list(trial.frame_sizes),
            ends=[
                (e.source_mac.hex(), e.destination_mac.hex(), e.source_ip, e.destination_ip, e.source_port,
                 e.destination_port)
                for e in ends
            ],
            steps=[(s.load_fps, _frames(s, trial, largest), b) for s, b in zip(trial.steps, batches, strict=True)],
            row=sender_row,
            steps_row=steps_row,
            cpu=cores[number % len(cores)],
        )  # fmt: skip
        receive = ReceiveOrder(
            interface=destination.interface,
            sending_interface=source.interface if source.place == destination.place else "",
            clock_ahead_ns=round((ahead.offset_s - ahead.error_s) * 1e9),
            ip=trial.ip_version,
            stream=tag,
            frame_sizes=list(trial.frame_sizes),
            read_one_in=one_in(max(step.load_fps for step in trial.steps), trial.mean_size_bytes),
            slots=slots,
            batch=largest,
            blocks=blocks_for(max(step.load_fps for step in trial.steps)),
            tags=_tags(trial),
            steps=len(trial.steps),
            row=receiver_row,
            steps_row=steps_row,
            cpu=cores[(number + 1) % len(cores)],
        )
        return Pair(send, receive, source.place, destination.place)

    # --- learning ----------------------------------------------------------------------------------------------

    @property
    def _routed(self) -> bool:
        return self._wiring.device == "router"

    def _meet_the_router(self, ip: FrameIp) -> None:
        """Answers for the tester's addresses, and learns the router's. Raises NothingForwardedError if it is silent."""
        if not self._routed or self._answering == ip:
            return
        if ip is None:
            raise UsageError("a router forwards no bare Ethernet frames", "Use --ip-version 4 or 6.")
        ports = list(self._ports.values())
        gateways = [port.gateway(ip) for port in ports]
        found = self._ask_the_router(ports, gateways, ip)
        for port, gateway, mac in zip(ports, gateways, found, strict=True):
            if not gateway or not mac:
                raise NothingForwardedError(
                    f"the router does not answer at {gateway or f'any IPv{ip} address'} on {port.interface}",
                    "Check the lead, the router's address on that side, and addresses and gateways in the rig file.",
                )
        met = zip(self._ports.items(), found, strict=True)
        self._ports = {name: replace(port, gateway_mac=mac) for (name, port), mac in met}
        self._answering = ip

    def _ask_the_router(
        self, ports: Sequence[TesterPort], gateways: Sequence[str | None], ip: FrameIp
    ) -> list[bytes | None]:
        """The router's hardware address on the side of each port, as each port's own host hears it."""
        found: dict[int, bytes | None] = {}
        for place in dict.fromkeys(port.place for port in ports):
            here = [number for number, port in enumerate(ports) if port.place == place]
            asked = [(gateways[n], str(ports[n].address(ip).ip)) for n in here]
            order = AnswerOrder(
                ports=[(ports[n].interface, [str(ports[n].address(ip).network)], ports[n].mac.hex()) for n in here],
                gateways=[(gateway, own) if gateway else None for gateway, own in asked],
            )
            found |= dict(zip(here, self._engine.answer(place, order), strict=True))
        return [found[number] for number in range(len(ports))]

    def _learn(self, trial: FrameTrial) -> None:
        """RFC 2544 §23 (b): frames from behind the receiving port, so that a switch knows where it is; or frames to
        each destination, so that a router asks for it before the trial."""
        size, ip, over_s = (
            min_frame_bytes(trial.ip_version),
            trial.ip_version,
            trial.address_pairs * _LEARNING_A_PAIR_S,
        )
        orders = []
        for stream in trial.streams:
            source, destination = self._between(stream)
            ends = address_pairs(source, destination, ip, trial.address_pairs, self._routed)
            if self._routed:
                frames = [build(size, ip, end, 0, 0) for end in ends]
                orders.append((source.place, LearnOrder(source.interface, [frame.hex() for frame in frames], over_s)))
                continue
            for port, macs in (
                (destination, [e.destination_mac for e in ends]),
                (source, [e.source_mac for e in ends]),
            ):
                frames = [b"\xff" * 6 + mac + bytes.fromhex("88b5") + bytes(46) for mac in distinct(macs)]
                orders.append((port.place, LearnOrder(port.interface, [frame.hex() for frame in frames], over_s)))
        self._engine.learn(orders)
        self._clock.sleep(_LEARNING_PAUSE_S)

    def _prove(self, trial: FrameTrial, stream: Stream) -> None:
        """Sends a handful of frames before the first trial. Raises NothingForwardedError when none arrives."""
        if (stream, trial.ip_version) in self._proven:
            return
        few = replace(
            trial, steps=(_PROOF,), streams=(stream,), pause_s=0.0, tag_at_s=None, reset_at_s=None, burst_frames=1
        )
        for _ in range(_PROOFS):
            (got,) = self._measure(few, Observer()).directions
            if got.received_frames:
                break
            if not got.sent_frames:
                raise PortError(
                    f"nothing could be sent on {self._between(stream)[0].interface}", "Check that the port is up."
                )
        else:
            raise self._nothing_arrived(stream, got)
        self._proven.add((stream, trial.ip_version))

    def _nothing_arrived(self, stream: Stream, got: FrameDirectionResult) -> NothingForwardedError:
        source, destination = self._between(stream)
        what = f"of {got.sent_frames} frames sent on {source.interface} none arrived on {destination.interface}"
        if got.looped_frames:
            return NothingForwardedError(
                f"{what}, but {got.looped_frames} came back to {source.interface}",
                "There is a loop, or both ends of one lead are in the wrong sockets: check the wiring.",
            )
        if got.corrupted_frames:
            return NothingForwardedError(
                f"{what} as it was sent: {corruption_words(got)}",
                "Raise the MTU of the device, or leave frames of that size out with --frame-size.",
            )
        return NothingForwardedError(
            what,
            "Check leads and link lights, that the rig file names the right ports, and that the device forwards "
            "between them: same VLAN, no port security, no spanning tree still listening, no firewall, an MTU that "
            "takes the frames.",
        )


def _ahead(clocks: Mapping[str, ClockOffset], sent_at: str, received_at: str) -> ClockOffset:
    """How far the receiver's clock is ahead of the sender's. Delays are corrected by as much less as that may be wrong,
    so that none is below zero, and all by the rest once they are counted."""
    if sent_at == received_at:
        return ClockOffset(0.0, 0.0)
    one, other = clocks[sent_at], clocks[received_at]
    return ClockOffset(other.offset_s - one.offset_s, other.error_s + one.error_s)


def _by_two_clocks(
    result: FrameDirectionResult, pair: Pair, before: Mapping[str, ClockOffset], after: Mapping[str, ClockOffset]
) -> FrameDirectionResult:
    """The result of a stream between two hosts: its delays may be wrong by how far their clocks may have been misjudged
    before the trial, and by how far they seem to have drifted until its end."""
    if pair.sent_at == pair.received_at:
        return result
    ahead, later = (_ahead(clocks, pair.sent_at, pair.received_at) for clocks in (before, after))
    drift_s = max(abs(later.offset_s - ahead.offset_s) - later.error_s - ahead.error_s, 0.0)
    delay = result.delay and result.delay.less(ahead.error_s)
    tagged = [max(delay_s - ahead.error_s, 0.0) for delay_s in result.tagged_delays_s]
    return replace(result, delay=delay, tagged_delays_s=tagged, clock_error_s=ahead.error_s + drift_s)


def _frames(step: LoadStep, trial: FrameTrial, batch: int) -> int:
    """How many frames a step has; whole batches where another step follows, so that both fit the ring."""
    frames = int(step.load_fps * step.duration_s + 1e-6)
    return frames if len(trial.steps) == 1 else -(-frames // batch) * batch


def _tags(trial: FrameTrial) -> list[int]:
    """The numbers from which on a frame is to be reported by itself: evenly over the time after `tag_at_s`."""
    if trial.tag_at_s is None:
        return []
    step_s = (trial.duration_s - trial.tag_at_s) / trial.tags
    return [int(trial.steps[0].load_fps * (trial.tag_at_s + n * step_s)) for n in range(trial.tags)]


def _result(direction: str, order: SendOrder, report: Reports) -> FrameDirectionResult:
    sent, received = report.sent, report.received
    last = sent.sent - 1 if received.highest < sent.sent - 1 else received.last_lost
    return FrameDirectionResult(
        direction=direction,
        sent_frames=sent.sent,
        sending_s=sent.sending_ns / 1e9,
        received_frames=received.received,
        steps=_steps(sent, received) if len(order.steps) > 1 else [],
        duplicates=received.duplicates,
        reordered=received.reordered,
        delay=_delays(received.delay) if received.delay else None,
        tagged_delays_s=[delay / 1e9 for delay in received.tagged_delays_ns],
        last_loss_s=None if last is None or not sent.sent else _sent_at_s(order, last),
        longest_gap_s=received.longest_gap_ns / 1e9,
        looped_frames=received.looped,
        foreign_frames=received.foreign,
        fragments=received.fragments,
        wrong_length_frames=received.wrong_length,
        altered_frames=received.altered,
        read_one_in=received.read_one_in,
        tester=_health(order, sent, received, report.kernel_drops),
    )


def _without_each_other(
    streams: Sequence[Stream], results: Sequence[FrameDirectionResult]
) -> list[FrameDirectionResult]:
    """Frames of another stream of the trial that ends at the same port are not foreign there."""
    came = [result.received_frames + result.duplicates + result.corrupted_frames for result in results]
    others = [
        sum(frames for other, frames in zip(streams, came, strict=True) if other.destination == stream.destination)
        for stream in streams
    ]
    return [
        replace(one, foreign_frames=max(one.foreign_frames - at_port + own, 0))
        for one, at_port, own in zip(results, others, came, strict=True)
    ]


def _steps(sent: SendReport, received: ReceiveReport) -> list[StepResult]:
    return [
        StepResult(frames, sending_ns / 1e9, came, _delays(delay) if delay else None)
        for (frames, sending_ns), (came, delay) in zip(sent.steps, received.steps, strict=True)
    ]


def _delays(reported: dict[str, Any]) -> DelaySummary:
    """The delays as the worker told them: JSON knows no tuples."""
    return DelaySummary(
        **{**reported, "distribution": [(edge_s, frames) for edge_s, frames in reported["distribution"]]}
    )


def _health(order: SendOrder, sent: SendReport, received: ReceiveReport, kernel_drops: int) -> TesterHealth:
    return TesterHealth(
        ring_drops=received.ring_drops,
        kernel_drops=kernel_drops,
        longest_stall_s=sent.longest_stall_ns / 1e9,
        batch_frames=max(batch for _, _, batch in order.steps),
        late_p99_s=sent.late_p99_ns / 1e9,
        held_back_s=sent.held_back_ns / 1e9,
    )


def _sent_at_s(order: SendOrder, number: int) -> float:
    """When a frame was due to be sent, after the start."""
    at_s = 0.0
    for load_fps, frames, _ in order.steps:
        if number < frames:
            return at_s + number / load_fps
        at_s, number = at_s + frames / load_fps, number - frames
    return at_s
