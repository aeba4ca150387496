"""Tester ports of this host with a device between them: frame trials on real interfaces, or on virtual ones."""

import random
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import accumulate
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

from harvok.clock import SYSTEM, Clock
from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import Stream
from harvok.core.ethernet import VLAN_TAG_BYTES
from harvok.core.models.rig import DeviceKind, SenderChoice, Side
from harvok.core.observer import Observer, started
from harvok.core.procedures.frames import corruption_words
from harvok.core.samples import Event
from harvok.core.stream_frames import ADDRESS_CASTS, senders_of
from harvok.core.time_axis import ClockOffset
from harvok.core.trials.frames import (
    DelaySummary,
    FrameDirectionResult,
    FrameTrial,
    FrameTrialResult,
    LoadStep,
    PortTrouble,
    StepResult,
    TesterHealth,
    progress_samples,
)
from harvok.core.wire.frame import ETHERTYPE_OF, FrameIp, build, min_frame_bytes, tagged, vlan_tags
from harvok.core.wire.frame_orders import (
    AnswerOrder,
    LearnOrder,
    ReceiveOrder,
    ReceiveReport,
    ReflectOrder,
    SendOrder,
    SendReport,
)
from harvok.errors import NothingForwardedError, PortError, UsageError
from harvok.host.cpu import avoiding_cores, usable_cores
from harvok.host.port_counters import (
    FramesCounted,
    PortCounters,
    frames_counted,
    read_port_counters,
    trouble_between,
)
from harvok.rigs.addresses import TesterPort, address_pairs, distinct, group_address, own_mac
from harvok.rigs.groups import Groups, GroupWord, Meanwhile
from harvok.rigs.lanes import LaneCounts, by_lane, in_lanes, lanes_for, merged, with_shared_receivers
from harvok.rigs.port_stamps import PortStamps, kind_of_stamps, sample_every, sampled_delays_ns, summary_of
from harvok.traffic.frames import FrameEngine, OwnWorkers, Pair, Reports, WorkerPlace, rows_of
from harvok.traffic.layout import batch_for, blocks_for, delay_one_in, slots_for
from harvok.traffic.stream_filter import one_in

