"""The one loop that joins a procedure, a rig and those who watch.

A procedure is a generator: it yields the next trial, and is sent that trial's result. It does no I/O. A rig's fault is
thrown into it, so that its `finally` runs, and then goes on to the caller.
"""

from typing import Any, Protocol, TypeVar

from harvok.core.observer import Observer
from harvok.core.procedure import AnsweredT, AskedT, Findings, Procedure
from harvok.core.trials.any import Trial, TrialResult

AskedT_contra = TypeVar("AskedT_contra", bound=Trial, contravariant=True)
AnsweredT_co = TypeVar("AnsweredT_co", bound=TrialResult, covariant=True)


class Rig(Protocol[AskedT_contra, AnsweredT_co]):
    """Where trials of one kind run."""

    def run(self, trial: AskedT_contra, observer: Observer) -> AnsweredT_co:
        """Runs one trial to its end, and tells what happens meanwhile. Raises NearEndError or FarEndError when it
        cannot."""


AnyRig = Rig[Any, Any]


def drive(
    procedure: Procedure[AskedT, AnsweredT],
    rig: Rig[AskedT, AnsweredT],
    observer: Observer,
    findings: Findings | None = None,
) -> None:
    """Runs a procedure on a rig to its end, and tells what it adds to `findings` as it goes."""
    number, told = 1, 0
    try:
        trial = next(procedure)
        while True:
            observer.trial_started(number, trial)
            try:
                result = rig.run(trial, observer)
            except BaseException as fault:
                procedure.throw(fault)
                raise
            observer.trial_finished(number, result)
            trial = procedure.send(result)
            number += 1
            if findings and len(findings.figures) > told:
                observer.found(findings.figures[told:])
                told = len(findings.figures)
    except StopIteration:
        return
    finally:
        procedure.close()
