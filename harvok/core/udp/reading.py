"""Reads one service in one direction of a UDP trial: rates, loss and where it happened, delay, and what limited it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from harvok.core.ethernet import IpVersion, frame_bytes_of
from harvok.core.figures import Figure, Mark
from harvok.core.limiter import Limiter
from harvok.core.quantities import QUANTITIES
from harvok.core.time_axis import ClockOffset
from harvok.core.trials.udp import (
    TransitSummary,
    UdpDirectionResult,
    UdpFlowReceived,
    UdpFlowSent,
    UdpService,
    UdpTrial,
    UdpTrialResult,
)
from harvok.core.units import format_share

HELD = 0.002
"""A load is held when what was sent is no further than this from what was asked for: ten times
the error of a quiet host at its worst."""


@dataclass(frozen=True, slots=True)
class UdpReading:
    """What one service in one direction comes to; datagrams are counted once each. Loads are datagrams/s, which are
    frames/s; delays are seconds, `clock_error_s` the most that the one-way ones can be off."""

    direction: str
    service: UdpService
    frame_bytes: int
    offered_fps: float
    sent: int
    received: int
    duplicates: int
    reordered: int
    socket_drops: int
    foreign: int
    loss_runs: dict[int, int]
    longest_silence_s: float
    means: str
    batch: int
    limiter: Limiter
    transit: TransitSummary | None
    min_delay_s: float | None
    mean_delay_s: float | None
    clock_error_s: float | None

    @property
    def lost(self) -> int:
        return max(self.sent - self.received, 0)

    @property
    def loss(self) -> float:
        """Datagrams lost / datagrams sent, wherever they were lost."""
        return self.lost / self.sent if self.sent else 0.0

    @property
    def path_lost(self) -> int:
        """Lost before they reached the receiving host's socket."""
        return max(self.lost - self.socket_drops, 0)

    @property
    def delivered_fps(self) -> float:
        return self.offered_fps * self.received / self.sent if self.sent else 0.0

    @property
    def longest_run(self) -> int:
        return max(self.loss_runs, default=0)

    @property
    def goodput_bps(self) -> float:
        """The payload of what was delivered."""
        return self.delivered_fps * self.service.payload_bytes * 8

    def l2_bps(self, load_fps: float) -> float:
        return load_fps * self.frame_bytes * 8


def read_trial(trial: UdpTrial, result: UdpTrialResult, ip_version: IpVersion) -> list[UdpReading]:
    """Every service in every direction of a trial, in its order."""
    return [
        _read(trial, number, service, direction, result.clock, ip_version)
        for direction in result.directions
        for number, service in enumerate(trial.services)
    ]


def _read(
    trial: UdpTrial,
    number: int,
    service: UdpService,
    result: UdpDirectionResult,
    clock: ClockOffset | None,
    ip_version: IpVersion,
) -> UdpReading:
    services = trial.flow_services
    sent = [flow for flow in result.sender.sent if services[flow.flow] == number]
    received = [flow for flow in result.receiver.received if services[flow.flow] == number]
    offered_fps = sum(flow.datagrams / flow.sending_s for flow in sent if flow.sending_s)
    transit = _together([flow.transit for flow in received if flow.transit])
    ahead_s = _receiver_ahead_s(result.direction, clock)
    delays_s: tuple[float | None, float | None] = (None, None)
    if transit is not None and ahead_s is not None:
        delays_s = transit.min_s - ahead_s, transit.mean_s - ahead_s
    return UdpReading(
        direction=result.direction,
        service=service,
        frame_bytes=frame_bytes_of(service.payload_bytes, ip_version),
        offered_fps=offered_fps,
        sent=sum(flow.datagrams for flow in sent),
        received=sum(flow.datagrams for flow in received),
        duplicates=sum(flow.duplicates for flow in received),
        reordered=sum(flow.reordered for flow in received),
        socket_drops=_socket_drops(sent, received),
        foreign=sum(flow.foreign for flow in received),
        loss_runs=_runs(sent, received),
        longest_silence_s=max((flow.longest_silence_s for flow in received), default=0.0),
        means=_means(sent, received),
        batch=max((flow.batch for flow in sent), default=1),
        limiter=_limiter(service, sent, received, offered_fps),
        transit=transit,
        min_delay_s=delays_s[0],
        mean_delay_s=delays_s[1],
        clock_error_s=clock.error_s if clock else None,
    )


def _receiver_ahead_s(direction: str, clock: ClockOffset | None) -> float | None:
    """How far the receiver's clock is ahead of the sender's."""
    if clock is None:
        return None
    return clock.offset_s if direction == "send" else -clock.offset_s


def _runs(sent: Sequence[UdpFlowSent], received: Sequence[UdpFlowReceived]) -> dict[int, int]:
    """The runs of all flows by length, those included that nothing came after."""
    runs: dict[int, int] = {}
    reached = {flow.flow: flow.highest for flow in received}
    for flow in received:
        for length, count in flow.loss_runs.items():
            runs[length] = runs.get(length, 0) + count
    for one in sent:
        tail = one.datagrams - 1 - reached.get(one.flow, -1)
        if tail > 0:
            runs[tail] = runs.get(tail, 0) + 1
    return dict(sorted(runs.items()))


def _socket_drops(sent: Sequence[UdpFlowSent], received: Sequence[UdpFlowReceived]) -> int:
    """Datagrams that the receiving socket dropped: no more than are missing, since of coalesced ones it is a guess."""
    missing = sum(flow.datagrams for flow in sent) - sum(flow.datagrams for flow in received)
    return min(sum(flow.socket_drops for flow in received), max(missing, 0))


