"""Frame trials on real rings: virtual rigs on this host, with devices made of its kernel."""

import os
import unittest
from collections.abc import Sequence
from pathlib import Path
from unittest.mock import patch

from harvok.clock import SYSTEM
from harvok.core.ends import RECEIVE, SEND
from harvok.core.frame_streams import frame_streams
from harvok.core.models.rig import RIG_FILE, Side, VirtualRig
from harvok.core.observer import Observer
from harvok.core.samples import Sample, SampleTable
from harvok.core.trials.frames import FRAME_DELAY, SENT_FRAMES, FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import NothingForwardedError, UsageError
from harvok.reports.rig_drawing import drawing
from harvok.rigs.device import Device
from harvok.rigs.frame_rigs import check_streams
from harvok.rigs.ports import FramePorts, Wiring
from harvok.rigs.simulated import SimulatedPorts
from harvok.rigs.virtual import VirtualPorts
from harvok.testing.rigs import check_rig

NOTHING = Observer()
PORTS = {"port1": "port1", "port2": "port2"}


BARE = {"version": 1, "name": "dome-sw-a", "rated": "1G"}


def rig(**keys: object) -> VirtualRig:
    return VirtualRig.model_validate({**BARE, "kind": "virtual", **keys})


def run(ports: FramePorts, **keys: object) -> FrameTrialResult:
    settings = {"frame_sizes": (128,), "steps": (LoadStep(2000.0, 0.3),), "pause_s": 0.0, **keys}
    return ports.run(FrameTrial(**settings), NOTHING)  # type: ignore[arg-type]


class Conformance(unittest.TestCase):
    def test_the_simulated_rig(self) -> None:
        self.assertEqual(check_rig(SimulatedPorts(Device(1e9, latency_s=1e-6))), [])

    def test_a_virtual_switch(self) -> None:
        with VirtualPorts(rig()) as ports:
            self.assertEqual(check_rig(ports), [])

    def test_a_rig_that_loses_frames_does_not_conform(self) -> None:
        self.assertTrue(check_rig(SimulatedPorts(Device(1e9, loss=0.5))))


class Devices(unittest.TestCase):
    def test_a_router_of_both_ip_versions(self) -> None:
        with VirtualPorts(rig(device="router")) as ports:
            for ip in (4, 6):
                result = run(ports, ip_version=ip, address_pairs=20, streams=(SEND, RECEIVE))
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

    def test_streams_from_many_ports_to_one(self) -> None:
        streams = frame_streams(["port1:port3", "port2:port3", "port3:port1"], "send").streams
        with VirtualPorts(rig(ports=3)) as ports:
            result = run(ports, streams=streams)
        self.assertEqual([one.direction for one in result.directions], [stream.name for stream in streams])
        for one in result.directions:
            self.assertGreater(one.sent_frames, 50)
            self.assertEqual((one.received_frames, one.foreign_frames), (one.sent_frames, 0))

    def test_ports_of_a_rig_file_have_names(self) -> None:
        names = {name: {"interface": f"eth{at}"} for at, name in enumerate(("north", "south", "east"))}
        file = RIG_FILE.validate_python(BARE | {"kind": "ports", "ports": names})
        self.assertEqual(file.port_names, ["north", "south", "east"])
        check_streams(file, frame_streams(["north:east"], "send").streams)
        for streams, words in (
            ((SEND,), "has 3 ports, so send does not say"),
            (frame_streams(["north:west"], "send").streams, "no port west"),
        ):
            with self.assertRaisesRegex(UsageError, words):
                check_streams(file, streams)
        with self.assertRaisesRegex(ValueError, "beside a router east needs addresses"):
            RIG_FILE.validate_python(BARE | {"kind": "ports", "device": "router", "ports": names})
        with self.assertRaisesRegex(ValueError, "a router has two ports"):
            rig(device="router", ports=3)
        self.assertEqual([line.count("┌") for line in drawing(file)], [3, 0, 0, 0, 1, 0, 0, 0])

    def test_a_reset_leaves_a_gap(self) -> None:
        with VirtualPorts(rig()) as ports:
            (one,) = run(ports, steps=(LoadStep(1000.0, 3.0),), reset_at_s=0.5, pause_s=1.0).directions
            self.assertGreater(one.longest_gap_s, 0.9)
            self.assertGreater(one.received_frames, 100)


