"""Sweeps: the same test at every point of one or two axes, in turns, with a baseline around it."""

import contextlib
import random
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass, replace

from harvok.clock import SYSTEM, Clock
from harvok.core.kinds.kind import Sweeping
from harvok.core.kinds.table import kind_of
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.rig import PortsRig, RigFile
from harvok.core.observer import Observer
from harvok.core.procedure import Test
from harvok.core.sweeps.axes import BASELINES, Axis, Order, Point, is_impairment, order_of, point_name, points_of
from harvok.core.sweeps.reading import SweepReading
from harvok.errors import TesterLimitError, UsageError
from harvok.logbook.store import Logbook
from harvok.runner.benches.frames import base_impairment, check_impairment
from harvok.runner.impair import ask, borrowed_bridge
from harvok.runner.recorder import OnRecord
from harvok.runner.request import Place, RigPlace, TestRequest
from harvok.runner.run import run_test
from harvok.runner.stored_sweeps import stored_sweep

SayPoint = Callable[[int, int, str], None]
"""(number, of how many, what is measured next)."""


@dataclass(frozen=True, slots=True)
class SweepRequest:
    """Everything that `harvok sweep` was asked for. `base` is the test with everything that is not varied; its label's
    series is the name of the sweep. `fixed` are settings of all its runs, the baselines included. One that is to
    `resume` takes what the logbook has of it for done; else a name is used once."""

    base: TestRequest
    axes: tuple[Axis, ...]
    fixed: Point = ()
    repeats: int = 3
    order: Order = "interleaved"
    seed: int = 1
    resume: bool = False

    @property
    def name(self) -> str:
        return self.base.label.series or "sweep"

    @property
    def sweeping(self) -> Sweeping:
        """How its kind of test is swept. Raises UsageError for one that is not."""
        kind = kind_of(self.base.test)
        if not kind.sweeping:
            raise UsageError(f"a test of kind {kind.name} cannot be swept", "Sweep TCP, UDP or frames.")
        return kind.sweeping

    @property
    def points(self) -> list[Point]:
        return points_of(self.axes)

    @property
    def runs(self) -> int:
        return (len(self.points) + len(BASELINES)) * self.repeats

    def test_at(self, point: Point) -> Test:
        """What is measured at a point. Raises UsageError for a setting that this test cannot have."""
        test = self.base.test
        for setting in (*self.fixed, *point):
            if not is_impairment(setting.name):
                test = self.sweeping.with_setting(test, setting)
        return test

    def sequence(self) -> list[tuple[str, Point]]:
        """Every run in its turn: the last part of the name of its series, and the point."""
        points = self.points
        shuffle = random.Random(self.seed).shuffle if self.order == "random" else None
        turns = order_of(len(points), self.repeats, shuffle)
        before, after = ([(name, ())] * self.repeats for name in BASELINES)
        return [*before, *((point_name(points[turn]), points[turn]) for turn in turns), *after]


def run_sweep(
    request: SweepRequest, observer: Observer, on_record: OnRecord, say: SayPoint, clock: Clock = SYSTEM
) -> list[SweepReading]:
    """Measures the baseline, every point in its turn, and the baseline again; returns a reading for each direction.

    A run in which the tester fell short is kept as invalid, and the sweep goes on. Raises UsageError before anything is
    sent when the name is taken, a point cannot be measured or there is no impairment to vary; and whatever breaks a run
    off, after what was measured until then was kept.
    """
    for point in request.points:
        request.test_at(point)
    done = _done(request)
    if done and not request.resume:
        raise UsageError(
            f"the logbook has a series {request.name}.{next(iter(done))} already",
            "Give this sweep another name: --series NAME.",
        )
    with _impaired(request) as impairer:
        turn = _Turn(request, impairer, observer, on_record, clock)
        for number, (name, point) in enumerate(request.sequence(), 1):
            if done[name] > 0:
                done[name] -= 1
                continue
            say(number, request.runs, name.replace("baseline-", "baseline, "))
            try:
                turn.take(name, point, number)
            except TesterLimitError as limit:
                observer.notice(f"run {number} says nothing: {limit.message}")
    with closing(Logbook(request.base.logbook)) as logbook:
        return stored_sweep(logbook, request.name).readings()