def _means(sent: Sequence[UdpFlowSent], received: Sequence[UdpFlowReceived]) -> str:
    ways = sorted({flow.means for flow in sent}), sorted({flow.means for flow in received})
    return f"sent {' and '.join(ways[0]) or '–'}, received {' and '.join(ways[1]) or '–'}"


def _together(transits: Sequence[TransitSummary]) -> TransitSummary | None:
    """The flows as one: the mean of means, medians and jitters, the worst of the high percentiles."""
    if len(transits) <= 1:
        return transits[0] if transits else None
    count = len(transits)

    def mean(name: str) -> float:
        return float(sum(getattr(transit, name) for transit in transits)) / count

    return TransitSummary(
        counted=sum(transit.counted for transit in transits),
        min_s=min(transit.min_s for transit in transits),
        mean_s=mean("mean_s"),
        max_s=max(transit.max_s for transit in transits),
        variation_median_s=mean("variation_median_s"),
        variation_p99_s=max(transit.variation_p99_s for transit in transits),
        variation_p999_s=max(transit.variation_p999_s for transit in transits),
        changes_mean_s=mean("changes_mean_s"),
        jitter_s=mean("jitter_s"),
    )


def _limiter(
    service: UdpService, sent: Sequence[UdpFlowSent], received: Sequence[UdpFlowReceived], offered_fps: float
) -> Limiter:
    """What took the largest share of the load: the tester, which did not send or did not read it, or the path. The
    smaller ones are named beside it, so that a path that swallows everything is not hidden by a lapse of the tester."""
    count, come = sum(flow.datagrams for flow in sent), sum(flow.datagrams for flow in received)
    drops, held = _socket_drops(sent, received), offered_fps / service.load_fps
    lost = max(count - come - drops, 0)
    shares = {
        "sender": max(1 - held, 0.0) if 1 - held > HELD else 0.0,
        "receiver": held * drops / max(count, 1),
        "path": held * lost / max(count, 1),
    }
    largest = max(shares, key=lambda who: shares[who])
    if not shares[largest]:
        return Limiter("none", "everything that was sent arrived", "Ask for more to find the limit, or use --search.")
    if largest == "sender":
        return _sender_limit(held, sum(flow.refused for flow in sent), lost)
    if largest == "receiver":
        return Limiter(
            "receiving-host",
            f"{drops} of the {count - come} lost datagrams reached the receiving host, whose socket had no "
            "room for them",
            "Raise net.core.rmem_max there, use a faster host, or ask for less.",
        )
    beside = f", and {drops} by the receiving socket" if drops else "; the receiving socket dropped none"
    beside += f"; the sending host managed {format_share(held)} of the load" if shares["sender"] else ""
    prohibited = sum(flow.prohibited for flow in sent)
    if prohibited:
        return Limiter(
            "firewall",
            f"{lost} of {count} datagrams were lost on the path, where somebody answered {prohibited} times that they "
            f"are prohibited (ICMP){beside}",
            "Let the UDP data port through every firewall and access list between the ends.",
        )
    return Limiter(
        "loss",
        f"{lost} of {count} datagrams were lost on the path{beside}",
        "Look at error and drop counters of every port on the way, and search the loss-free rate with --search.",
    )


def _sender_limit(held: float, refused: int, lost: int) -> Limiter:
    """A sender that fell short: of its interface, or of its CPU."""
    besides = f"; of what it sent, {lost} were lost on the path" if lost else ""
    if refused:
        return Limiter(
            "own-queue",
            f"the sending host sent only {format_share(held)} of the load: the queue towards its own interface was "
            f"full {refused} times{besides}",
            "Ask for no more than the sending interface carries; see its speed with `harvok ports`.",
        )
    return Limiter(
        "sending-host",
        f"the sending host managed {format_share(held)} of the load that was asked for{besides}",
        "Use larger frames, a faster host, or more --flows; leave --method at auto.",
    )


def figures_of(reading: UdpReading, labels: dict[str, str]) -> Iterator[Figure]:
    """The figures of a reading; they are marked where the tester, not the path, was the limit."""
    mark: Mark = "tester-limit" if reading.limiter.blame == "tester" else ""
    one_of_all = 1 / reading.sent if reading.sent else 0.0
    for quantity, value in _values(reading):
        if value is not None:
            resolution = one_of_all if QUANTITIES[quantity].is_counted_share else 0.0
            yield Figure(quantity, value, labels, mark, resolution)


def _values(reading: UdpReading) -> Iterator[tuple[str, float | None]]:
    transit = reading.transit
    yield "udp-offered", reading.l2_bps(reading.offered_fps)
    yield "udp-received", reading.l2_bps(reading.delivered_fps)
    yield "udp-goodput", reading.goodput_bps
    yield "datagram-loss", reading.loss
    yield "datagram-duplicates", reading.duplicates / reading.sent if reading.sent else None
    yield "datagram-reordered", reading.reordered / reading.sent if reading.sent else None
    yield "loss-run-longest", float(reading.longest_run)
    yield "socket-drops", reading.socket_drops / reading.sent if reading.sent else None
    yield "one-way-delay-min", reading.min_delay_s
    yield "one-way-delay-mean", reading.mean_delay_s
    yield "clock-error", reading.clock_error_s
    if transit and transit.counted > 1:
        yield "jitter", transit.jitter_s
        yield "delay-variation-median", transit.variation_median_s
        yield "delay-variation-p99", transit.variation_p99_s
        yield "delay-variation-p999", transit.variation_p999_s
