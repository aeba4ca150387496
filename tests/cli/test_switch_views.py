"""What a person sees of tests between many ports, from results of modelled switches."""

import unittest
from typing import Any

from rich.console import Console

from harvok.cli.render.frames import show_rfc2544
from harvok.cli.render.load import show_held_loads
from harvok.cli.render.switch import show_rfc2889, show_rfc3918
from harvok.core.ends import SEND
from harvok.core.figures import Figure
from harvok.core.frame_streams import frame_streams, full_mesh
from harvok.core.mixes import frame_sizes
from harvok.core.models.run import TrialRecord
from harvok.core.observer import Observer
from harvok.core.procedure import Test
from harvok.core.procedures.frames import FrameSettings
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.rfc2889 import SWITCH_TESTS, SwitchTest
from harvok.core.procedures.rfc3918 import GROUP_TESTS, GroupTest
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep, TesterHealth
from harvok.rigs.device import Device
from harvok.rigs.fabric import AddressTable, Fabric, GroupTable
from harvok.rigs.simulated import SimulatedPorts
from harvok.testing.measuring import findings_of
from tests.cli.test_frame_views import record
from tests.cli.test_views import screen

PORTS = ("port1", "port2", "port3", "port4")
SWITCH = Device(1e9, latency_s=4e-6, buffer_frames=100)
SETTINGS = FrameSettings(line_bps=1e9, streams=full_mesh(PORTS), full_s=30.0)
SIZES = frame_sizes(["64", "1518"], 4)


def shown(view: Any, test: Test, figures: list[Figure], **changes: object) -> str:
    console, out = screen()
    assert isinstance(console, Console)
    view(console, record(test, figures, **changes))
    return out.getvalue()


class Switches(unittest.TestCase):
    def said(self, *parts: Any, device: Device = SWITCH, **keys: Any) -> str:
        test = SwitchTest(SWITCH_TESTS, SIZES, SETTINGS, PORTS, **keys)
        return shown(show_rfc2889, test, findings_of(test, SimulatedPorts(device, 1, None, *parts)).figures)

    def test_a_switch_without_limits(self) -> None:
        said = self.said()
        self.assertRegex(said, r"1518 B, mesh +81 274 .*100\.0 % .* line rate")
        self.assertRegex(said, r"1518 B, many-to-one +27 0\d\d .*33\.3 % .* line rate")
        self.assertRegex(said, r"64 B +0\.0 % +\d\d\.\d % +0\.0 %", "nothing at the free port, and nothing held back")
        for words in ("rates of one port, never added up over ports", "between port1, port2, port3, port4"):
            self.assertIn(words, " ".join(said.split()))

    def test_a_fabric_that_is_too_slow_is_the_device(self) -> None:
        said = self.said(Fabric(forwards_bps=2e9))
        self.assertRegex(said, r"1518 B, mesh .* the device")
        self.assertRegex(said, r"1518 B, one-to-many .* line rate")

    def test_what_a_switch_knows_and_for_how_long_it_was_left(self) -> None:
        said = self.said(Fabric(), AddressTable(500))
        self.assertRegex(said, r"address caching capacity +500 +the device")
        self.assertIn("the device was left to forget for 5 min", " ".join(said.split()))

    def test_the_tester_is_named_where_it_was_the_limit(self) -> None:
        test = SwitchTest(SWITCH_TESTS, SIZES, SETTINGS, PORTS)
        labels = {"frame-size": "64", "direction": "mesh"}
        figures = [
            Figure("throughput", 1e5, labels, "tester-limit"),
            Figure("throughput-share", 0.1, labels, "tester-limit"),
            Figure("address-learning-rate", 1000.0, {}, "tester-limit"),
        ]
        said = shown(show_rfc2889, test, figures)
        self.assertRegex(said, r"64 B, mesh +100 000 +10\.0 % +the TESTER")
        self.assertRegex(said, r"address learning rate .* the TESTER")
        self.assertEqual(shown(show_rfc2889, test, []), "", "nothing measured, nothing shown")


class GroupsOfASwitch(unittest.TestCase):
    def test_every_table(self) -> None:
        test = GroupTest(GROUP_TESTS, SIZES[-1:], SETTINGS, PORTS, leave_s=3.0, max_groups=64)
        table = GroupTable(40, join_delay_s=0.012, leave_delay_s=1.5)
        rig = SimulatedPorts(SWITCH, 1, None, Fabric(), AddressTable(), groups=table)
        said = shown(show_rfc3918, test, findings_of(test, rig).figures)
        self.assertRegex(said, r"1518 B, multicast .* line rate")
        self.assertRegex(said, r"multicast group capacity +40 +the device")
        self.assertRegex(said, r"join to port3 +12\.\d* ms")
        self.assertRegex(said, r"leave to port2 +1\.5\d* s")
        self.assertIn("port1 to port2, port3, port4; 10 groups", said)


class Stamps(unittest.TestCase):
    """Whose stamps delays are by stands below every table that has any."""

    def trial(self, **keys: Any) -> TrialRecord:
        delays = SimulatedPorts(SWITCH).run(FrameTrial((64,), (LoadStep(1e4, 1.0),)), Observer()).directions[0].delay
        one = FrameDirectionResult(10, 1.0, 10, "send", delay=delays, **keys)
        return TrialRecord(trial=FrameTrial((64,), (LoadStep(1e4, 1.0),)), result=FrameTrialResult([one]))

    def remark(self, *trials: TrialRecord) -> str:
        test = FrameTest(("latency",), SIZES, FrameSettings(line_bps=1e9, streams=(SEND,)))
        figures = [Figure("latency-median", 1e-6, {"frame-size": "64", "direction": "send"})]
        return " ".join(shown(show_rfc2544, test, figures, trials=list(trials)).split())

    def test_each_kind_has_its_words(self) -> None:
        for by, words in (
            ("frame", "from the kernel's stamp of each frame as it leaves"),
            ("batch", "from handing over to the kernel's receive stamp"),
            ("card", "from the stamp of the card that sends"),
            ("driver", "from the driver's stamp of some frames"),
            ("model", "from first bit in to first bit out"),
        ):
            self.assertIn(words, self.remark(self.trial(stamped_by=by)))
        both = self.remark(self.trial(stamped_by="card"), self.trial(stamped_by="frame"))
        self.assertIn("as it leaves to that as it comes", both)
        self.assertIn("of the card that receives", both)

    def test_how_late_the_tester_itself_was(self) -> None:
        late = self.trial(tester=TesterHealth(late_p99_s=8e-6))
        self.assertIn("the tester sent up to 8.000 µs late (99 % of batches)", self.remark(self.trial(), late))
        self.assertNotIn("late (99 %", self.remark(self.trial()))

    def test_loads_that_were_held(self) -> None:
        settings = FrameSettings(line_bps=1e9, streams=frame_streams(["port1:port2"], "send").streams)
        test = LoadTest((0.5, 1.0), SIZES[:1], settings)
        figures = findings_of(test, SimulatedPorts(SWITCH)).figures
        said = " ".join(shown(show_held_loads, test, figures, trials=[self.trial(stamped_by="frame")]).split())
        self.assertRegex(said, r"50 % 744 04\d 744 04\d")
        self.assertIn("rates of one direction; delay from the kernel's stamp of each frame", said)
        said = " ".join(shown(show_held_loads, test, [], trials=[]).split())
        self.assertIn("delay by stamps of trials that are not kept", said)
