import json
import os
import tempfile
import unittest
from contextlib import chdir, closing
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from harvok.core.judgement.finding import Finding
from harvok.core.observer import Observer, started
from harvok.core.procedure import Findings
from harvok.core.samples import Event, in_columns
from harvok.core.trials.tcp import TcpTrialResult
from harvok.errors import LogbookError, NotKeptError, StationLostError, TestRunningError
from harvok.host.state import TEST_LOCK
from harvok.logbook.exchange import read_records
from harvok.logbook.store import Logbook
from harvok.runner.journal import Journal
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.recorder import RunRecorder, new_id
from harvok.runner.rescue import rescue
from harvok.testing.clock import ManualClock
from harvok.testing.transfers import samples_of, transfer
from tests.logbook.test_logbook import START, record
from tests.own_state import own_state


def no_judge(_: Findings, __: list[Event]) -> list[Finding]:
    return []


class Listener(Observer):
    def __init__(self) -> None:
        self.said: list[str] = []

    def notice(self, text: str) -> None:
        self.said.append(text)


class InAFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.enterContext(chdir(self.folder))
        self.clock = ManualClock()


class Locks(InAFolder):
    def setUp(self) -> None:
        super().setUp()
        self.lock = own_state(self) / TEST_LOCK

    def held(self, what: str, wait_s: float = 0.0, said: list[str] | None = None):  # type: ignore[no-untyped-def]
        heard: list[str] = [] if said is None else said
        return one_test_at_a_time(what, wait_s, self.clock, heard.append)

    def test_the_second_is_told_who_has_it(self) -> None:
        with self.held("a test towards hall"), self.assertRaises(TestRunningError) as caught, self.held("another"):
            self.fail("two at once")
        self.assertIn(f"a test towards hall (process {os.getpid()})", str(caught.exception))
        with self.held("another"):
            self.assertTrue(self.lock.read_text().startswith("another"))

    def test_waiting_gives_up_in_time_and_says_so_once(self) -> None:
        said: list[str] = []
        with self.held("first"), self.assertRaises(TestRunningError), self.held("second", 30, said):
            self.fail("two at once")
        self.assertEqual(len(said), 1)
        self.assertIn("waiting up to 30 s", said[0])
        self.assertGreaterEqual(self.clock.now_ns(), 30e9)

    def test_it_is_free_after_an_error(self) -> None:
        with self.assertRaises(ValueError), self.held("first"):
            raise ValueError
        with self.held("second"):
            self.assertTrue(self.lock.exists())


class Storing(InAFolder):
    def setUp(self) -> None:
        super().setUp()
        self.logbook = Logbook("book.sqlite")
        self.addCleanup(self.logbook.close)
        self.listener = Listener()
        self.kept: list[object] = []
        self.recorder = RunRecorder(self.logbook, self.listener, self.kept.append, self.clock)

    def begun(self):  # type: ignore[no-untyped-def]
        whole = record()
        cleared = {"state": "running", "trials": [], "figures": [], "readings": [], "notices": ["mind the gap"]}
        return whole, whole.model_copy(update=cleared)

    def test_a_run_that_goes_well(self) -> None:
        whole, begun = self.begun()

        def measure(everyone: Observer, findings: Findings) -> None:
            everyone.trial_started(1, whole.trials[0].trial)
            for samples in samples_of([transfer(930e6, 3)]):
                everyone.samples(samples)
            everyone.trial_finished(1, TcpTrialResult([transfer(930e6, 3)]))
            findings.figures.extend(whole.figures)
            findings.readings.extend(whole.readings)

        self.recorder.measure(begun, measure, no_judge)
        found = self.logbook.record(whole.id)
        self.assertEqual((found.state, found.trials, found.figures), ("complete", whole.trials, whole.figures))
        self.assertEqual((self.kept, self.listener.said), ([found], ["mind the gap"]))
        self.assertEqual(found.ended, self.clock.utc())

    def test_a_run_that_breaks_off_keeps_its_intervals_and_its_reason(self) -> None:
        whole, begun = self.begun()
        samples, began = next(samples_of([transfer(930e6, 3)])), started(1_800_000_000_500_000_000)

        def measure(everyone: Observer, findings: Findings) -> None:
            everyone.trial_started(1, whole.trials[0].trial)
            findings.figures.append(whole.figures[0])
            everyone.happened([began])
            everyone.samples(samples)
            raise StationLostError("the lead was pulled", "plug it in")

        with self.assertRaises(StationLostError):
            self.recorder.measure(begun, measure, no_judge)
        found = self.logbook.record(whole.id)
        assert found.fault
        self.assertEqual((found.state, found.fault.reference), ("broken", "station-lost"))
        (trial,) = found.trials
        self.assertEqual((trial.origin, trial.events), (datetime.fromtimestamp(1_800_000_000.5, UTC), [began]))
        self.assertEqual(trial.samples, in_columns(samples))
        self.assertEqual((self.kept, found.figures), ([found], whole.figures[:1]))

    def test_a_logbook_that_fails_at_the_end_is_made_up_for(self) -> None:
        _, begun = self.begun()
        with (
            mock.patch.object(self.logbook, "finish", side_effect=LogbookError("the disk is full", "make room")),
            self.assertRaises(NotKeptError) as caught,
        ):
            self.recorder.measure(begun, lambda *_: None, no_judge)
        (saved,) = self.folder.glob("harvok-run-*.jsonl")
        self.assertEqual(list(read_records(saved)), self.kept)
        self.assertIn("the disk is full", self.listener.said[-1])
        self.assertIn(f"harvok logbook import {saved}", caught.exception.hint)

    def test_a_logbook_that_fails_on_the_way_does_not_stop_the_test(self) -> None:
        whole, begun = self.begun()
        with (
            mock.patch.object(self.logbook, "add_to_journal", side_effect=LogbookError("full", "make room")),
            closing(Journal(self.logbook, begun.id)) as journal,
        ):
            journal.trial_started(1, whole.trials[0].trial)
            journal.trial_finished(1, TcpTrialResult([transfer(930e6, 3)]))
        self.assertIsInstance(journal.fault, LogbookError)
        self.assertEqual([trial.result for trial in journal.trials], [whole.trials[0].result])

    def test_a_rescue_tries_the_next_folder(self) -> None:
        with mock.patch.object(Path, "cwd", return_value=Path("/proc/nowhere")):
            path = rescue(record())
        assert path
        self.addCleanup(path.unlink)
        self.assertEqual(path.parent, Path(tempfile.gettempdir()))
        self.assertEqual(json.loads(path.read_text())["id"], record().id)

    def test_ids_sort_by_time_and_differ(self) -> None:
        ids: list[str] = []
        for _ in range(50):
            ids.append(new_id(START, ids.__contains__))
        self.assertEqual(len(set(ids)), 50)
        self.assertTrue(all(one.startswith("20261123-080000-") for one in ids))

    def test_an_id_that_is_taken_is_not_given_again(self) -> None:
        letters = iter("aaaaaaaabbbb")
        with mock.patch("harvok.runner.recorder.secrets.choice", lambda _: next(letters)):
            self.assertEqual(new_id(START, lambda made: made.endswith("-aaaa")), "20261123-080000-bbbb")
