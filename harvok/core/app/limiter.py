"""What kept a level of application traffic from carrying more, told apart by evidence: the tester first, since nothing
that it held down says anything of the device.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from harvok.core.app.reading import UNEXPECTED_SHARE, LevelReading
from harvok.core.ends import SEND
from harvok.core.ethernet import LINE_OVERHEAD_BYTES
from harvok.core.limiter import Limiter, LimiterKind
from harvok.core.link import Link
from harvok.core.trials.app import Application, AppTrial, ServiceCounts
from harvok.core.units import counted, format_duration, format_rate, format_share

_BUSY = 0.95
"""Of a core: a process that has this much has nothing left."""
_LATE_S, _LATE_SHARE = 2e-4, 0.2
"""Users who begin later than this on average, and by this share of the mean response, were held up by their own host:
they did less than they would have."""
_LOSSY = 1e-3
"""Of segments that were sent again: at this share TCP's own answer to loss begins to show in times and rates."""
_FULL = 0.95
"""Of the line rate: what short flows can fill of it."""
_WAITED = 0.5
"""Of the time to the first byte: where the service itself took this much, it is what users wait for."""
_UNSUSPICIOUS = 0.7
"""Of a core: a tester that had less was not what a plateau came from."""
_GREW, _PLATEAU = 1.5, 1.05
"""Half as many users again that move no more than a twentieth more: a plateau."""

_WORTH_A_TIMEOUT = 0.5
"""Of the time that users wait for an answer: a host of theirs that stood still for this long may have missed answers.
One that was only a little late does less, but does not make connections fail."""
_NEAR_CALIBRATED = 0.9
"""Of what the tester held over a lead: from there on a result is its own as much as the device's."""
_OPENING = ("connect-timeout", "refused", "unreachable")
"""Why a connection did not open."""
_OWN = ("no-port", "no-descriptor")


@dataclass(frozen=True, slots=True)
class LevelCase:
    """Everything that is looked at: a level, those before it, the other end, the link, and how many transactions a
    second the tester was calibrated to."""

    trial: AppTrial
    reading: LevelReading
    before: Sequence[LevelReading]
    service: ServiceCounts
    link: Link
    tester_per_s: float | None = None

    @property
    def users_are_near(self) -> bool:
        return self.reading.direction == SEND.name

    @property
    def sent_again(self) -> tuple[float, float]:
        """The share of segments that were sent again: of the users', and of the service's in the whole trial."""
        users, service = self.reading.connections, self.service
        return (
            users.retransmitted / max(users.segments_sent, 1),
            service.retransmitted / max(service.segments_sent, 1),
        )

    @property
    def sent_again_words(self) -> str:
        up, down = map(format_share, self.sent_again)
        return f"{up} of the users' segments had to be sent again, and {down} of the service's in the whole trial"

    @property
    def response_s(self) -> float:
        return self.reading.total.response.median_s if self.reading.total.response else 0.0

    @property
    def mean_response_s(self) -> float:
        return self.reading.total.response.mean_s if self.reading.total.response else 0.0

    def failures(self, reasons: Sequence[str]) -> int:
        """How many transactions failed for one of some reasons."""
        return sum(self.reading.total.failures.get(reason, 0) for reason in reasons)


def find_limiter(case: LevelCase) -> Limiter:
    """The first rule that applies."""
    return next(limiter for rule in _RULES if (limiter := rule(case)))


def _own_resources(case: LevelCase) -> Limiter | None:
    short = case.failures(_OWN)
    if not short:
        return None
    ports = case.reading.total.failures.get("no-port", 0)
    what = "no local port was free" if ports else "no file descriptor was left"
    return Limiter(
        "near-resources",
        f"{counted(short, 'transaction')} could not begin where the users are: {what}",
        "Widen net.ipv4.ip_local_port_range, or give connections more transactions each."
        if ports
        else "Raise the limit of open files (ulimit -n) there.",
    )


def _users_cpu(case: LevelCase) -> Limiter | None:
    busiest = max(case.reading.workers, default=0.0)
    kind: LimiterKind = "cpu-near" if case.users_are_near else "cpu-far"
    if busiest >= _BUSY:
        return Limiter(
            kind,
            f"a process of the users had {format_share(busiest)} of a core, which is all there is",
            "Use a faster host, or more cores, where the users are.",
        )
    return None


def _users_late(case: LevelCase) -> Limiter | None:
    lag_s = case.reading.lag.mean_s if case.reading.lag else 0.0
    if lag_s > max(_LATE_S, _LATE_SHARE * case.mean_response_s):
        return Limiter(
            "cpu-near" if case.users_are_near else "cpu-far",
            f"users began {format_duration(lag_s)} late on average, since their host was busy",
            "See what else runs there; then ask for fewer users.",
        )
    return None


def _service_cpu(case: LevelCase) -> Limiter | None:
    kind: LimiterKind = "cpu-far" if case.users_are_near else "cpu-near"
    if case.service.busiest >= _BUSY:
        return Limiter(
            kind,
            f"a process of the service had {format_share(case.service.busiest)} of a core, which is all there is",
            "Use a faster host, or more cores, where the service is.",
        )
    if case.service.overflows:
        return Limiter(
            kind,
            f"the service's host refused {counted(case.service.overflows, 'new connection')}, for lack of time",
            "Raise net.core.somaxconn there, or use a faster host.",
        )
    return None


