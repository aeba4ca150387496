"""Frame trials on real rings: virtual rigs on this host, with devices made of its kernel."""

import os
import unittest
from pathlib import Path

from harvok.clock import SYSTEM
from harvok.core.frame_trial import FrameTrial, FrameTrialResult, LoadStep
from harvok.core.models.rig import Side, VirtualRig
from harvok.core.observer import Observer
from harvok.errors import NothingForwardedError, UsageError
from harvok.rigs.device import Device
from harvok.rigs.ports import FramePorts, Wiring
from harvok.rigs.simulated import SimulatedRig
from harvok.rigs.virtual import VirtualPorts
from harvok.testing.rigs import check_rig

NOTHING = Observer()


def rig(**keys: object) -> VirtualRig:
    return VirtualRig.model_validate({"version": 1, "kind": "virtual", "name": "dome-sw-a", "rated": "1G", **keys})


def run(ports: FramePorts, **keys: object) -> FrameTrialResult:
    settings = {"frame_sizes": (128,), "steps": (LoadStep(2000.0, 0.3),), "pause_s": 0.0, **keys}
    return ports.run(FrameTrial(**settings), NOTHING)  # type: ignore[arg-type]


class Conformance(unittest.TestCase):
    def test_the_simulated_rig(self) -> None:
        self.assertEqual(check_rig(SimulatedRig(Device(1e9, latency_s=1e-6))), [])

    def test_a_virtual_switch(self) -> None:
        with VirtualPorts(rig()) as ports:
            self.assertEqual(check_rig(ports), [])

    def test_a_rig_that_loses_frames_does_not_conform(self) -> None:
        self.assertTrue(check_rig(SimulatedRig(Device(1e9, loss=0.5))))


class Devices(unittest.TestCase):
    def test_a_router_of_both_ip_versions(self) -> None:
        with VirtualPorts(rig(device="router")) as ports:
            for ip in (4, 6):
                result = run(ports, ip_version=ip, address_pairs=20, directions=("send", "receive"))
                for one in result.directions:
                    self.assertEqual((one.received_frames, one.duplicates), (one.sent_frames, 0))
            with self.assertRaisesRegex(UsageError, "bare Ethernet"):
                run(ports, ip_version=None)

    def test_a_wire_carries_bare_ethernet_and_jumbo_frames(self) -> None:
        with VirtualPorts(rig(device="wire", mtu=9000)) as ports:
            ports.check([64, 9018], None, 1)
            (one,) = run(ports, frame_sizes=(64, 9018), ip_version=None).directions
            self.assertEqual((one.received_frames, one.lost_frames, one.duplicates), (one.sent_frames, 0, 0))
            self.assertGreater(one.sent_frames, 2)

    def test_a_shaped_switch_loses_what_is_too_much(self) -> None:
        with VirtualPorts(rig(shape="100M", buffer="16k")) as ports:
            line_fps = 100e6 / 8 / 1538
            (one,) = run(ports, frame_sizes=(1518,), steps=(LoadStep(2 * line_fps, 0.5),)).directions
            fits = 100e6 * one.sending_s / 8 / 1538
            self.assertLess(one.received_frames, 1.05 * fits + 20)
            if one.sent_frames > 1.2 * fits + 20:  # unless this host was too busy to overload it
                self.assertGreater(one.last_loss_s or 0, 0.1)

    def test_a_reset_leaves_a_gap(self) -> None:
        with VirtualPorts(rig()) as ports:
            (one,) = run(ports, steps=(LoadStep(1000.0, 3.0),), reset_at_s=0.5, pause_s=1.0).directions
            self.assertGreater(one.longest_gap_s, 0.9)
            self.assertGreater(one.received_frames, 100)


class WhatIsRefused(unittest.TestCase):
    def test_frames_that_do_not_fit(self) -> None:
        with VirtualPorts(rig(mtu=1500)) as ports:
            for sizes, ip, pairs, words in (
                ([64, 1519], 4, 1, "MTU of 1500 B allows 1518 B"),
                ([64], 6, 1, "cannot hold an IPv6 header"),
                ([64], 4, 10**6, "address pairs"),
            ):
                with self.assertRaisesRegex(UsageError, words):
                    ports.check(sizes, ip, pairs)  # type: ignore[arg-type]

    def test_a_device_that_forwards_nothing_is_found_at_once(self) -> None:
        """A router does not forward bare Ethernet, whatever the rig file calls it."""
        with VirtualPorts(rig(device="router")) as outer:
            wiring = Wiring("deaf", ("port1", "port2"), (Side(), Side()), "switch", 1500, outer._wiring.namespaces)
            with FramePorts(wiring) as ports, self.assertRaisesRegex(NothingForwardedError, "none arrived on port2"):
                run(ports, ip_version=None)

    def test_a_router_that_is_not_there(self) -> None:
        with VirtualPorts(rig()) as outer:
            side = Side(addresses=["198.18.0.2/16"], gateways=["198.18.0.1"])
            wiring = Wiring("none", ("port1", "port2"), (side, side), "router", 1500, outer._wiring.namespaces)
            with FramePorts(wiring) as ports, self.assertRaisesRegex(NothingForwardedError, "does not answer"):
                run(ports)


class Tidiness(unittest.TestCase):
    def test_nothing_is_left_of_a_rig(self) -> None:
        virtual = VirtualPorts(rig())
        with virtual as ports:
            run(ports)
            holder = virtual._device._process.pid
            self.assertTrue(Path(f"/proc/{holder}").exists())
        self.assertFalse(Path(f"/proc/{holder}").exists())
        children = Path(f"/proc/{os.getpid()}/task/{os.getpid()}/children").read_text().split()
        self.assertNotIn(str(holder), children)

    def test_progress_is_told_while_frames_flow(self) -> None:
        told = []

        class Listener(Observer):
            def progress(self, progress):  # type: ignore[no-untyped-def]
                told.append(progress)

        with VirtualPorts(rig()) as ports:
            ports.run(FrameTrial((128,), (LoadStep(1000.0, 1.0),), pause_s=0.0), Listener())
        self.assertGreater(len(told), 2)
        self.assertLessEqual(told[0].sent_frames, told[-1].sent_frames)
        self.assertTrue(told[-1].delay_s)
        self.assertGreater(SYSTEM.wall_ns(), 10**18)
