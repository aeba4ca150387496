"""A modelled device that is asked in virtual time, with the faults of real agents: through the whole of a run."""

import unittest
from collections.abc import Sequence
from dataclasses import replace

from harvok.clock import SYSTEM
from harvok.core.device.trial import DeviceTrial, notices_of
from harvok.core.ends import RECEIVE, SEND
from harvok.core.models.device import USUAL_EVERY_S
from harvok.core.models.rig import SimulatedAgentKeys, SimulatedRig
from harvok.core.models.rig import SimulatedDevice as SimulatedDeviceKeys
from harvok.core.observer import Observer
from harvok.core.samples import Sample
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.simulated import SimulatedPorts, device_of
from harvok.rigs.simulated_device import DEVICE_PORTS, FollowedModel
from harvok.runner.device import WatchedDevice

LOSSY = SimulatedDeviceKeys(loss=0.001)
BOTH = FrameTrial((64,), (LoadStep(10_000.0, 20.0),), (SEND, RECEIVE))


class Heard(Observer):
    def __init__(self) -> None:
        self.seen: list[Sample] = []
        self.told: list[DeviceTrial] = []

    def samples(self, samples: Sequence[Sample]) -> None:
        self.seen.extend(samples)

    def device_told(self, told: DeviceTrial) -> None:
        self.told.append(told)


def watched(keys: SimulatedAgentKeys, device: SimulatedDeviceKeys = LOSSY, trials: int = 3) -> Heard:
    """What is heard of some trials in both directions."""
    file = SimulatedRig(version=1, kind="simulated", name="dome-sw-a", rated=1e9, device=device, agent=keys)
    model, heard = FollowedModel(file, keys), Heard()
    ports = SimulatedPorts(device_of(file), 1, model)
    settings = DeviceSettings(file.name, WatchOrders(SnmpAccess("", 0), USUAL_EVERY_S), dict(DEVICE_PORTS), model)
    rig = WatchedDevice(ports, model, settings, SYSTEM)
    for _ in range(trials):
        rig.run(BOTH, heard)
    return heard


class InVirtualTime(unittest.TestCase):
    def assert_lost_at(self, heard: Heard, places: dict[str, str]) -> None:
        """Where every frame of each direction was lost, in all trials."""
        for told in heard.told:
            for loss in told.losses:
                self.assertGreater(loss.lost, 0)
                self.assertEqual((loss.certainty, loss.why), ("exact", ""))
                self.assertEqual(dict(loss.places)[places[loss.direction]], loss.lost)

    def test_loss_inside_is_found_there(self) -> None:
        heard = watched(SimulatedAgentKeys())
        self.assert_lost_at(heard, {"send": "device", "receive": "device"})
        self.assertIn("outDiscards of device2", " ".join(notices_of(heard.told, "dome-sw-a")))

    def test_a_lead_that_spoils_frames_is_found_in_both_directions(self) -> None:
        heard = watched(SimulatedAgentKeys(bad_lead="port1"))
        self.assert_lost_at(heard, {"send": "entry lead", "receive": "exit lead"})
        self.assertIn("FCS errors of device1", " ".join(notices_of(heard.told, "dome-sw-a")))

    def test_counters_that_are_told_late_are_waited_for(self) -> None:
        heard = watched(SimulatedAgentKeys(refresh=3.0))
        self.assert_lost_at(heard, {"send": "device", "receive": "device"})
        self.assertEqual(heard.told[-1].refresh_s, 3.0)
        rates = [one.value for one in heard.seen if one.quantity == "port-rate-fps" and one.labels["port"] == "device1"]
        self.assertFalse([value for value in rates if value > 10_100], "no peaks of the agent's making")

    def test_counters_of_32_bits_may_wrap_in_mid_trial(self) -> None:
        heard = watched(SimulatedAgentKeys(bits=32, wraps_after=250_000))
        self.assert_lost_at(heard, {"send": "device", "receive": "device"})

    def test_a_restart_in_mid_trial_is_named_and_nothing_is_claimed_of_it(self) -> None:
        heard = watched(SimulatedAgentKeys(restart_at=10.0))
        self.assertEqual([told.restarts for told in heard.told], [1, 0, 0])
        self.assertIn("restarted once in mid-test", " ".join(notices_of(heard.told, "dome-sw-a")))
        for loss in heard.told[0].losses:
            self.assertNotEqual(loss.certainty, "exact")
        self.assertEqual({loss.certainty for told in heard.told[1:] for loss in told.losses}, {"exact"})

    def test_which_ports_the_ends_are_wired_to_is_found_and_confirmed(self) -> None:
        keys = SimulatedAgentKeys()
        file = SimulatedRig(version=1, kind="simulated", name="dome-sw-a", rated=1e9, device=LOSSY, agent=keys)
        model = FollowedModel(file, keys)
        settings = DeviceSettings(file.name, WatchOrders(SnmpAccess("", 0), USUAL_EVERY_S), {}, model)
        rig = WatchedDevice(SimulatedPorts(device_of(file), 1, model), model, settings, SYSTEM)
        for _ in range(3):
            rig.run(replace(BOTH, streams=(SEND,)), Observer())
        self.assertEqual([len(told.losses) for told in rig.trials], [0, 1, 1])
        self.assertIn('port1 = "device1", port2 = "device2"', rig.trials[1].remarks[0])

    def test_a_device_that_loses_nothing_agrees(self) -> None:
        heard = watched(SimulatedAgentKeys(), SimulatedDeviceKeys(), trials=1)
        self.assertEqual([loss.lost for loss in heard.told[0].losses], [0, 0])
        self.assertEqual(notices_of(heard.told, "dome-sw-a"), [])
