"""On terminals of the usual widths no word and no number is broken or cut, whatever is shown."""

import io
import unittest
from collections.abc import Callable

from rich.console import Console

from harvok.cli.render.compare import show_comparison
from harvok.cli.render.console import Screen
from harvok.cli.render.frames import show_rfc2544
from harvok.cli.render.record import show_record
from harvok.cli.render.run_view import show_findings, show_repeats, show_run
from harvok.cli.render.tcp import show_tcp
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.sample import Series
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.udp import UdpStepsTest
from harvok.rigs.device import Device
from harvok.rigs.simulated import SimulatedPorts
from harvok.runner.samples import sample_of
from harvok.testing.measuring import findings_of
from harvok.testing.paths import SimulatedPath
from tests.cli.test_frame_views import SETTINGS, SIZES
from tests.cli.test_frame_views import record as frame_record
from tests.cli.test_udp_views import PATTERN, SPEC, udp_record
from tests.logbook.test_logbook import record

WIDTHS = (80, 100, 128)
Show = Callable[[Console], None]


def printed(show: Show, width: int) -> str:
    out = io.StringIO()
    show(Screen(file=out, width=width, height=40, force_terminal=True, color_system=None, highlight=False))
    return out.getvalue()


def frames(forwarding_fps: float | None) -> Series:
    test = FrameTest(("throughput", "latency", "loss"), SIZES, SETTINGS)
    figures = findings_of(test, SimulatedPorts(Device(1e9, forwarding_fps=forwarding_fps, latency_s=4e-6))).figures
    run = sample_of(frame_record(test, figures))
    return Series(f"dome-sw-{'b' if forwarding_fps else 'a'}", [run] * 5)


class Widths(unittest.TestCase):
    def check(self, show: Show) -> None:
        """Everything that a very wide terminal shows is shown whole on every other, and within its width."""
        whole = set(printed(show, 400).split())
        self.assertGreater(len(whole), 10)
        for width in WIDTHS:
            text = printed(show, width)
            self.assertNotIn("…", text)
            self.assertEqual(whole - set(text.split()) - {"–"}, set(), width)
            self.assertLessEqual(max(len(line.rstrip()) for line in text.splitlines()), width, text)

    def test_a_run_and_its_repeats(self) -> None:
        self.check(lambda console: show_run(console, record(), show_tcp))
        self.check(lambda console: show_repeats(console, [record(n) for n in range(5)]))
        self.check(lambda console: show_record(console, record()))

    def test_a_comparison_of_frames(self) -> None:
        found = compare(frames(None), frames(620_000), Criteria())
        self.check(lambda console: show_comparison(console, found))

    def test_results_of_frames(self) -> None:
        test = FrameTest(("throughput", "latency", "loss"), SIZES, SETTINGS)
        figures = findings_of(test, SimulatedPorts(Device(1e9, latency_s=4e-6))).figures
        self.check(lambda console: show_rfc2544(console, frame_record(test, figures)))

    def test_loads_of_udp(self) -> None:
        made = udp_record(SimulatedPath(), UdpStepsTest("each", PATTERN, (SPEC,), (0.5, 1.0)))
        self.check(lambda console: show_record(console, made))

    def test_findings(self) -> None:
        long = "settled goodput changed by -58.41 to -58.39 %, which misses the limit of 2.0 % regression: " * 3
        self.check(lambda console: show_findings(console, [Finding("REJECT", "send", long, "Try a larger buffer.")]))
