"""What features of a device cost: the same test with each of them on, in turns with the device as it is."""

import shlex
import subprocess
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace

from harvok.clock import SYSTEM, Clock
from harvok.core.gateway import parse_features
from harvok.core.judgement.compare import Comparison, Criteria
from harvok.core.models.rig import PortsRig, VirtualRig
from harvok.errors import NearEndError, UsageError
from harvok.logbook.store import Logbook
from harvok.runner.across import AcrossRequest, run_across, with_station
from harvok.runner.compare import compare_series

COMMANDS = ("app", "rfc9411", "tcp", "udp", "delay")
BASELINE = "baseline"
"""The last part of the name of the series in which nothing is switched on."""
_CHANGED = ("device.features",)
_SWITCH_S = 120.0

SayRun = Callable[[int, int, str], None]
"""(number, of how many, what is switched on)."""


@dataclass(frozen=True, slots=True)
class FeatureRequest:
    """What was asked for. `features` are switched on in turn, each several at once or one; of a device that is not made
    of this kernel by running `switch`, with their names as further words, or with none."""

    rig: VirtualRig | PortsRig
    features: tuple[tuple[str, ...], ...]
    across: AcrossRequest
    name: str
    repeats: int
    switch: tuple[str, ...] = ()

    @property
    def runs(self) -> int:
        return (len(self.features) + 1) * self.repeats

    def series(self, features: Sequence[str]) -> str:
        """Where the runs with these features are kept."""
        return f"{self.name}.{'+'.join(features) or BASELINE}"


def measure_features(
    request: FeatureRequest, say: SayRun, notice: Callable[[str], None], clock: Clock = SYSTEM
) -> list[Comparison]:
    """Measures in rounds, each the device as it is and then with each of the features, so that drift is no feature's
    cost; returns each against the device as it is.

    Raises UsageError before anything is sent, and NearEndError where a run or the switch failed; what was measured
    until then is kept.
    """
    _check(request)
    number = 0
    with _switched_back(request):
        for _ in range(request.repeats):
            for features in ((), *request.features):
                number += 1
                say(number, request.runs, " ".join(features) or BASELINE)
                _measure(request, features, notice, clock)
    return list(_comparisons(request))


def _check(request: FeatureRequest) -> None:
    words = request.across.words
    if not words or words[0] not in COMMANDS:
        raise UsageError(f"features are not tried with '{' '.join(words)}'", f"Name one of {', '.join(COMMANDS)}.")
    given = next((word for word in words if word.split("=")[0] in ("--series", "--repeat", "--json")), None)
    if given:
        raise UsageError(f"{given.partition('=')[0]} is not the command's here", "Give it before the rig.")
    with_station(words, "")
    if len({frozenset(features) for features in request.features} | {frozenset[str]()}) <= len(request.features):
        raise UsageError("the same --features twice, or none", "Each --features names others, such as stateful.")
    _check_switch(request)
    with closing(Logbook(request.across.logbook)) as logbook:
        known = logbook.series()
    taken = next((name for name in map(request.series, ((), *request.features)) if name in known), None)
    if taken:
        raise UsageError(f"the logbook has a series {taken} already", "Give these another name: --series NAME.")


def _check_switch(request: FeatureRequest) -> None:
    """Raises UsageError where nothing, or something else, switches the features of the rig."""
    if not isinstance(request.rig, VirtualRig):
        if not request.switch:
            raise UsageError(
                f"nothing here can switch the features of {request.rig.name}",
                "Name a command that does: --switch COMMAND. By hand, write a plan with an instruction for each step.",
            )
        return
    if request.switch:
        raise UsageError(f"{request.rig.name} is made of this kernel, and needs no --switch", "Leave it out.")
    for features in request.features:
        parse_features((*request.rig.features, *features))


def _measure(request: FeatureRequest, features: Sequence[str], notice: Callable[[str], None], clock: Clock) -> None:
    rig = request.rig
    if isinstance(rig, VirtualRig):
        rig = rig.model_copy(update={"features": parse_features((*rig.features, *features)).names})
    else:
        _switch(request.switch, features)
    labels = ("--series", request.series(features), "--with", f"features={'+'.join(features) or 'none'}")
    across = replace(request.across, words=(*request.across.words, *labels), shows=False)
    code = run_across(rig, across, notice, clock)
    if code:
        raise NearEndError(
            f"the run with {' '.join(features) or 'nothing switched on'} ended with exit code {code}",
            "What it said stands above; `harvok logbook list` has the runs until then.",
        )


@contextmanager
def _switched_back(request: FeatureRequest) -> Iterator[None]:
    try:
        yield
    finally:
        if request.switch:
            _switch(request.switch, ())


def _switch(command: Sequence[str], features: Sequence[str]) -> None:
    """Has features switched on, and all others off. Raises NearEndError."""
    try:
        done = subprocess.run([*command, *features], capture_output=True, text=True, timeout=_SWITCH_S)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise NearEndError(f"'{shlex.join(command)}' could not be run: {error}", "Try it by hand.") from error
    if done.returncode:
        said = done.stderr.strip().splitlines()[-1:] or ["it said nothing"]
        raise NearEndError(
            f"'{shlex.join([*command, *features])}' ended with exit code {done.returncode}: {said[0]}",
            "Try it by hand; it gets the features to switch on as its last words, and none for the baseline.",
        )


def _comparisons(request: FeatureRequest) -> Iterator[Comparison]:
    criteria = Criteria(min_repeats=max(request.repeats, 2))
    changed = _CHANGED if isinstance(request.rig, VirtualRig) else ()
    for features in request.features:
        yield compare_series(request.across.logbook, request.series(()), request.series(features), criteria, changed)
