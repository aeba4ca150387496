"""A test of several parts, each of which may be left out."""

from collections.abc import Iterable, Mapping, Sequence
from typing import TypeVar

from harvok.core.procedure import Findings, Procedure
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.errors import TesterLimitError

NameT = TypeVar("NameT", bound=str)
Part = tuple[str, Procedure[FrameTrial, FrameTrialResult]]
"""What it is, for people, and what it does."""


def with_ports_enough(
    names: Sequence[NameT], needed: Mapping[NameT, int], ports: int, findings: Findings
) -> list[NameT]:
    """Those tests for which there are ports enough; the others are left out and named."""
    for name in names:
        if ports < needed.get(name, 2):
            findings.notices.append(f"{name} is left out: it needs {needed[name]} ports of the device")
    return [name for name in names if ports >= needed.get(name, 2)]


def run_parts(parts: Iterable[Part], findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    """Runs one part after the other. One that the tester itself could not do is left out and named; raises
    TesterLimitError when nothing could be measured."""
    for what, part in parts:
        try:
            yield from part
        except TesterLimitError as limit:
            findings.notices.append(f"{what} is left out: {limit.message}")
    if not findings.figures:
        raise TesterLimitError(
            f"nothing could be measured: {findings.notices[-1] if findings.notices else 'no test was asked for'}",
            "`harvok calibrate` shows what this tester can do; test at a lower rated speed or on a faster host.",
        )
