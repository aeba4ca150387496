"""Runs procedures on a rig without logbook or view: a whole test by its kind, or a part of one that returns a value."""

from collections.abc import Generator
from typing import TypeVar

from harvok.core.drive import AnyRig, drive
from harvok.core.kinds.table import kind_of
from harvok.core.link import Link
from harvok.core.observer import Observer
from harvok.core.procedure import Context, Findings, Test
from harvok.core.trials.any import Trial, TrialResult

TrialT = TypeVar("TrialT", bound=Trial)
ResultT = TypeVar("ResultT", bound=TrialResult)
ReturnedT = TypeVar("ReturnedT")


def findings_of(
    test: Test,
    rig: AnyRig,
    link: Link = Link(),
    observer: Observer = Observer(),
    findings: Findings | None = None,
) -> Findings:
    """What a test comes to on a rig. Raises whatever breaks it off; `findings` given are filled until then."""
    findings = Findings() if findings is None else findings
    drive(kind_of(test).procedure(test, Context(link), findings), rig, observer)
    return findings


def returned_by(
    procedure: Generator[TrialT, ResultT, ReturnedT], rig: AnyRig, observer: Observer = Observer()
) -> ReturnedT:
    """What a part of a procedure returns when it is run on a rig."""
    returned: list[ReturnedT] = []

    def whole() -> Generator[TrialT, ResultT, None]:
        returned.append((yield from procedure))

    drive(whole(), rig, observer)
    return returned[0]
