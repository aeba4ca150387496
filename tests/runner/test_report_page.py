"""What stands on the first pages of a report, from made-up runs."""

import unittest
from datetime import timedelta
from typing import Any

from harvok.core.device.trial import DeviceTrial
from harvok.core.figures import Figure
from harvok.core.judgement.assessment import Criterion, Rules
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.conditions import Difference
from harvok.core.judgement.criteria import judge
from harvok.core.judgement.sample import Series
from harvok.core.mixes import frame_sizes
from harvok.core.models.run import RunRecord
from harvok.core.procedures.frames import FrameSettings
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.samples import Event
from harvok.runner.report_page import (
    comparison_of,
    decided_of,
    devices_of,
    front_of,
    limiters_of,
    notices_of,
    untested_of,
)
from harvok.runner.samples import sample_of
from tests.logbook.test_logbook import START, record

BEFORE = [record(n, "before", 930 + n / 10) for n in range(5)]
AFTER = [record(n, "after", 830 + n / 10) for n in range(5, 10)]
GOODPUT = "goodput-settled"


def series(name: str, records: list[RunRecord]) -> Series:
    return Series(name, [sample_of(one) for one in records])


def compared() -> Any:
    return compare(series("before", BEFORE), series("after", AFTER), Criteria())


def benchmark(figures: list[Figure], **keys: Any) -> RunRecord:
    settings = FrameSettings(line_bps=1e9)
    test = FrameTest(keys.pop("tests", ("throughput",)), frame_sizes(["64", "512"], 4), settings)
    return BEFORE[0].model_copy(update={"test": test, "figures": figures, "readings": [], **keys})


class Decided(unittest.TestCase):
    def test_the_worst_and_of_these_the_main_figures(self) -> None:
        table = decided_of(compared().answers)
        assert table
        first = dict(zip(table.header, table.rows[0], strict=True))
        self.assertEqual(
            (first["figure"], first["verdict"], first["limit"]), ("settled goodput", "REJECT", "2.0 % worse")
        )
        self.assertEqual((first["before"], first["after"]), ("930.2 Mb/s = 116.3 MB/s", "830.7 Mb/s = 103.8 MB/s"))
        self.assertRegex(first["change"], r"-10\.\d %")
        self.assertRegex(first["95 % interval"], r"-10\.\d to -10\.\d %|-10\.\d %")
        self.assertLessEqual(len(table.rows), 3)
        self.assertIsNone(decided_of([]))

    def test_every_judged_figure_is_in_the_comparison(self) -> None:
        answers = compared().answers
        (table,) = comparison_of(answers)
        self.assertEqual(len(table.rows), len(answers))
        self.assertEqual(comparison_of([]), [])

    def test_limits_without_anything_before(self) -> None:
        criteria = [
            Criterion(GOODPUT, "after", minimum=900e6),
            Criterion(GOODPUT, "before", minimum=900e6, maximum=1e9),
        ]
        both = {"before": series("before", BEFORE), "after": series("after", AFTER)}
        found = judge(criteria, both, Rules(min_repeats=5, confidence=0.95))
        table = decided_of(found.answers)
        assert table
        rows = [dict(zip(table.header, row, strict=True)) for row in table.rows]
        self.assertEqual([row["of"].split(",")[0] for row in rows], ["after", "before", "before"], "the worst first")
        self.assertNotEqual(rows[0]["verdict"], "ACCEPT")
        self.assertEqual([row["verdict"] for row in rows[1:]], ["ACCEPT"] * 2)
        self.assertEqual(rows[0]["limit"], "at least 900.0 Mb/s")
        self.assertEqual(rows[1]["limit"], "at least 900.0 Mb/s, at most 1000.0 Mb/s")
        self.assertEqual((rows[0]["before"], rows[0]["change"]), ("–", "–"))
        self.assertRegex(rows[0]["95 % interval"], r"830\.\d Mb/s to 83\d\.\d Mb/s")


class Front(unittest.TestCase):
    def test_who_asked_what_of_which_device(self) -> None:
        named = [
            one.model_copy(update={"attributes": {"make": "Lumen", "serial": n}})
            for one, n in zip(AFTER, "1122", strict=False)
        ]
        front = dict(front_of(named, "is it good?", "M. Kepler"))
        self.assertEqual((front["asked"], front["operator"]), ("is it good?", "M. Kepler"))
        self.assertEqual((front["make"], front["serial"]), ("Lumen", "1; 2"))
        self.assertIn("4 runs within", front["taken"])
        self.assertEqual(dict(front_of([], "is it?", "M. Kepler")), {"asked": "is it?", "operator": "M. Kepler"})


class Limited(unittest.TestCase):
    def test_flows_by_their_readings_each_once(self) -> None:
        lines = limiters_of([*BEFORE, *BEFORE])
        self.assertEqual(len(lines), len(set(lines)))
        self.assertTrue(lines and all(line.startswith("before, send: ") for line in lines), lines)

    def test_frames_by_the_share_of_line_rate(self) -> None:
        def share(size: str, value: float, mark: Any = "") -> Figure:
            return Figure("throughput-share", value, {"direction": "send", "frame-size": size}, mark)

        figures = [share("64", 0.6), share("128", 0.8, "tester-limit"), share("512", 1.0), share("1518", 1.0)]
        lines = limiters_of([benchmark(figures)])
        self.assertIn("before, send, 64 B: the device, which lost frames above 60.0 % of line rate", lines)
        self.assertIn("before, send, 128 B: the TESTER, which could offer no more", lines)
        self.assertIn("before, line rate at 512, 1518 B: nothing but the line", lines)


class Untested(unittest.TestCase):
    def test_what_a_reader_might_take_for_tested(self) -> None:
        figures = [Figure("throughput", 1.0, {"direction": "send", "frame-size": "64"})]
        lines = untested_of([benchmark(figures)])
        for words in ("the other direction (receive)", "RFC 2544 latency", "IPv6", "application traffic"):
            self.assertIn(words, lines)
        self.assertNotIn("RFC 2544 throughput", lines)
        both = [*figures, Figure("throughput", 1.0, {"direction": "receive", "frame-size": "64"})]
        self.assertNotIn("the other direction", " ".join(untested_of([benchmark(both)])))
        self.assertEqual(untested_of([]), [])


class Noticed(unittest.TestCase):
    def test_conditions_calibrations_notices_and_what_the_device_told(self) -> None:
        one = BEFORE[0]
        trial = one.trials[0].model_copy(
            update={
                "events": [Event(1.5, "link-down"), Event(2.0, "started")],
                "device": DeviceTrial(remarks=["it restarted"]),
            }
        )
        noted = one.model_copy(update={"notices": ["look"], "calibration": "run-1", "trials": [trial]})
        lines = notices_of([noted, noted], [Difference("near.mtu", ("1500",), ("9000",), False)])
        self.assertEqual(
            lines,
            [
                "near.mtu: 1500 before, 9000 after (NOT declared as changed)",
                "the tester was calibrated in run run-1",
                "look",
                f"{one.id}: it restarted",
                f"{one.id}, at 1.5 s: link-down",
            ],
        )

    def test_what_the_device_counted(self) -> None:
        counted = Figure("device-cpu-max", 0.42, {})
        (table,) = devices_of([benchmark([counted])])
        self.assertEqual(table.rows[0][1:], ["max CPU of the device", "", "42.0 %"])
        self.assertEqual(devices_of(BEFORE), [])
        self.assertEqual(BEFORE[1].started, START + timedelta(minutes=1))