_FRAME_BESIDE_MTU = 18  # Ethernet header and FCS
# RFC 2544 §23: 2 s for frames in flight, then 5 s to settle
_IN_FLIGHT_SHARE, _MIN_IN_FLIGHT_S, _MAX_IN_FLIGHT_S = 2 / 7, 0.3, 2.0
_LEARNING_PAUSE_S, _LEARNING_FRAME_S = 0.1, 20e-6
_TEACHING = ETHERTYPE_OF[None].to_bytes(2, "big") + bytes(46)
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
    reflecting: Collection[str] = ()
    """Ports that send every frame back."""
    workers: int | None = None
    """How many senders, and receivers, each stream has; None for as many as it needs."""
    sender: SenderChoice = "ring"
    card_clocks_within_s: float | None = None
    """How closely the clocks of network cards of several hosts are kept together; None where nobody says so."""


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
        self._stamps = PortStamps(self._engine.stamps, wiring.card_clocks_within_s)
        self._proven: set[tuple[Stream, FrameIp]] = set()
        self._answering: FrameIp | str = "nobody"
        self._missing: dict[str, bool] = {}

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
        self._meet_the_router(trial.ip_version)
        for stream in trial.streams:
            if _can_be_proven(trial, stream):
                self._prove(trial, stream)
        result = self._measure(trial, observer)
        self._say_what_is_missing(observer)
        in_flight_s = self._in_flight_s(trial)
        self._clock.sleep(max(trial.pause_s - in_flight_s, 0.0))
        return result

    def reset_device(self, observer: Observer) -> None:
        """Asks the person at the bench to reset the device; a rig that can do it itself does."""
        observer.notice("reset the device now: switch it off and on, or restart it as planned")

    # --- one trial ---------------------------------------------------------------------------------------------

    def _measure(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        clocks, lanes = self._clocks(), in_lanes(trial, self._lanes(trial))
        pairs = with_shared_receivers(
            self._pairs(lanes.trial, clocks), lanes.each, lambda: self._streams.getrandbits(32)
        )
        self._learn(trial)
        began_ns, groups = self._clock.now_ns(), Groups(trial, partial(self._tell_groups, trial))
        meanwhile = Meanwhile()
        if trial.reset_at_s is not None:
            meanwhile.add(trial.reset_at_s, lambda: self._reset_in_trial(began_ns, observer))
        for at_s, do in groups.moments():
            meanwhile.add(at_s, do)
        observer.happened([started(self._clock.wall_ns())])

        counts = LaneCounts(lanes)

        def reported(number: int, sent: int, received: int, delay_ns: int) -> None:
            at_s, delay_s = (self._clock.now_ns() - began_ns) / 1e9, delay_ns / 1e9 if delay_ns else None
            stream, sent, received = counts.take(number, sent, received)
            observer.samples(progress_samples(trial.streams[stream].name, at_s, sent, received, delay_s))
            meanwhile.do_until(at_s)

        before = self._port_counters()
        senders = [pair.send.cpu for pair in pairs if pair.send.cpu is not None and not pair.sent_at]
        with avoiding_cores(senders, self.beside):
            reports = by_lane(pairs, self._engine.run(pairs, self._in_flight_s(trial), reported), lanes.each)
        later = self._clocks()
        self._note_what_is_missing(reports)
        results = [
            self._by_cards(
                _by_two_clocks(groups.told(stream, _result(stream.name, pair, report), report), pair, clocks, later),
                stream, pair, report,
            )
            for stream, pair, report in zip(lanes.trial.streams, pairs, reports, strict=True)
        ]  # fmt: skip
        groups.leave()
        directions = merged(trial, lanes, _without_each_other(lanes.trial.streams, results))
        return FrameTrialResult(directions, ports=self._troubles(before, observer))

    def _troubles(self, before: Mapping[str, PortCounters], observer: Observer) -> list[PortTrouble]:
        """What went wrong at ports since they were looked at before."""
        each = [
            trouble_between(f"{name} ({self._wiring.interfaces[name]})", before[name], after)
            for name, after in self._port_counters().items()
        ]
        troubles = list(filter(None, each))
        for trouble in troubles:
            if trouble.spoils:
                observer.notice(f"{trouble}: this trial says nothing")
        return troubles

    def _lanes(self, trial: FrameTrial) -> int:
        """Of each stream. Where ports are elsewhere nobody here knows the cores, and where frames are sent back one
        process does it all."""
        if self._elsewhere or self._wiring.reflecting:
            return 1
        return lanes_for(trial, self._wiring.workers, len(usable_cores()))

    def _note_what_is_missing(self, reports: Sequence[Reports]) -> None:
        """Why frames have no transmit stamps of their own, or are not sent as was asked: said once, with the trial."""
        no_xdp = next((report.sent.no_xdp for report in reports if report.sent.no_xdp), "")
        if no_xdp:
            self._missing.setdefault(f"frames are sent by packet rings, not by xdp: {no_xdp}", False)
        no_stamps = next((report.sent.no_stamps for report in reports if report.sent.no_stamps), "")
        if no_stamps:
            self._missing.setdefault(f"frames have no transmit stamps of their own: {no_stamps}", False)
        self._stamps.missing = self._stamps.missing or no_stamps

    def _say_what_is_missing(self, observer: Observer) -> None:
        for text, said in self._missing.items():
            if not said:
                observer.notice(text)
        self._missing = dict.fromkeys(self._missing, True)

    def _by_cards(
        self, result: FrameDirectionResult, stream: Stream, pair: Pair, report: Reports
    ) -> FrameDirectionResult:
        """The result of a stream, with the delays of the frames that cards or drivers stamped in place of the kernel's,
        where there are any."""
        by = pair.send.sample_by
        apart = self._stamps.apart(by, *self._heard_between(stream))
        ahead_ns = round(apart.offset_s * 1e9)
        delays = [(number, delay - ahead_ns) for number, delay in sampled_delays_ns(report.sent, report.received)]
        stamped_by = kind_of_stamps(by, report.sent, bool(delays))
        if not delays:
            return replace(result, stamped_by=stamped_by)
        tags = pair.receive.tags
        return replace(
            result,
            stamped_by=stamped_by,
            delay=summary_of([delay for _, delay in delays]),
            tagged_delays_s=[delay / 1e9 for number, delay in delays if tags and number >= tags[0]],
            clock_error_s=apart.error_s if by == "hardware" and apart.error_s else result.clock_error_s,
        )

    def _heard_between(self, stream: Stream) -> tuple[TesterPort, TesterPort]:
        """Where frames of a stream leave, and where they are heard: they may come back."""
        source, destination = self._between(stream)
        return source, source if self._comes_back(stream) else destination

    def _reset_in_trial(self, began_ns: int, observer: Observer) -> None:
        observer.happened([Event((self._clock.now_ns() - began_ns) / 1e9, "device-reset")])
        self.reset_device(observer)

    def _tell_groups(self, trial: FrameTrial, stream: Stream, word: GroupWord) -> int:
        """Says where a multicast stream comes out that its groups are joined, or left; returns when, by the wall clock
        there, in ns."""
        ip, own = trial.ip_version, trial.frames(stream.name)
        _, port = self._between(stream)
        address, tags = str(port.address(ip or 4).ip), vlan_tags(own.vlans)
        groups = [group_address(own.address_set + n, ip) for n in range(own.addresses or trial.address_pairs)]
        frames = [tagged(word(group, port.mac, address), tags).hex() for group in groups]
        (at_ns,) = self._engine.learn(
            [(port.place, LearnOrder(port.interface, frames, len(frames) * _LEARNING_FRAME_S))]
        )
        return at_ns

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
        return min(max(trial.pause_s * _IN_FLIGHT_SHARE, _MIN_IN_FLIGHT_S), _MAX_IN_FLIGHT_S)

    def _between(self, stream: Stream) -> tuple[TesterPort, TesterPort]:
        """The ports that a stream joins."""
        source, destination = self.ports_of(stream)
        return self._ports[source], self._ports[destination]

    def _pairs(self, trial: FrameTrial, clocks: Mapping[str, ClockOffset]) -> list[Pair]:
        """The orders of each stream; streams that are the same frames have one sender."""
        sent = {
            stream.name: order
            for first, *others in senders_of(trial.streams, trial.frames_of)
            for order in [self._send_order(trial, first, trial.streams.index(first))]
            for stream in (first, *others)
        }
        pairs = []
        for number, stream in enumerate(trial.streams):
            order = sent[stream.name]
            source, destination = self._between(stream)
            back = self._comes_back(stream)
            heard_at = source if back else destination
            receive = self._receive_order(trial, stream, number, order, _ahead(clocks, source.place, heard_at.place))
            reflect = self._reflect_order(trial, number, destination, order) if back else None
            pairs.append(Pair(order, receive, source.place, heard_at.place, reflect, destination.place))
        return pairs

    def _comes_back(self, stream: Stream) -> bool:
        """Whether the port where a stream ends sends every frame back."""
        return self.ports_of(stream)[1] in self._wiring.reflecting

    def _reflect_order(self, trial: FrameTrial, number: int, port: TesterPort, send: SendOrder) -> ReflectOrder:
        inner_tags = max(len(send.vlans) - 1, 0)
        row, cpu = rows_of(number).reflector, _cores_of(len(trial.streams))[1][number]
        return ReflectOrder(port.interface, send.ip, send.stream, row, cpu, inner_tags)

    def _send_order(self, trial: FrameTrial, stream: Stream, number: int) -> SendOrder:
        source, destination = self._between(stream)
        rows = rows_of(number)
        frames = trial.frames(stream.name)
        sizes = frames.sizes(trial.frame_sizes)
        loads = [trial.load_of(stream.name, step) for step in trial.steps]
        batches = [batch_for(load_fps, trial.burst_frames) for load_fps in loads]
        largest = max(batches)
        ends = address_pairs(source, destination, trial.ip_version, frames, trial.address_pairs, self._routed)
        longest = max(sizes) + VLAN_TAG_BYTES * len(frames.vlans)
        slots = slots_for(longest, largest, len(sizes), len(ends), taken_at_once=bool(self._wiring.namespaces))
        sent_frames = sum(load_fps * step.duration_s for load_fps, step in zip(loads, trial.steps, strict=True))
        return SendOrder(
            interface=source.interface,
            ip=trial.ip_version,
            stream=self._streams.getrandbits(32),
            slots=slots,
            frame_sizes=list(sizes),
            ends=[
                (e.source_mac.hex(), e.destination_mac.hex(), e.source_ip, e.destination_ip, e.source_port,
                 e.destination_port)
                for e in ends
            ],
            steps=[
                (load_fps, _frames(load_fps, step.duration_s, largest if len(loads) > 1 else 1), batch)
                for load_fps, step, batch in zip(loads, trial.steps, batches, strict=True)
            ],
            row=rows.sender,
            steps_row=rows.steps,
            cpu=_cores_of(len(trial.streams))[0][number],
            vlans=list(frames.vlans),
            dscp=frames.dscp,
            dither=number + 1 if sum(one.destination == stream.destination for one in trial.streams) > 1 else 0,
            xdp=self._wiring.sender == "xdp",
            sample_by="" if self._wiring.sender == "xdp" else self._stamps.source_of(*self._heard_between(stream)),
            sample_every=sample_every(round(sent_frames), largest, slots),
        )  # fmt: skip

    def _receive_order(
        self, trial: FrameTrial, stream: Stream, number: int, send: SendOrder, ahead: ClockOffset
    ) -> ReceiveOrder:
        source, destination = self._between(stream)
        back, apart = self._comes_back(stream), source.place != destination.place
        ends = list(accumulate(frames for _, frames, _ in send.steps))
        highest_fps = max(load_fps for load_fps, _, _ in send.steps)
        return ReceiveOrder(
            interface=source.interface if back else destination.interface,
            sending_interface="" if back or apart else source.interface,
            clock_ahead_ns=round((ahead.offset_s - ahead.error_s) * 1e9),
            ip=trial.ip_version,
            stream=send.stream,
            frame_sizes=send.frame_sizes,
            read_one_in=one_in(highest_fps, trial.frames(stream.name).mean_bytes(trial.frame_sizes)),
            slots=send.slots,
            batch=max(batch for _, _, batch in send.steps),
            blocks=blocks_for(highest_fps),
            delay_one_in=delay_one_in(highest_fps),
            tags=_tags(trial, send.steps[0][0]),
            steps=len(trial.steps),
            row=rows_of(number).receiver,
            steps_row=send.steps_row,
            cpu=_cores_of(len(trial.streams))[1][number],
            inner_tags=max(len(send.vlans) - 1, 0),
            sample_by=send.sample_by,
            sample_every=send.sample_every,
            starts=[0, *ends[:-1]] if apart and not back else [],
        )

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
        each destination, so that a router asks for it before the trial. A group is joined where it is to come out."""
        orders = [
            (port.place, LearnOrder(port.interface, [frame.hex() for frame in frames], len(frames) * _LEARNING_FRAME_S))
            for stream in trial.streams
            if trial.frames(stream.name).cast not in ADDRESS_CASTS
            for port, frames in self._teaching(trial, stream)
        ]
        self._engine.learn(orders)
        if trial.join_at_s is None:
            Groups(trial, partial(self._tell_groups, trial)).join()
        self._clock.sleep(_LEARNING_PAUSE_S)

    def _teaching(self, trial: FrameTrial, stream: Stream) -> Iterator[tuple[TesterPort, list[bytes]]]:
        """What is sent before a stream, by port."""
        ip, own = trial.ip_version, trial.frames(stream.name)
        source, destination = self._between(stream)
        ends = address_pairs(source, destination, ip, own, trial.address_pairs, self._routed)
        tags = vlan_tags(own.vlans)
        if self._routed:
            yield source, [build(min_frame_bytes(ip), ip, end, 0, 0, own.vlans) for end in ends]
            return
        for port, macs in (
            (destination, [end.destination_mac for end in ends if own.cast == "unicast"]),
            (source, [end.source_mac for end in ends]),
        ):
            yield port, [b"\xff" * 6 + mac + tags + _TEACHING for mac in distinct(macs)]

    def _prove(self, trial: FrameTrial, stream: Stream) -> None:
        """Sends a handful of frames before the first trial. Raises NothingForwardedError when none arrives."""
        if (stream, trial.ip_version) in self._proven:
            return
        few = replace(
            trial,
            steps=(_PROOF,),
            streams=(stream,),
            pause_s=0.0,
            tag_at_s=None,
            reset_at_s=None,
            join_at_s=None,
            leave_at_s=None,
            burst_frames=1,
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


def _can_be_proven(trial: FrameTrial, stream: Stream) -> bool:
    """Whether frames that are sent before a trial change nothing of what it finds."""
    if stream.name in trial.bystanders or trial.join_at_s is not None:
        return False
    return trial.frames(stream.name).cast not in ADDRESS_CASTS


def _cores_of(streams: int) -> tuple[list[int], list[int]]:
    """The core of each stream's sender, and of its receiver: one for each while there are as many; else half of them
    for senders and the rest for receivers, since those of one kind on one core are one process, and share it best."""
    cores = usable_cores()
    half = max(len(cores) // 2, 1)
    sending, receiving = (cores, [*cores[1:], cores[0]]) if streams <= len(cores) else (cores[:half], cores[half:])
    receiving = receiving or cores
    return (
        [sending[number % len(sending)] for number in range(streams)],
        [receiving[number % len(receiving)] for number in range(streams)],
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


def _frames(load_fps: float, duration_s: float, batch: int) -> int:
    """How many frames a step has, in whole batches: where another step follows, so that both fit the ring."""
    return -(-int(load_fps * duration_s + 1e-6) // batch) * batch


def _tags(trial: FrameTrial, load_fps: float) -> list[int]:
    """The numbers from which on a frame is to be reported by itself: evenly over the time after `tag_at_s`."""
    if trial.tag_at_s is None:
        return []
    step_s = (trial.duration_s - trial.tag_at_s) / trial.tags
    return [int(load_fps * (trial.tag_at_s + n * step_s)) for n in range(trial.tags)]


def _result(direction: str, pair: Pair, report: Reports) -> FrameDirectionResult:
    order = pair.send
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
        tester=_health(pair, report),
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


def _lost_count(pair: Pair, sent: SendReport) -> str:
    """Why steps cannot be told apart where the receiver, on another host, knows only when they were to begin."""
    planned = [frames for _, frames, _ in pair.send.steps]
    if not pair.receive.starts or [frames for frames, _ in sent.steps[:-1]] == planned[:-1]:
        return ""
    return "the sender fell behind, so that its loads began elsewhere than the other host took them to"


def _health(pair: Pair, report: Reports) -> TesterHealth:
    order, sent, received, reflected = pair.send, report.sent, report.received, report.reflected
    return TesterHealth(
        lost_count=_lost_count(pair, sent),
        ring_drops=received.ring_drops + (reflected.dropped if reflected else 0),
        kernel_drops=report.kernel_drops,
        longest_stall_s=sent.longest_stall_ns / 1e9,
        batch_frames=max(batch for _, _, batch in order.steps),
        late_p99_s=sent.late_p99_ns / 1e9,
        held_back_s=sent.held_back_ns / 1e9,
        sent_by=sent.sent_by,
    )


def _sent_at_s(order: SendOrder, number: int) -> float:
    """When a frame was due to be sent, after the start."""
    at_s = 0.0
    for load_fps, frames, _ in order.steps:
        if number < frames:
            return at_s + number / load_fps
        at_s, number = at_s + frames / load_fps, number - frames
    return at_s
