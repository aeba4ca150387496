"""What every procedure has in common: what it is told, what it asks, and where it puts what it finds.

A procedure is a generator: `procedure(test, context, findings)` yields the next trial, is sent that trial's result, and
adds to `findings` as it goes, so that a test that breaks off keeps what was found until then. It does no I/O.
"""

from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Protocol, TypeVar

from harvok.core.ethernet import IpVersion
from harvok.core.figures import Figure
from harvok.core.link import Link
from harvok.core.tcp.case import KnownGood
from harvok.core.tcp.reading import Reading
from harvok.core.trials.any import Trial, TrialResult

AskedT = TypeVar("AskedT", bound=Trial)
AnsweredT = TypeVar("AnsweredT", bound=TrialResult)

Procedure = Generator[AskedT, AnsweredT, None]


class Test(Protocol):
    """What is to be measured: a frozen dataclass, whose `kind` names its row in the table of kinds."""

    @property
    def kind(self) -> str: ...

    @property
    def title(self) -> str:
        """What a list of runs shows."""

    @property
    def expected_s(self) -> float | None:
        """How long it should take, in seconds; None when that cannot be told."""


@dataclass(frozen=True, slots=True)
class Context:
    """What is known before the first trial: the link under test, the IP version of the flows, and of TCP, by direction,
    a run in which these hosts filled this link's ceiling."""

    link: Link = Link()
    ip_version: IpVersion = 4
    known_good: Mapping[str, KnownGood] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Findings:
    """What a test comes to, filled as it goes: figures in the order in which they were found, remarks for the person
    at the bench, and of TCP a reading for each direction."""

    figures: list[Figure] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)
    readings: list[Reading] = field(default_factory=list)
