"""What a person sees of frame tests: live, at the end, and of the rig."""

import unittest
from dataclasses import replace

from harvok.cli.render.frames import (
    FramesView,
    progress_words,
    result_words,
    show_calibration,
    show_rfc2544,
    trial_words,
)
from harvok.cli.render.rig import show_rig, what_is_sent
from harvok.cli.render.run_view import show_run
from harvok.core.ends import RECEIVE, SEND
from harvok.core.figures import Figure
from harvok.core.link import Link
from harvok.core.models.control import Fault
from harvok.core.models.rig import RIG_FILE, RigFile
from harvok.core.models.run import RunRecord, TrialRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedure import Test
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.trials.frames import (
    RECEIVED_FRAMES,
    SENT_FRAMES,
    FrameTrial,
    FrameTrialResult,
    LoadStep,
    progress_samples,
)
from harvok.reports.rig_drawing import drawing
from harvok.rigs.device import Device
from harvok.rigs.frame_rigs import record_of
from harvok.rigs.simulated import SimulatedPorts
from harvok.runner.request import RigPlace
from harvok.testing.clock import ManualClock
from harvok.testing.measuring import findings_of
from tests.cli.test_views import a_request, screen
from tests.core.test_tester_limit import WeakTester
from tests.logbook.test_logbook import START, host

SIZES = (FrameSize("64", (64,)), FrameSize("1518", (1518,)))
SETTINGS = FrameSettings(line_bps=1e9, tester_fps={"64": 900_000.0}, tester_delay_s={"64": 5e-6})
TEST = FrameTest(("throughput", "latency"), SIZES, SETTINGS)


def rig(kind: str = "virtual", **keys: object) -> RigFile:
    return RIG_FILE.validate_python({"version": 1, "kind": kind, "name": "dome-sw-a", "rated": "1G", **keys})


PORTS = {"port1": {"interface": "eth1"}, "port2": {"interface": "eth2"}}


def record(test: Test, figures: list, **changes: object) -> RunRecord:  # type: ignore[type-arg]
    made = RunRecord(
        id="20261123-080000-dome", state="complete", started=START, harvok="0", command=["harvok"], test=test,
        rig=record_of(rig()), link=Link(1e9), near=host("dome"), figures=figures, calibration="20261123-070000-lead",
    )  # fmt: skip
    return made.model_copy(update=changes)


class Results(unittest.TestCase):
    def test_what_limited_each_size_and_what_the_tester_adds(self) -> None:
        findings = findings_of(TEST, WeakTester(Device(1e9, latency_s=3e-6), 950_000))
        console, out = screen()
        result = SimulatedPorts(Device(1e9)).run(WhileItRuns.TRIAL, Observer())
        stamped = replace(result, directions=[replace(result.directions[0], stamped_by="frame")])
        trials = [TrialRecord(trial=WhileItRuns.TRIAL, result=stamped)]
        show_rfc2544(console, record(TEST, findings.figures, trials=trials))
        said = out.getvalue()
        self.assertRegex(said, r"64 B +\d{3} \d{3} .* the TESTER")
        self.assertRegex(said, r"1518 B +81 274 .* line rate")
        self.assertRegex(said, r"tester's own *\n64 B .* 5\.000 µs")
        for words in ("the tester's own included", "calibrated in run 20261123-070000-lead"):
            self.assertIn(words, " ".join(said.split()))

    def test_a_device_is_named_as_the_limit(self) -> None:
        device = Device(1e9, forwarding_fps=300_000, buffer_frames=64)
        findings = findings_of(TEST, SimulatedPorts(device))
        console, out = screen()
        show_rfc2544(console, record(TEST, findings.figures))
        self.assertRegex(out.getvalue(), r"64 B +(299|300) \d{3} .* the device")

    def test_invalid_and_broken_runs_say_why(self) -> None:
        fault = Fault(reference="tester-limit", message="the tester fell short", hint="take another")
        for state in ("invalid", "broken"):
            console, out = screen()
            show_run(console, record(TEST, [], state=state, fault=fault), show_rfc2544)
            self.assertIn(f"{state.upper()} the tester fell short", out.getvalue())

    def test_a_calibration(self) -> None:
        test = CalibrationTest(SIZES, replace(SETTINGS, tester_fps={}))
        findings = findings_of(test, WeakTester(Device(1e9, latency_s=3e-6), 950_000))
        console, out = screen()
        show_calibration(console, record(test, findings.figures))
        self.assertRegex(out.getvalue(), r"64 B +9\d{2} \d{3} +6\d\.\d %")
        self.assertRegex(out.getvalue(), r"1518 B +81 274 +100\.0 %")


