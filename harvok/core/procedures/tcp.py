"""One TCP test: send, receive, one after the other, or both at once."""

from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.ends import AT_A_TIME, DirectionChoice
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.tcp.notices import result_notices
from harvok.core.tcp.reading import read_direction
from harvok.core.trials.tcp import TcpTrial, TcpTrialResult


@dataclass(frozen=True, slots=True)
class TcpTest:
    """What to measure: `trial` is the pattern whose streams `direction` fills in; `settling_s` None finds it."""

    direction: DirectionChoice
    trial: TcpTrial
    settling_s: float | None = None
    kind: Literal["tcp"] = "tcp"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"{self.kind} {self.direction}"

    @property
    def trials(self) -> list[TcpTrial]:
        """The trials that this test runs, in order."""
        return [replace(self.trial, streams=streams) for streams in AT_A_TIME[self.direction]]

    @property
    def expected_s(self) -> float | None:
        """How long the traffic will flow, in seconds; None when an amount of data was asked for."""
        return self.trial.duration_s * len(self.trials) if self.trial.duration_s else None


def tcp_test(test: TcpTest, context: Context, findings: Findings) -> Procedure[TcpTrial, TcpTrialResult]:
    """Runs the trials of a TCP test and reads each direction against the link."""
    results = []
    for trial in test.trials:
        result = yield trial
        for direction in result.directions:
            good = context.known_good.get(direction.direction)
            reading, figures = read_direction(direction, context.link, trial.options, test.settling_s, good)
            findings.readings.append(reading)
            findings.figures.extend(figures)
            results.append(direction)
    findings.notices.extend(result_notices(results, findings.readings))