def check_same_sweep(request: SweepRequest, but: str) -> None:
    """Raises UsageError when the sweep of that name was begun with another command, the word `but` aside; and
    NothingFoundError when there is none."""
    with closing(Logbook(request.base.logbook)) as logbook:
        begun = stored_sweep(logbook, request.name).every_record()[0].command
    now, before = ([word for word in command if word != but] for command in (request.base.command, begun))
    if now != before:
        raise UsageError(f"that sweep was begun as: {' '.join(before)}", f"Repeat that, with {but} added.")


def _done(request: SweepRequest) -> Counter[str]:
    """How many complete runs the logbook has of each part of a sweep of that name."""
    done = Counter[str]()
    with closing(Logbook(request.base.logbook)) as logbook:
        for name in (*BASELINES, *map(point_name, request.points)):
            lines = logbook.lines(series=f"{request.name}.{name}")
            done[name] = sum(line.state == "complete" for line in lines)
    return +done


@dataclass(frozen=True, slots=True)
class _Turn:
    """Takes one run of a sweep after the other."""

    request: SweepRequest
    impairer: "_Impairer | None"
    observer: Observer
    on_record: OnRecord
    clock: Clock

    def take(self, name: str, point: Point, number: int) -> None:
        base, settings = self.request.base, (*self.request.fixed, *point)
        attributes = base.label.attributes | {setting.name: setting.text for setting in settings}
        label = replace(base.label, series=f"{self.request.name}.{name}", attributes=attributes)
        asked = replace(base, test=self.request.test_at(point), label=label, repeat=1)
        if self.impairer:
            asked = replace(asked, place=self.impairer.place_at(point, base.place))
        if isinstance(base.place, RigPlace):  # a model draws anew for each run
            asked = replace(asked, first=number)
        run_test(asked, self.observer, self.on_record, self.clock)
        overrun = self.impairer.overrun() if self.impairer else 0
        if overrun:
            self.observer.notice(
                f"in run {number} the bridge itself dropped {overrun} frames, its delay line being full: the loss is "
                "not what was asked for; start the bridge with the longest delay that is to come"
            )


# --- what an impairment does at each point ---------------------------------------------------------------------


@dataclass(slots=True)
class _Impairer:
    """Sets what an impairment does at each point, from what it was before. `of_this_host`: by telling the bridge that
    runs here; a rig of our own making is made anew for each run."""

    request: SweepRequest
    before: ImpairmentFile
    of_this_host: bool
    seen_overrun: int = 0

    def overrun(self) -> int:
        """How many frames the bridge itself has dropped since this was last asked."""
        report = ask("show")["report"] if self.of_this_host else None
        total = sum(one["overrun"] for one in report["directions"]) if report else 0
        more, self.seen_overrun = total - self.seen_overrun, total
        return more

    def place_at(self, point: Point, place: Place) -> Place:
        """Puts the impairment of a point on the path, and says where to measure then."""
        file = self.build(point)
        if self.of_this_host:
            ask("change", file)
            return place
        assert isinstance(place, RigPlace)
        return replace(place, impairment=file)

    def build(self, point: Point) -> ImpairmentFile:
        settings = (*self.request.fixed, *point)
        return self.before.changed({s.name: s.number or 0.0 for s in settings if is_impairment(s.name)})

    def check(self) -> None:
        """Raises ImpairmentError or UsageError, before anything is sent, for a point that cannot be carried out."""
        for point in self.request.points:
            file = self.build(point)
            if isinstance(self.request.base.place, RigPlace):
                check_impairment(self.request.base.place.rig, file)


@contextlib.contextmanager
def _impaired(request: SweepRequest) -> Iterator[_Impairer | None]:
    """What changes the impairment, when one is varied; that of this host is put back as it was afterwards."""
    if not any(is_impairment(name) for name in _varied(request)):
        yield None
        return
    rig = request.base.place.rig if isinstance(request.base.place, RigPlace) else None
    if rig and not isinstance(rig, PortsRig):
        impairer = _Impairer(request, _impairment_of_our_own(rig), of_this_host=False)
        impairer.check()
        yield impairer
        return
    with borrowed_bridge() as before:
        impairer = _Impairer(request, before, of_this_host=True)
        impairer.check()
        yield impairer


def _impairment_of_our_own(rig: RigFile) -> ImpairmentFile:
    """What a rig that we make does where nothing is varied. Raises UsageError when it has no impairment."""
    own = base_impairment(rig)
    if own is None:
        raise UsageError(
            f"the rig {rig.name} has no impairment to vary", 'Give it device = "impairment" and impairment = "clean".'
        )
    return own


def _varied(request: SweepRequest) -> list[str]:
    return [axis.name for axis in request.axes] + [setting.name for setting in request.fixed]
