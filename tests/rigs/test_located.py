"""Frames lost at known places of a switch of this kernel with a lead on either side: found where they were lost."""

import os
import unittest

from harvok.clock import SYSTEM
from harvok.core.device.trial import DeviceTrial, notices_of
from harvok.core.ends import SEND
from harvok.core.observer import Observer
from harvok.core.samples import Sample
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.runner.device import WatchedDevice, followed
from harvok.testing.leads import Losing, Place, SwitchWithLeads

_TRIAL = FrameTrial((64,), (LoadStep(2000.0, 1.0),), (SEND,), pause_s=0.0)


@unittest.skipIf(os.geteuid() != 0, "needs root for network namespaces")
class AroundASwitch(unittest.TestCase):
    def told(self, where: Place | None) -> tuple[list[DeviceTrial], list[Sample]]:
        """What two trials say of a switch that loses one frame in fifty somewhere."""
        seen = list[Sample]()

        class Heard(Observer):
            def samples(self, samples: object) -> None:
                seen.extend(samples)  # type: ignore[arg-type]

        with SwitchWithLeads(Losing(where, 50)) as switch, followed(switch.device) as watch:
            assert watch
            rig = WatchedDevice(switch.ports, watch, switch.device, SYSTEM)
            for _ in range(2):
                rig.run(_TRIAL, Heard())
            return rig.trials, seen

    def test_frames_are_found_where_they_were_lost(self) -> None:
        places: tuple[Place, ...] = ("entry lead", "device", "exit lead")
        for where in places:
            trials, _ = self.told(where)
            for trial in trials:
                (loss,) = trial.losses
                self.assertGreater(loss.lost, 0)
                self.assertEqual((loss.certainty, dict(loss.places)[where]), ("exact", loss.lost), (where, loss))
            self.assertIn("none on the leads" if where == "device" else "on the lead", notices_of(trials, "sw")[0])

    def test_one_that_loses_nothing_counts_what_the_tester_does(self) -> None:
        trials, seen = self.told(None)
        self.assertEqual([(loss.lost, loss.certainty) for trial in trials for loss in trial.losses], [(0, "exact")] * 2)
        self.assertEqual(notices_of(trials, "dome-sw-a"), [])
        rates = [one for one in seen if one.source == "device" and one.quantity == "port-rate-fps"]
        self.assertTrue(any(one.value > 100 for one in rates if one.labels == {"port": "device2", "way": "out"}))
        self.assertTrue(any(one.quantity == "device-cpu" for one in seen))
