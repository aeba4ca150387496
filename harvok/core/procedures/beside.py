"""What goes on beside the users: UDP services and delay probes, each read while a level was sustained, as users are,
and the checks of a policy.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from harvok.core.ends import RECEIVE, SEND
from harvok.core.ethernet import IpVersion
from harvok.core.figures import Figure
from harvok.core.procedures.delay import figures_of as delay_figures_of
from harvok.core.trials.app import AppTrial, AppTrialResult
from harvok.core.trials.delay import DelayTrial, DelayTrialResult
from harvok.core.trials.policy import PolicyCheck
from harvok.core.trials.udp import UdpTrial
from harvok.core.udp.reading import UdpReading, read_trial
from harvok.core.udp.reading import figures_of as udp_figures_of
from harvok.core.udp.services import ServiceSpec

PROBE_GAP_S = 0.02
"""Between probes: fifty a second load nothing, and see a queue that fills for a moment."""


@dataclass(frozen=True, slots=True)
class Beside:
    """What is asked for beside the users: `services` at their committed rates, both ways, delay probes, a policy."""

    services: tuple[ServiceSpec, ...] = ()
    probes: bool = False
    policy: tuple[PolicyCheck, ...] = ()

    def added_to(self, trial: AppTrial, ip_version: IpVersion) -> AppTrial:
        """The trial with all of it."""
        services = _services_of(trial, self.services, ip_version) if self.services else None
        packets = max(round(trial.duration_s / PROBE_GAP_S), 1)
        probes = DelayTrial(packets, PROBE_GAP_S) if self.probes else None
        return replace(trial, services=services, probes=probes, policy=self.policy)


def _services_of(trial: AppTrial, specs: Sequence[ServiceSpec], ip_version: IpVersion) -> UdpTrial:
    """Every service with flows of its own for each level, which begin and end with it."""
    services = tuple(
        replace(spec.at(1.0, ip_version), begins_s=begins_s, lasts_s=ends_s - begins_s)
        for _, begins_s, ends_s in trial.sustained()
        for spec in specs
    )
    return UdpTrial(services, (SEND, RECEIVE), trial.duration_s, trial.interval_s, about="beside the users")


def read_services(trial: AppTrial, result: AppTrialResult, ip_version: IpVersion) -> Iterator[tuple[str, UdpReading]]:
    """Every service at every level in each direction, with the name of the level."""
    if trial.services is None or result.services is None:
        return
    levels = [level.name for level, _, _ in trial.sustained()]
    each = len(trial.services.services) // len(levels)
    for number, reading in enumerate(read_trial(trial.services, result.services, ip_version)):
        yield levels[number // each % len(levels)], reading


def figures_beside(trial: AppTrial, result: AppTrialResult, ip_version: IpVersion) -> Iterator[Figure]:
    """The figures of all services, of the probes, level by level, and of the policy."""
    for level, reading in read_services(trial, result, ip_version):
        labels = {"direction": reading.direction, "service": reading.service.name, "level": level}
        yield from udp_figures_of(reading, labels)
    if isinstance(result.probes, DelayTrialResult):
        for one, begins_s, ends_s in trial.sustained():
            echoes = [echo for echo in result.probes.echoes if begins_s <= echo.sent_s < ends_s]
            yield from delay_figures_of(replace(result.probes, echoes=echoes), {"level": one.name})
    tried = [check for check in result.policy if check.tried]
    if tried:
        yield Figure("wrong-checks", sum(one.wrong for one in tried) / sum(one.tried for one in tried))
    yield from (Figure("wrong-checks", one.wrong / one.tried, {"check": one.check.name}) for one in tried)
