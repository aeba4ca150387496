import contextlib
import json
import os
import select
import socket
import subprocess
import sys
import unittest
from collections.abc import Sequence

import numpy as np

from harvok.clock import SYSTEM
from harvok.core.impairment import Impairment, ImpairmentPlan, ImpairmentReport, Stage
from harvok.core.models.rig import RIG_FILE
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import NearEndError
from harvok.rigs.frame_rigs import open_rig
from harvok.rigs.impaired import ImpairedPath
from harvok.traffic.bridge import slots_as_rows
from harvok.traffic.impair_worker import BridgeOrders, slots_for
from tests.whole.test_udp import NEEDS_ROOT

MS = 1_000_000
_MARK = b"hvk"
_SOL_PACKET, _AUXDATA, _EVERY_PROTOCOL = 263, 8, 3  # uapi linux/socket.h, if_packet.h, if_ether.h


def plan(send: Impairment, receive: Impairment = Impairment(), seed: int = 7) -> ImpairmentPlan:
    return ImpairmentPlan("test", (Stage(0.0, send, receive),), seed)


class Orders(unittest.TestCase):
    def test_there_and_back(self) -> None:
        wanted = ImpairmentPlan(
            "x", (Stage(0.0, Impairment(0.005, spread="recorded", recorded_s=(0.1, 0.2))), Stage(20.0)), 9
        )
        orders = BridgeOrders(("a", "b"), wanted, ["/proc/1/ns/net"], 5e5)
        self.assertEqual(BridgeOrders.decode(orders.encode()), orders)

    def test_room_for_what_is_held(self) -> None:
        self.assertGreaterEqual(slots_for(plan(Impairment(0.035)), 600_000), 35e-3 * 600_000 * 1.5)
        self.assertEqual(slots_for(plan(Impairment()), 1000), 1 << 13)
        self.assertEqual(slots_for(plan(Impairment(10.0)), 1e6), 1 << 18)


class Slots(unittest.TestCase):
    def test_a_slice_stands_for_slots_that_follow_one_another_and_for_no_others(self) -> None:
        """Reordered, a slot may stand between two that look like the ends of a row."""
        ring = np.arange(200)
        for slots in ([5], [5, 6, 7], [109, 104, 111], [5, 7, 6, 8], [9, 5], [3, 3, 5]):
            rows = slots_as_rows(np.array(slots))
            self.assertEqual(ring[rows].tolist(), slots)
        self.assertIsInstance(slots_as_rows(np.array([5, 6, 7])), slice)


