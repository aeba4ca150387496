"""The process in which a station runs an errand: its orders come on standard input, what it tells goes to standard
output, and it breaks the test off when its input ends."""

import sys
import tempfile
import threading
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.core.device.trial import DeviceTrial
from harvok.core.figures import Figure
from harvok.core.kinds.table import kind_of
from harvok.core.models.errand import Errand
from harvok.core.models.run import RigRecord, RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedure import Findings
from harvok.core.samples import Event, Sample, in_columns
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult, outcome_of
from harvok.errors import BrokenOffError, HarvokError, NearEndError
from harvok.logbook.store import Logbook
from harvok.rigs.reflected import LoadSettings
from harvok.rigs.stations import CommonStart, StationsSettings
from harvok.runner.errands import Told
from harvok.runner.recorder import Judge, Work
from harvok.runner.request import Place, ReflectorPlace, TestRequest
from harvok.runner.run import run_here
from harvok.signals import heed_no_more
from harvok.station.contact import Access
from harvok.station.far_end import fault_of
from harvok.worker.child import break_off_at_end_of_input

_BOOK = "errand.sqlite"


class Teller(Observer):
    """Tells everything that it hears, a line each. `events` are those of the run, in order."""

    def __init__(self) -> None:
        self.events: list[Event] = []
        self._lock = threading.Lock()

    def tell(self, told: Told) -> None:
        """Writes a line, whole and at once."""
        line = told.model_dump_json(include=told.model_fields_set).encode() + b"\n"
        with self._lock:
            sys.stdout.buffer.write(line)
            sys.stdout.buffer.flush()

    def run_started(self, outline: RunOutline) -> None:
        """The recorder tells it, with its record."""

    def trial_started(self, number: int, trial: Trial) -> None:
        self.tell(Told(number=number, trial=trial))

    def samples(self, samples: Sequence[Sample]) -> None:
        self.tell(Told(samples=in_columns(samples)))

    def happened(self, events: Sequence[Event]) -> None:
        self.events.extend(events)
        self.tell(Told(events=list(events)))

    def device_told(self, told: DeviceTrial) -> None:
        self.tell(Told(device=told))

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        self.tell(Told(number=number, result=outcome_of(result)))

    def found(self, figures: Sequence[Figure]) -> None:
        self.tell(Told(figures=list(figures)))

    def notice(self, text: str) -> None:
        self.tell(Told(notice=text))


@dataclass(frozen=True, slots=True)
class TellingRecorder:
    """Measures a run and tells it, for somebody else to keep. The logbook is for looking back alone."""

    logbook: Logbook
    observer: Teller
    clock: Clock
    asked_by: str

    def measure(self, record: RunRecord, work: Work, judge: Judge) -> None:
        """Measures one run. Raises whatever broke it off, after what was found was told."""
        assert isinstance(record.rig, RigRecord)
        record = record.model_copy(update={"rig": record.rig.model_copy(update={"asked_by": self.asked_by})})
        self.observer.tell(Told(begun=record))
        findings, state = Findings(notices=list(record.notices)), "broken"
        try:
            work(self.observer, findings)
            state = "complete"
        finally:
            ended = {"state": state, "ended": self.clock.utc()}
            found = {name: getattr(findings, name) for name in ("figures", "readings", "notices")}
            judged = judge(findings, self.observer.events) if state == "complete" else []
            self.observer.tell(Told(ended=record.model_copy(update={**ended, **found, "findings": judged})))


def run_errand(errand: Errand, teller: Teller, clock: Clock = SYSTEM) -> None:
    """Runs an errand and tells it. Raises whatever broke it off."""
    with tempfile.TemporaryDirectory() as folder, closing(Logbook(place := str(Path(folder) / _BOOK))) as logbook:
        request = TestRequest(_place(errand), errand.test, place, command=[], wait_s=errand.wait_s)
        run_here(request, TellingRecorder(logbook, teller, clock, errand.asked_by))


def _place(errand: Errand) -> Place:
    access = Access(errand.token, plain=errand.certificate is None, certificate=errand.certificate)
    settings = StationsSettings(
        errand.station,
        access,
        ip_version=errand.ip_version,
        near_name=errand.near_name or None,
        rated_bps=errand.rated_bps,
        start=CommonStart(errand.group, errand.begins_ns, errand.every_s) if errand.group else None,
    )
    if kind_of(errand.test).rig != "reflector":
        return settings
    return ReflectorPlace(settings, errand.reflector_port, errand.by, LoadSettings(errand.load_bps))


def main() -> None:
    teller = Teller()
    fault: HarvokError | None = None
    try:
        errand = Errand.model_validate_json(sys.stdin.buffer.readline())
        break_off_at_end_of_input()
        run_errand(errand, teller)
    except HarvokError as error:
        fault = error
    except KeyboardInterrupt:
        fault = BrokenOffError("broken off by who asked for it", "Ask again.")
    except BrokenPipeError:  # nobody hears it any more
        return
    except Exception as error:  # whatever it is, who asked is to see one sentence and no traceback
        fault = NearEndError(f"{type(error).__name__}: {error}", "This is a defect of the near end: report it.")
    heed_no_more()
    if fault:
        teller.tell(Told(broken=fault_of(fault)))


if __name__ == "__main__":
    main()
