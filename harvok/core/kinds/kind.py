"""A kind of test is one row: this is what a row says."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from harvok.core.conditions import HostConditions
from harvok.core.judgement.finding import Finding
from harvok.core.kinds.step import Step
from harvok.core.procedure import Findings
from harvok.core.procedures.frames import FramesSent, frames_sent
from harvok.core.quantities import QUANTITIES
from harvok.core.samples import Event
from harvok.core.sweeps.axes import NO_AXES, AxisSet, Setting
from harvok.core.sweeps.reading import SweptFigures
from harvok.errors import UsageError

RigNeed = Literal["stations", "users", "reflector", "port", "frames", "browser"]
"""Where a kind of test runs: a pair of stations, users and a service (which are stations, or modelled), a path to a
reflector, a port of this host, two ports with a device between them, a browser that this station serves."""

Conditions = Iterator[tuple[str, str]]


def _no_conditions(test: Any) -> Conditions:
    return iter(())


def _no_judge(test: Any, findings: Findings, events: Sequence[Event]) -> list[Finding]:
    return []


def _no_notices(test: Any, near: HostConditions, far: HostConditions | None) -> Iterator[str]:
    return iter(())


@dataclass(frozen=True, slots=True)
class Sweeping:
    """How a kind of test is swept: what can be varied, how a test changes with a setting, what the sweep is about, and
    which settings a test has where nothing was set."""

    axes: AxisSet
    with_setting: Callable[[Any, Setting], Any]
    figures: SweptFigures
    implied: Callable[[Any], Sequence[Setting]] = lambda test: ()


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of test.

    `test` is its dataclass, `procedure` what runs it, called with test, context and findings. `conditions` yields
    (name, value as printed) of what must be alike before two of its series are compared. `quantities` are what its
    figures may be of, in the order in which they are shown; those of rank headline stand for a run, and so do the ones
    in `also_headline`; not those with a label in `drills_down`, which are of a part of it. `judge` judges limits that
    the test itself sets, by its findings and the events of its trials. `step` is its form in a plan, `sweeping` how it
    is swept; None where it has neither. `over_load`: its figures are drawn over the load. `host_notices` says what the
    hosts will not grant, and raises UsageError for what cannot work between them. `held_against_calibration`: its
    figures near the tester's own limit are marked as such. `frames_sent`: what ports have to carry for it.
    `takes_events`: each of its trials shows the same thing, so that something may be done in mid-trial on purpose."""

    test: type[Any]
    procedure: Callable[[Any, Any, Findings], Any]
    rig: RigNeed
    quantities: tuple[str, ...]
    conditions: Callable[[Any], Conditions] = _no_conditions
    judge: Callable[[Any, Findings, Sequence[Event]], list[Finding]] = _no_judge
    step: type[Step] | None = None
    sweeping: Sweeping | None = None
    also_headline: tuple[str, ...] = ()
    drills_down: tuple[str, ...] = ()
    over_load: bool = False
    host_notices: Callable[[Any, HostConditions, HostConditions | None], Iterator[str]] = _no_notices
    held_against_calibration: bool = True
    takes_events: bool = False
    frames_sent: Callable[[Any], FramesSent] = frames_sent
    name: str = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "name", self.test.__dataclass_fields__["kind"].default)

    @property
    def headline(self) -> list[str]:
        """The quantities that stand for a run, the first of them first."""
        return [key for key in self.quantities if self._stands_for_a_run(key)]

    @property
    def axes(self) -> AxisSet:
        return self.sweeping.axes if self.sweeping else NO_AXES

    def _stands_for_a_run(self, key: str) -> bool:
        return QUANTITIES[key].rank == "headline" or key in self.also_headline


def check_events(kind: Kind, events: Sequence[object]) -> None:
    """Raises UsageError for a kind of test that would take what is done to the device for what the device does."""
    if events and not kind.takes_events:
        raise UsageError(
            f"{kind.name} is a search, or looks at the device at rest: nothing may be done to it meanwhile",
            "Take ramp, tcp, udp, delay or app.",
        )