@NEEDS_ROOT
class BetweenTwoLeads(unittest.TestCase):
    """Two veth pairs: frames go in at one outer end and come out at the other."""

    def setUp(self) -> None:
        mark = f"hvb{os.getpid() % 10000}"
        self.outer, self.inner = (f"{mark}a", f"{mark}d"), (f"{mark}b", f"{mark}c")
        for one, other in zip(self.outer, self.inner, strict=True):
            subprocess.run(["ip", "link", "add", one, "type", "veth", "peer", "name", other], check=True)
            self.addCleanup(subprocess.run, ["ip", "link", "del", one], capture_output=True)
            for port in (one, other):
                quiet = f"/proc/sys/net/ipv6/conf/{port}/disable_ipv6"
                subprocess.run(["sh", "-c", f"echo 1 > {quiet}; ip link set {port} up"], check=True)

    def sockets(self) -> tuple[socket.socket, socket.socket]:
        ends = []
        for port in self.outer:
            sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x88B5))
            sock.bind((port, 0x88B5))
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
            self.addCleanup(sock.close)
            ends.append(sock)
        return ends[0], ends[1]

    def carried(
        self, impairment: Impairment, sizes: Sequence[int], gap_s: float = 0.0005
    ) -> tuple[list[bytes], list[int], ImpairmentReport]:
        """(frames that came out, when each did after it went in, in ns, what the bridge says of it)."""
        with ImpairedPath(self.inner, plan(impairment)) as path:
            sending, hearing = self.sockets()
            poll = select.poll()
            poll.register(hearing, select.POLLIN)
            sent_ns: list[int] = []
            came: list[bytes] = []
            took: list[int] = []

            def hear(silence_ms: float) -> None:
                while poll.poll(silence_ms):
                    frame = hearing.recv(4096)
                    number = int.from_bytes(frame[17:21])
                    came.append(frame)
                    took.append(SYSTEM.now_ns() - sent_ns[min(number, len(sent_ns) - 1)])

            for number, size in enumerate(sizes):
                sent_ns.append(SYSTEM.now_ns())
                sending.send(frame_of(number, size))
                SYSTEM.sleep(gap_s)
                hear(0)
            hear(500)
            report = path.stop()
        assert report and report.over
        return came, took, report

    def numbers(self, came: Sequence[bytes]) -> list[int]:
        return [int.from_bytes(frame[17:21]) for frame in came]

    def test_every_frame_of_every_size_comes_out_as_it_went_in(self) -> None:
        sizes = [60, 61, 64, 200, 1000, 1513, 1514] * 30
        came, _, report = self.carried(Impairment(), sizes)
        self.assertEqual(came, [frame_of(number, size) for number, size in enumerate(sizes)])
        there, back = report.directions
        self.assertEqual((there.in_frames, there.out_frames, there.out_bytes), (210, 210, sum(sizes)))
        self.assertEqual((back.in_frames, there.lost, there.queued_frames), (0, 0, 0))

    def test_vlan_tags_are_carried(self) -> None:
        _, hearing = self.sockets()
        hearing.settimeout(20)
        hearing.setsockopt(_SOL_PACKET, _AUXDATA, 1)
        hearing.bind((self.outer[1], _EVERY_PROTOCOL))
        with ImpairedPath(self.inner, plan(Impairment(0.005))) as path:
            sending, _ = self.sockets()
            frames = [frame_of(number, 60 + number) for number in range(200)]
            for number, frame in enumerate(frames):
                tag = bytes.fromhex("8100") + (0x6000 | number).to_bytes(2)
                sending.send(frame[:12] + tag + frame[12:] if number % 3 else frame)
            came = [hearing.recvmsg(4096, 256) for _ in range(200)]
            report = path.stop()
        self.assertEqual([frame for frame, *_ in came], frames)
        tags = [int.from_bytes(reported[0][2][16:18], sys.byteorder) for _, reported, *_ in came]
        self.assertEqual(tags, [0x6000 | number if number % 3 else 0 for number in range(200)])
        assert report
        self.assertEqual((report.directions[0].out_frames, report.directions[0].too_large), (200, 0))

    def test_no_frame_comes_before_its_time(self) -> None:
        came, took, report = self.carried(Impairment(0.02), [200] * 100, 0.002)
        self.assertEqual(len(came), 100)
        self.assertGreaterEqual(min(took), 20 * MS)
        self.assertLess(sorted(took)[50], 1000 * MS)
        self.assertGreaterEqual(report.directions[0].given_min_s, 0.02)

    def test_the_same_seed_loses_the_same_frames(self) -> None:
        first = self.numbers(self.carried(Impairment(loss=0.1), [100] * 300)[0])
        second = self.numbers(self.carried(Impairment(loss=0.1), [100] * 300)[0])
        self.assertEqual(first, second)
        self.assertTrue(240 < len(first) < 295, len(first))

    def test_duplication_reordering_and_corruption(self) -> None:
        came, _, report = self.carried(Impairment(duplication=0.2), [100] * 200)
        doubled = report.directions[0].duplicated
        self.assertEqual(len(came), 200 + doubled)
        self.assertGreater(doubled, 15)
        came, _, report = self.carried(Impairment(0.001, reordering=0.1, reorder_by_s=0.004), [100] * 200)
        numbers = self.numbers(came)
        self.assertEqual(sorted(numbers), list(range(200)))
        self.assertNotEqual(numbers, sorted(numbers))
        came, _, report = self.carried(Impairment(corruption=0.3), [300] * 200)
        corrupted = [frame for number, frame in enumerate(came) if frame != frame_of(number, 300)]
        self.assertEqual(len(corrupted), report.directions[0].corrupted)
        self.assertTrue(all(frame[:14] == frame_of(0, 300)[:14] for frame in corrupted))

    def test_copies_go_round_the_end_of_the_sending_ring(self) -> None:
        """The ring has 4096 slots: doubled frames stand across its end sooner or later, and all else waits for them."""
        came, _, report = self.carried(Impairment(duplication=0.5), [60] * 6000, 0.0002)
        there = report.directions[0]
        self.assertGreater(there.out_frames, 2 * 4096)
        self.assertEqual((len(came), there.queued_frames), (6000 + there.duplicated, 0))
        self.assertEqual(set(self.numbers(came)), set(range(6000)))

    def test_what_does_not_fit_into_the_queue_is_dropped(self) -> None:
        came, _, report = self.carried(Impairment(rate_bps=1e6, queue_bytes=5000), [996] * 60, 0.0)
        there = report.directions[0]
        self.assertEqual(there.queue_drops + len(came), 60)
        self.assertGreater(there.queue_drops, 20)

    def test_it_can_become_something_else(self) -> None:
        with ImpairedPath(self.inner, plan(Impairment(loss=1.0))) as path:
            sending, hearing = self.sockets()
            hearing.settimeout(0.2)
            sending.send(frame_of(0, 100))
            with self.assertRaises(TimeoutError):
                hearing.recv(4096)
            path.apply(plan(Impairment()))
            came = b""
            for _ in range(100):  # until the worker has taken the change
                sending.send(frame_of(1, 100))
                with contextlib.suppress(TimeoutError):
                    came = hearing.recv(4096)
                    break
            self.assertEqual(came, frame_of(1, 100))

    def test_a_port_that_is_not_there(self) -> None:
        with self.assertRaises(NearEndError), ImpairedPath(("hvnothing9", self.inner[0]), plan(Impairment())):
            self.fail("it cannot start")


