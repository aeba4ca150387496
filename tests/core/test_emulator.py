import unittest
from dataclasses import replace

from harvok.core.figures import Figure
from harvok.core.impairment import Impairment, Stage
from harvok.core.judgement.emulator import judge_emulator
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.errors import UnsupportedError
from harvok.host.netem import message_of
from harvok.rigs.device import Device
from harvok.rigs.simulated import SimulatedPorts
from harvok.testing.measuring import findings_of

SIZE = FrameSize("512", (512,))
SETTINGS = FrameSettings(1e9, full_s=10.0, short_s=1.0, pause_s=0.0, resolution=0.005)


class TheProcedure(unittest.TestCase):
    def test_delay_loss_and_rate_of_a_modelled_box(self) -> None:
        set_to = Stage(0.0, Impairment(delay_s=0.005, rate_bps=200e6))
        test = EmulatorTest(set_to, (SIZE,), SETTINGS)
        box = Device(port_bps=1e9, forwarding_bps=200e6, latency_s=0.005, buffer_frames=100)
        findings = findings_of(test, SimulatedPorts(box))
        judged = judge_emulator(set_to, findings.figures, 50e-6, {"512": 0.0})
        self.assertEqual({finding.verdict for finding in judged}, {"ACCEPT"}, judged)
        self.assertEqual(len(judged), 3)
        wrongly_set = replace(set_to, send=Impairment(0.006))
        late = judge_emulator(wrongly_set, findings.figures, 50e-6, {"512": 0.0})
        self.assertEqual([finding.verdict for finding in late], ["REJECT", "ACCEPT"])
        unknown = judge_emulator(wrongly_set, findings.figures, 50e-6, {})
        self.assertEqual([finding.verdict for finding in unknown], ["RETEST", "ACCEPT"])
        self.assertIn("harvok calibrate", unknown[0].advice)
        self.assertIn("set 6.000 ms, measured 5.0", late[0].reason)


class TheVerdict(unittest.TestCase):
    LABELS = {"frame-size": "64", "direction": "send"}

    def verdicts(self, wanted: Impairment, delay_s: float, loss: float, sent: int = 10_000) -> list[str]:
        figures = [
            Figure("frames-sent", sent, self.LABELS),
            Figure("latency-median", delay_s, self.LABELS),
            Figure("frame-loss", loss, self.LABELS),
        ]
        return [f.verdict for f in judge_emulator(Stage(0.0, wanted), figures, 100e-6, {"64": 20e-6})]

    def test_the_testers_own_delay_is_taken_off(self) -> None:
        self.assertEqual(self.verdicts(Impairment(0.035), 0.035_110, 0.0), ["ACCEPT", "ACCEPT"])
        self.assertEqual(self.verdicts(Impairment(0.035), 0.035_130, 0.0), ["REJECT", "ACCEPT"])

    def test_loss_by_its_binomial_interval(self) -> None:
        self.assertEqual(self.verdicts(Impairment(loss=0.01), 0.0, 0.011), ["ACCEPT", "ACCEPT"])
        self.assertEqual(self.verdicts(Impairment(loss=0.01), 0.0, 0.016), ["REJECT", "ACCEPT"])
        self.assertEqual(self.verdicts(Impairment(loss=0.0001), 0.0, 0.0, 1000), ["RETEST", "ACCEPT"])
        self.assertEqual(self.verdicts(Impairment(), 0.0, 0.001), ["REJECT", "ACCEPT"])

    def test_nothing_came_through(self) -> None:
        judged = judge_emulator(Stage(0.0), [Figure("frames-sent", 100.0, self.LABELS)], 1e-4, {"64": 20e-6})
        self.assertEqual([finding.verdict for finding in judged], ["REJECT"])


class TheKernelsOwn(unittest.TestCase):
    """This kernel has no netem, so the message that would be sent is what can be tested."""

    def test_the_message(self) -> None:
        wanted = Impairment(0.021, 0.001, loss=0.005, duplication=0.01, rate_bps=50e6, queue_bytes=150_000)
        message = message_of(wanted)
        self.assertEqual((message["delay"], message["jitter"], message["rate"]), (21_000, 1000, "50000000bit"))
        self.assertEqual((message["loss"], message["duplicate"], message["limit"]), (0.5, 1.0, 100))

    def test_it_is_one_that_the_library_can_send(self) -> None:
        from pyroute2.netlink.rtnl.tcmsg import sched_netem

        options = sched_netem.get_parameters(message_of(Impairment(0.005, loss=0.01, duplication=0.02)))
        self.assertEqual(round(options["loss"] / (2**32 - 1), 4), 0.01)
        self.assertEqual(round(options["duplicate"] / (2**32 - 1), 4), 0.02)
        self.assertGreater(options["delay"], 0)

    def test_what_it_has_no_word_for(self) -> None:
        for wanted in (
            Impairment(burst_loss=0.01),
            Impairment(spread="recorded", recorded_s=(0.1,)),
            Impairment(0.01, 0.001, spread="normal"),
        ):
            with self.assertRaises(UnsupportedError):
                message_of(wanted)