def _unserved(case: LevelCase) -> Limiter | None:
    if not case.reading.unserved:
        return None
    return Limiter(
        "user-limit",
        f"{counted(case.reading.unserved, 'arrival')} found {case.trial.max_users} users there already, who had not "
        "been served yet",
        "Ask for fewer arrivals; with a larger --max-users the queue only grows.",
    )


def _new_connections(case: LevelCase) -> Limiter | None:
    if case.reading.lag and case.reading.lag.max_s > _WORTH_A_TIMEOUT * case.trial.timeout_s:
        return None
    failed, opened = case.failures(_OPENING), case.reading.connections.opened
    if failed <= UNEXPECTED_SHARE * (failed + opened):
        return None
    open_ones = round(case.reading.open_connections)
    works = case.reading.total.transactions
    return Limiter(
        "new-connections",
        f"{failed} of {failed + opened} new connections did not open, while {counted(works, 'transaction')} went "
        f"through those that had; {open_ones} were open on average",
        "See the size and fill of the device's connection table, and its limit of new connections.",
    )


def _failing(case: LevelCase) -> Limiter | None:
    total = case.reading.total
    if not total.fails_too_often:
        return None
    reason = max(total.failures, key=lambda one: total.failures[one])
    return Limiter(
        "failing-transactions",
        f"{total.failed} of {total.attempted} transactions failed, most of them so: {reason}",
        "See the device's log, and which of its features ends connections or alters answers.",
    )


def _loss(case: LevelCase) -> Limiter | None:
    if max(case.sent_again) < _LOSSY:
        return None
    return Limiter("loss", case.sent_again_words, "Look at error and drop counters of every port on the way.")


def _link(case: LevelCase) -> Limiter | None:
    line_bps = case.link.line_rate_bps
    if not line_bps:
        return None
    connections = case.reading.connections
    each_ways = zip(
        case.reading.ways,
        case.reading.l2_bps,
        (connections.segments_sent, connections.segments_received),
        strict=True,
    )
    for direction, l2_bps, segments in each_ways:
        l1_bps = l2_bps + case.reading.each_second(segments) * LINE_OVERHEAD_BYTES * 8
        if l1_bps >= _FULL * line_bps:
            return Limiter(
                "link",
                f"{format_rate(l1_bps)} of {format_rate(line_bps)} were used in direction {direction}, gaps included",
                "The link is full: nothing else was in the way.",
            )
    return None


def _calibrated(case: LevelCase) -> Limiter | None:
    rate = case.reading.each_second(case.reading.total.transactions)
    if not case.tester_per_s or rate < _NEAR_CALIBRATED * case.tester_per_s:
        return None
    return Limiter(
        "calibrated",
        f"{rate:.0f} transactions/s are {format_share(rate / case.tester_per_s)} of the {case.tester_per_s:.0f} that "
        "this tester held over a lead",
        "Use faster hosts, or more of them: the device may well carry more.",
    )


def _plateau(case: LevelCase) -> Limiter | None:
    reading = case.reading
    for lower in case.before:
        if reading.level.height < _GREW * lower.level.height or not lower.total.response:
            continue
        now, then = reading.each_second(reading.total.transactions), lower.each_second(lower.total.transactions)
        if then and now < _PLATEAU * then and case.response_s > _GREW * lower.total.response.median_s:
            return _at_plateau(
                case,
                f"{reading.name} had {now:.0f} transactions/s, {lower.name} {then:.0f} already, and waited "
                f"{format_duration(case.response_s)} instead of {format_duration(lower.total.response.median_s)}",
            )
    return None


def _at_plateau(case: LevelCase, evidence: str) -> Limiter:
    """The device, where neither end was near its own limit."""
    if max(case.sent_again) >= _LOSSY:
        evidence += f"; {case.sent_again_words}"
    busiest = max(*case.reading.workers, case.service.busiest, 0.0)
    if busiest < _UNSUSPICIOUS:
        return Limiter("plateau", evidence, "The device carries no more: more users only queue up.")
    return Limiter(
        "unknown",
        f"{evidence}; a process of the tester had {format_share(busiest)} of a core",
        "Calibrate the tester, or use faster hosts, before anything is blamed.",
    )


def _service_time(case: LevelCase) -> Limiter | None:
    first_byte = case.reading.total.first_byte
    waited_s = _mean_service_s(case)
    if not first_byte or waited_s < _WAITED * first_byte.mean_s:
        return None
    return Limiter(
        "service-time",
        f"of {format_duration(first_byte.mean_s)} to the first byte the service itself took "
        f"{format_duration(waited_s)}, as the mix says",
        "Ask for more users, or take the service time out of the mix.",
    )


def _mean_service_s(case: LevelCase) -> float:
    """Of all transactions of the level."""
    by_name: dict[str, Application] = {one.name: one for one in case.trial.mix.applications}
    total = 0.0
    for (application, action), part in case.reading.actions.items():
        meant_s = next(one.mean_service_s for one in by_name[application].actions if one.name == action)
        total += part.transactions * meant_s
    return total / max(case.reading.total.transactions, 1)


def _nothing(case: LevelCase) -> Limiter:
    return Limiter(
        "none",
        f"{case.reading.name} got all that they asked for",
        "Ask for more users, or more arrivals, to find the limit.",
    )


_RULES: tuple[Callable[[LevelCase], Limiter | None], ...] = (
    _own_resources,
    _users_cpu,
    _service_cpu,
    _new_connections,
    _users_late,
    _unserved,
    _failing,
    _link,
    _calibrated,
    _plateau,
    _loss,
    _service_time,
    _nothing,
)
