"""What two stations can do of application traffic themselves, with a lead between them: what results with a device
between are held against.
"""

from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.app.limiter import LevelCase, find_limiter
from harvok.core.app.reading import LevelReading, read_stream
from harvok.core.figures import Figure
from harvok.core.limiter import Limiter
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.trials.app import AppTrial, AppTrialResult, Level, ServiceCounts
from harvok.core.units import format_per_second
from harvok.errors import TesterLimitError

FIRST_USERS = 8
_CONFIRMED = 2
"""More trials at the best number of users: the lowest counts, since that rate is held at any time."""
_PLATEAU = 1.05
"""Twice as many users that move no more than a twentieth more: more would only queue up."""


@dataclass(frozen=True, slots=True)
class AppCalibrationTest:
    """Doubles the users of `trial`, whose one level is the pattern, up to `max_users`."""

    trial: AppTrial
    max_users: int = 4096
    kind: Literal["app-calibration"] = "app-calibration"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return self.kind

    @property
    def expected_s(self) -> float:
        """About, in seconds: how soon a plateau comes is not known."""
        return 8 * self.trial.duration_s


def calibrate_app(
    test: AppCalibrationTest, context: Context, findings: Findings
) -> Procedure[AppTrial, AppTrialResult]:
    """Finds the highest rate of transactions that was held. Its figure is marked where that is a limit of the tester,
    and not where all users that were to be tried got what they asked for. Raises TesterLimitError where not even the
    first users are served."""
    best, users = 0.0, min(FIRST_USERS, test.max_users)
    held, is_limit = 0, True
    while True:
        reading, limiter = yield from _measured(test, users, context)
        rate = reading.each_second(reading.total.transactions)
        if reading.total.fails_too_often or rate < _PLATEAU * best:
            break
        best, held = rate, users
        if users >= test.max_users:
            is_limit = limiter.blame == "tester"
            break
        users = min(2 * users, test.max_users)
    if not held:
        raise TesterLimitError(
            f"{users} users were not served without failures: {limiter.evidence}",
            "See whether the path is a lead, and what else runs on both hosts.",
        )
    rates = [best]
    for _ in range(_CONFIRMED):
        reading, limiter = yield from _measured(test, held, context)
        rates.append(reading.each_second(reading.total.transactions))
    labels = {"level": reading.name}
    if not is_limit:
        findings.notices.append(f"all {users} users were served: more were not tried, and the limit may be higher")
    findings.figures.append(Figure("tester-limit-transactions", min(rates), labels, "tester-limit" if is_limit else ""))
    findings.notices.append(
        f"{reading.name}: {', '.join(map(format_per_second, rates))} transactions/s; limiter: {limiter.name}"
    )


def _measured(
    test: AppCalibrationTest, users: int, context: Context
) -> Generator[AppTrial, AppTrialResult, tuple[LevelReading, Limiter]]:
    level = replace(test.trial.levels[0], users=users, arrivals_per_s=None)
    trial = replace(test.trial, levels=(level,), about=f"{Level(1.0, users=users).name} over a lead")
    result = yield trial
    (reading,) = read_stream(trial, result.streams[0])
    service = result.streams[0].service.service or ServiceCounts()
    return reading, find_limiter(LevelCase(trial, reading, (), service, context.link))