class WhileItRuns(unittest.TestCase):
    TRIAL = FrameTrial((64,), (LoadStep(1000.0, 2.0),), about="throughput at 64 B, between 0 and 1 488 095")

    def view(self, terminal: bool, virtual_time: bool) -> tuple[FramesView, object]:
        console, out = screen(terminal)
        view = FramesView(
            console,
            show_rfc2544,
            a_request(TEST, RigPlace(rig("simulated" if virtual_time else "virtual"))),
            ManualClock(),
        )
        view.run_started(RunOutline("20261123-080000-dome", 1, 2, "dome", "dome-sw-a", Link(1e9), 4, 330.0))
        view.trial_started(1, self.TRIAL)
        view.samples(progress_samples("send", 1.0, 1000, 990, 5e-6))
        view.trial_finished(1, self.result())
        return view, out

    def result(self) -> FrameTrialResult:
        return SimulatedPorts(Device(1e9, loss=0.01)).run(self.TRIAL, Observer())

    def test_a_pipe_gets_a_line_for_each_trial(self) -> None:
        view, out = self.view(terminal=False, virtual_time=False)
        view.notice("mind the gap")
        view.close()
        said = out.getvalue()  # type: ignore[attr-defined]
        self.assertIn("repeat 1 of 2, about 5 min 30 s of trials and pauses", said)
        self.assertRegex(said, r"trial 1: 64 B frames at 1 000 frames/s for 2\.000 s: 1 000 frames/s offered, lost \d+")
        self.assertIn("note mind the gap", said)

    def test_virtual_time_has_no_lines_and_says_so(self) -> None:
        view, out = self.view(terminal=False, virtual_time=True)
        view.close()
        self.assertIn("in virtual time", out.getvalue())  # type: ignore[attr-defined]
        self.assertNotIn("trial 1", out.getvalue())  # type: ignore[attr-defined]

    def test_a_terminal_shows_the_bracket_and_the_frames(self) -> None:
        view, out = self.view(terminal=True, virtual_time=False)
        assert view._status
        for size, fps in (("64", 499_750.0), ("1518", 81_274.0)):
            labels = {"direction": "send", "frame-size": size}
            view.found([Figure("throughput", fps, labels), Figure("search-trials", 7, {"frame-size": size})])
        console, shown = screen()
        console.print(view._status.status)
        for words in (
            "between 0 and 1 488 095",
            "trial 1: 64 B",
            "10 frames not back",
            "left",
            "before: 1 000 frames/s",
            "throughput so far: 64 B 499 750 frames/s, 1518 B 81 274 frames/s",
        ):
            self.assertIn(words, shown.getvalue())
        self.assertNotIn("trials so far", shown.getvalue())
        view.record(record(TEST, [], notices=["said at the end"]))
        self.assertIsNone(view._moving)
        self.assertIn("said at the end", out.getvalue())  # type: ignore[attr-defined]

    def test_words(self) -> None:
        self.assertIn("mix frames", trial_words(replace(self.TRIAL, frame_sizes=(64, 1518))))
        self.assertIn("0 s, 0 frames/s", progress_words(0.0, {SENT_FRAMES: 0, RECEIVED_FRAMES: 0}))
        clean = SimulatedPorts(Device(1e9)).run(self.TRIAL, Observer())
        self.assertIn("nothing lost, delay median", result_words(self.TRIAL, clean))


class Rigs(unittest.TestCase):
    def test_drawings_are_square(self) -> None:
        for made in (rig(), rig("simulated"), rig(device="wire"), rig("ports", **PORTS, device="router")):
            lines = drawing(made)
            self.assertEqual((len(lines), len({len(line) for line in lines})), (4, 1), lines)
        self.assertIn("eth1", drawing(rig("ports", **PORTS))[1])
        self.assertNotIn("dome-sw-a", "".join(drawing(rig(device="wire"))))

    def test_what_is_known_and_what_is_wrong(self) -> None:
        for made, words in (
            (rig("ports", **PORTS), "see RFC 6815"),
            (rig("ports", **PORTS, isolated=True), "isolated, as the file says"),
            (rig(device="router"), "the router at 198.18.0.1"),
            (rig(shape="100M"), "shaped to 100 Mb/s"),
            (rig(), "not shaped"),
        ):
            console, out = screen()
            show_rig(console, made, ["eth1 is down"])
            self.assertIn(words, out.getvalue())
            self.assertIn("problem eth1 is down", out.getvalue())

    def test_what_is_sent_is_said_beforehand(self) -> None:
        both = replace(TEST, settings=replace(SETTINGS, streams=(SEND, RECEIVE), ip_version=6))
        said = what_is_sent(rig("ports", **PORTS), both)
        for words in ("IPv6 frames of 64, 1518 B", "1 488 095 frames/s", "eth1 → eth2 and eth2 → eth1", "2001:2::/48"):
            self.assertIn(words, said)
        bare = replace(TEST, settings=replace(SETTINGS, ip_version=None))
        self.assertIn("bare Ethernet", what_is_sent(rig(), bare))