class Steps(unittest.TestCase):
    def test_each_step_keeps_its_own_account_both_ways(self) -> None:
        steps = LoadStep(2000.0, 0.3), LoadStep(40_000.0, 0.2), LoadStep(500.0, 0.2)
        with VirtualPorts(rig()) as ports:
            for one in run(ports, steps=steps, streams=(SEND, RECEIVE)).directions:
                self.assertEqual(sum(step.sent_frames for step in one.steps), one.sent_frames)
                self.assertEqual(sum(step.received_frames for step in one.steps), one.received_frames)
                for step, asked in zip(one.steps, steps, strict=True):
                    self.assertEqual(step.received_frames, step.sent_frames)
                    self.assertTrue(0 < step.sent_frames <= asked.load_fps * asked.duration_s + 2)
                    assert step.delay
                    self.assertGreater(step.delay.counted, 0)

    def test_losses_are_those_of_the_step_in_which_the_frames_were_sent(self) -> None:
        line_fps = 100e6 / 8 / 1538
        steps = LoadStep(0.3 * line_fps, 0.3), LoadStep(3 * line_fps, 0.5), LoadStep(0.3 * line_fps, 0.3)
        with VirtualPorts(rig(shape="100M", buffer="16k")) as ports:
            (one,) = run(ports, frame_sizes=(1518,), steps=steps).directions
        if one.tester.longest_stall_s < 0.01:  # after a stall the shaper lets a burst pass
            lost = [step.lost_frames for step in one.steps]
            self.assertEqual(lost[0], 0)
            self.assertGreater(lost[1], 100)
            self.assertLess(lost[2], 30)  # while the queue is still full
        self.assertEqual(sum(step.lost_frames for step in one.steps), one.lost_frames)

    def test_a_step_that_the_host_fell_short_of_does_not_hold_up_the_next(self) -> None:
        """The kernel takes slots in turn: one that is left out would have it wait there."""

        def batch(load_fps: float, _: int) -> int:
            return 1 if load_fps > 1e6 else 64

        with VirtualPorts(rig()) as ports, patch("harvok.rigs.ports.batch_for", batch):
            steps = LoadStep(3e6, 0.05), LoadStep(1000.0, 0.3), LoadStep(2000.0, 0.2)
            (one,) = run(ports, steps=steps).directions
        self.assertLess(one.steps[0].sent_frames, 150_000)
        self.assertGreater(one.steps[2].sent_frames, 0)
        self.assertEqual([step.lost_frames for step in one.steps], [0, 0, 0])
        self.assertEqual([step.sent_frames % 64 for step in one.steps], [0, 0, 0])


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
            wiring = Wiring("deaf", PORTS, (Side(), Side()), "switch", 1500, outer._wiring.namespaces)
            with FramePorts(wiring) as ports, self.assertRaisesRegex(NothingForwardedError, "none arrived on port2"):
                run(ports, ip_version=None)

    def test_a_router_that_is_not_there(self) -> None:
        with VirtualPorts(rig()) as outer:
            side = Side(addresses=["198.18.0.2/16"], gateways=["198.18.0.1"])
            wiring = Wiring("none", PORTS, (side, side), "router", 1500, outer._wiring.namespaces)
            with FramePorts(wiring) as ports, self.assertRaisesRegex(NothingForwardedError, "does not answer"):
                run(ports)


class Tidiness(unittest.TestCase):
    def test_nothing_is_left_of_a_rig(self) -> None:
        virtual = VirtualPorts(rig())
        with virtual as ports:
            run(ports)
            holder = virtual._device.pid
            self.assertTrue(Path(f"/proc/{holder}").exists())
        self.assertFalse(Path(f"/proc/{holder}").exists())
        children = Path(f"/proc/{os.getpid()}/task/{os.getpid()}/children").read_text().split()
        self.assertNotIn(str(holder), children)

    def test_progress_is_told_while_frames_flow(self) -> None:
        table = SampleTable()

        class Listener(Observer):
            def samples(self, samples: Sequence[Sample]) -> None:
                table.add(samples)

        with VirtualPorts(rig()) as ports:
            ports.run(FrameTrial((128,), (LoadStep(1000.0, 1.0),), pause_s=0.0), Listener())
        (block,) = table.columns
        sent = [frames for _, frames in block.of(SENT_FRAMES)]
        self.assertGreater(len(sent), 2)
        self.assertEqual(sent, sorted(sent))
        self.assertTrue(block.of(FRAME_DELAY))
        self.assertGreater(SYSTEM.wall_ns(), 10**18)