def frame_of(number: int, size: int) -> bytes:
    """A made-up frame without FCS, of an EtherType for experiments (IEEE 802)."""
    head = bytes.fromhex("0225440000bb0225440000aa88b5") + _MARK + number.to_bytes(4)
    return head + bytes(at % 251 for at in range(size - len(head)))


class AsTheDeviceOfAVirtualRig(unittest.TestCase):
    """Works without root where user namespaces do."""

    RIG = {"version": 1, "kind": "virtual", "name": "path", "rated": "1G"}

    def test_delay_and_loss_of_a_trial(self) -> None:
        rig = {
            "version": 1,
            "kind": "virtual",
            "name": "path",
            "rated": "1G",
            "device": "impairment",
            "impairment": "metro",
        }
        file = RIG_FILE.validate_python(rig)

        def run() -> FrameTrialResult:
            with open_rig(file, 0, SYSTEM) as opened:
                return opened.run(FrameTrial((256,), (LoadStep(500.0, 0.5),), pause_s=0.3), Observer())

        try:
            (there,) = run().directions
        except NearEndError as error:
            self.skipTest(error.message)
        assert there.delay
        self.assertEqual(there.lost_frames, 0)
        self.assertGreaterEqual(there.delay.min_s, 0.0005)
        self.assertLess(there.delay.min_s, 0.1)

    def test_its_file_says_both_or_neither(self) -> None:
        for wrong in ({"device": "impairment"}, {"impairment": "metro"}, {"device": "switch", "impairment": "metro"}):
            with self.assertRaises(ValueError):
                RIG_FILE.validate_python(self.RIG | wrong)


class TheWorker(unittest.TestCase):
    def test_what_keeps_it_from_starting_is_said(self) -> None:
        orders = BridgeOrders(("hvnothing8", "hvnothing9"), plan(Impairment()))
        command = [sys.executable, "-m", "harvok.traffic.impair_worker", orders.encode()]
        done = subprocess.run(command, capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=60)
        self.assertEqual(done.stderr, "")
        self.assertIn("fault", json.loads(done.stdout))
