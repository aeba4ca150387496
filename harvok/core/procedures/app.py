"""Application traffic: users in levels, or arrivals, through a device to a service (RFC 9411 §4.3, §7.1)."""

from dataclasses import dataclass
from typing import Literal

from harvok.core.app.limiter import LevelCase, find_limiter
from harvok.core.app.reading import UNEXPECTED_SHARE, LevelReading, figures_of, read_stream
from harvok.core.limiter import Limiter
from harvok.core.link import Link
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.beside import Beside, figures_beside
from harvok.core.trials.app import AppStreamResult, AppTrial, AppTrialResult, ServiceCounts
from harvok.core.units import format_share


@dataclass(frozen=True, slots=True)
class AppTest:
    """What to measure: one trial, all of its levels, and what goes on beside its users. `tester_per_s` is how many
    transactions a second a calibration found that this tester holds of the same mix; None without one."""

    trial: AppTrial
    beside: Beside = Beside()
    tester_per_s: float | None = None
    kind: Literal["app"] = "app"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"app {self.trial.mix.name}"

    @property
    def expected_s(self) -> float:
        """How long it takes, in seconds."""
        return self.trial.duration_s


def app_test(test: AppTest, context: Context, findings: Findings) -> Procedure[AppTrial, AppTrialResult]:
    """Runs the trial, and reads each of its levels."""
    trial = test.beside.added_to(test.trial, context.ip_version)
    result = yield trial
    for stream in result.streams:
        for reading, limiter in read_levels(trial, stream, context.link, test.tester_per_s):
            findings.figures.extend(figures_of(reading, limiter.blame == "tester"))
            findings.notices.extend(_notices(reading))
    findings.figures.extend(figures_beside(trial, result, context.ip_version))


def read_levels(
    trial: AppTrial, result: AppStreamResult, link: Link, tester_per_s: float | None = None
) -> list[tuple[LevelReading, Limiter]]:
    """Every level of a stream, with what limited it."""
    readings = read_stream(trial, result)
    service = result.service.service or ServiceCounts()
    return [
        (reading, find_limiter(LevelCase(trial, reading, readings[:number], service, link, tester_per_s)))
        for number, reading in enumerate(readings)
    ]


def _notices(reading: LevelReading) -> list[str]:
    """What RFC 9411 does not let pass, and what makes the figures of a level rest on little."""
    total, connections, name = reading.total, reading.connections, reading.title
    notices = []
    if total.fails_too_often:
        reasons = ", ".join(f"{reason} {number}" for reason, number in total.failures.items())
        notices.append(
            f"{name}: {total.failed} of {total.attempted} transactions failed ({reasons}); RFC 9411 lets "
            f"{format_share(UNEXPECTED_SHARE)} fail"
        )
    if reading.is_reset_too_often:
        notices.append(f"{name}: {connections.resets} connections were reset; {connections.opened} were opened")
    if not total.transactions:
        notices.append(f"{name}: not one transaction was completed")
    return notices
