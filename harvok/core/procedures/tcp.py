"""One TCP test: send, receive, one after the other, or both at once."""

from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.ends import AT_A_TIME, DirectionChoice
from harvok.core.figures import Figure
from harvok.core.link import Link
from harvok.core.tcp.reading import Reading, read_direction
from harvok.core.trials.tcp import TcpTrial, TcpTrialResult


@dataclass(frozen=True, slots=True)
class TcpTest:
    """What to measure: `trial` is the pattern whose directions `direction` fills in; `settling_s` None finds it."""

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
        return [replace(self.trial, directions=directions) for directions in AT_A_TIME[self.direction]]

    @property
    def expected_s(self) -> float | None:
        """How long the traffic will flow, in seconds; None when an amount of data was asked for."""
        return self.trial.duration_s * len(self.trials) if self.trial.duration_s else None


@dataclass(frozen=True, slots=True)
class TcpFindings:
    """What a TCP test comes to: a reading for each direction, and all figures."""

    readings: list[Reading]
    figures: list[Figure]


def tcp_test(test: TcpTest, link: Link) -> Generator[TcpTrial, TcpTrialResult, TcpFindings]:
    """Runs the trials of a TCP test and reads each direction against the link."""
    findings = TcpFindings([], [])
    for trial in test.trials:
        result = yield trial
        for direction in result.directions:
            reading, figures = read_direction(direction, link, trial.options, test.settling_s)
            findings.readings.append(reading)
            findings.figures.extend(figures)
    return findings
