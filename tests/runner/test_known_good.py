"""Which earlier run proves what two hosts can do."""

from dataclasses import replace
from unittest import mock

from harvok.core.models.run import RunRecord
from harvok.core.trials.tcp import SocketOptions
from harvok.logbook.store import Logbook
from harvok.runner.known_good import known_good
from tests.logbook.test_logbook import InAFolder, host, record

FULL, SLOW = 938.0, 400.0


def with_options(run: RunRecord, **options: int) -> RunRecord:
    test = run.test
    changed = replace(test, trial=replace(test.trial, options=SocketOptions(**options)))  # type: ignore[arg-type]
    return run.model_copy(update={"test": changed})


class KnownGoodRuns(InAFolder):
    def setUp(self) -> None:
        super().setUp()
        self.logbook = self.book()

    def found(self, *before: RunRecord) -> str | None:
        """The run that is found for a new one between the same hosts."""
        now = record(99, megabits=SLOW)
        with mock.patch.object(Logbook, "newest_with", lambda *_: iter(before)):
            found = known_good(self.logbook, now)
        self.assertLessEqual(set(found), {"send"})
        return found["send"].run if found else None

    def test_the_newest_that_filled_the_ceiling_is_taken(self) -> None:
        newest, older = record(2, megabits=FULL), record(1, megabits=FULL + 1)
        self.assertEqual(self.found(newest, older), newest.id)

    def test_other_hosts_and_other_options_prove_nothing(self) -> None:
        good = record(1, megabits=FULL)
        self.assertIsNone(self.found(good.model_copy(update={"far": host("annex")})))
        self.assertIsNone(self.found(with_options(good, mss_bytes=1000)))
        self.assertEqual(self.found(good.model_copy(update={"series": "another", "note": "direct lead"})), good.id)

    def test_more_than_the_ceiling_proves_nothing(self) -> None:
        self.assertIsNone(self.found(record(1, megabits=1100.0)))

    def test_the_logbook_is_asked_for_full_runs_alone(self) -> None:
        for number, megabits in enumerate((FULL, SLOW, FULL)):
            self.logbook.add(record(number, megabits=megabits))
        self.logbook.add(record(3, megabits=FULL, state="broken"))
        full = [run.id[-9:] for run in self.logbook.newest_with("ceiling-share", 0.97, 20)]
        self.assertEqual(full, ["0002-dome", "0000-dome"])
        (good,) = known_good(self.logbook, record(99, megabits=SLOW)).values()
        self.assertEqual(good.run[-9:], "0002-dome")
