"""Runs RFC 2544 tests on a rig, as often as asked, and keeps every run in the logbook."""

from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass, field

from harvok import __version__
from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.link import Link
from harvok.core.models.rig import RigFile
from harvok.core.models.run import RunRecord, SimulatedRigRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.rfc2544 import FrameTest, rfc2544
from harvok.host.facts import host_conditions
from harvok.logbook.store import Logbook
from harvok.rigs.simulated import SimulatedRig, device_of
from harvok.runner.journal import Journal
from harvok.runner.keeping import Keeper, Label, OnRecord, new_id

_NOWHERE = "127.0.0.1"  # a simulated rig sends nothing; only the host that computes it is described


@dataclass(frozen=True, slots=True)
class FrameRequest:
    """Everything that `harvok rfc2544` was asked for."""

    rig: RigFile
    test: FrameTest
    logbook: str
    command: list[str]
    label: Label = field(default_factory=Label)
    repeat: int = 1


def run_frames(request: FrameRequest, observer: Observer, on_record: OnRecord, clock: Clock = SYSTEM) -> None:
    """Runs every repeat; each has a seed of its own, counted up from the rig's, so that repeats differ as they would
    on a bench and are the same next year."""
    with closing(Logbook(request.logbook)) as logbook:
        keeper = Keeper(logbook, observer, on_record, clock)
        for number in range(request.repeat):
            _run_once(request, keeper, number)


def _run_once(request: FrameRequest, keeper: Keeper, number: int) -> None:
    record = _new_record(request, keeper.clock)
    rig = SimulatedRig(device_of(request.rig), request.rig.seed + number)
    outline = RunOutline(
        record.id, number + 1, request.repeat, record.near.name, record.rig.name, record.link, ip_version=4
    )
    keeper.observer.run_started(outline)

    def measure(everyone: Observer, _: Journal) -> Mapping[str, object]:
        return {"figures": drive(rfc2544(request.test), rig, everyone).figures}

    keeper.measure(record, measure)


def _new_record(request: FrameRequest, clock: Clock) -> RunRecord:
    started = clock.utc()
    return RunRecord(
        id=new_id(started),
        state="running",
        started=started,
        harvok=__version__,
        command=request.command,
        test=request.test,
        rig=SimulatedRigRecord(file=request.rig),
        link=Link(rated_bps=request.rig.rated),
        series=request.label.series,
        attributes=request.label.attributes,
        note=request.label.note,
        near=host_conditions(_NOWHERE),
    )
