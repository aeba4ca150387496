"""Sending by the express data path: what it refuses, and every frame accounted for on virtual rigs."""

import errno
import unittest
from unittest import mock

from harvok.core.models.rig import RIG_FILE, VirtualRig
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.core.wire.frame import FrameIp, build, min_frame_bytes
from harvok.rigs.ports import FramePorts
from harvok.rigs.virtual import VirtualPorts
from harvok.traffic.xdp_ring import NoXdpError, XdpSendRing, may_lock_memory
from tests.traffic.test_rings import ENDS
from tests.whole.test_udp import NEEDS_ROOT

_MODULE = "harvok.traffic.xdp_ring"
WIRE = {"version": 1, "kind": "virtual", "name": "wire", "rated": "1G", "device": "wire", "sender": "xdp"}


class Refused(unittest.TestCase):
    def refused(self, frame_bytes: int, slots: int) -> str:
        frame = build(frame_bytes, 4, ENDS[4], 7, 0)
        with self.assertRaises(NoXdpError) as caught:
            XdpSendRing("nowhere0", [frame], slots, 4)
        return str(caught.exception)

    def test_what_it_cannot_send(self) -> None:
        self.assertIn("more than 4096 B do not fit", self.refused(9018, 1024))
        self.assertIn("no power of two", self.refused(64, 1536))
        with mock.patch(f"{_MODULE}.os.uname", return_value=mock.Mock(machine="aarch64")):
            self.assertIn("order of memory", self.refused(64, 1024))

    def test_what_the_kernel_says(self) -> None:
        for number, words in (
            (errno.EAFNOSUPPORT, "this kernel has none"),
            (errno.EBUSY, "another program"),
            (errno.EPERM, "this user may not use it"),
            (errno.ENOBUFS, "ulimit -l"),
            (errno.EIO, "the kernel refused"),
        ):
            with (
                mock.patch(f"{_MODULE}.open_packet_socket"),
                mock.patch(f"{_MODULE}.socket.socket", side_effect=OSError(number, "no")),
            ):
                self.assertIn(words, self.refused(64, 1024))

    def test_a_limit_that_cannot_be_raised_is_no_fault(self) -> None:
        with mock.patch(f"{_MODULE}.resource.setrlimit", side_effect=ValueError):
            may_lock_memory()

    def test_a_station_decides_itself(self) -> None:
        ports = {"a": {"interface": "eth1"}, "b": {"interface": "eth1", "station": "hall"}}
        remote = {"version": 1, "kind": "remote", "name": "rooms", "rated": "1G", "ports": ports}
        for key in ({"sender": "xdp"}, {"workers": 2}):
            with self.assertRaisesRegex(ValueError, "a station decides itself"):
                RIG_FILE.validate_python({**remote, **key})


class Noted(Observer):
    def __init__(self) -> None:
        self.notices: list[str] = []

    def notice(self, text: str) -> None:
        self.notices.append(text)


@NEEDS_ROOT
class OnAVirtualRig(unittest.TestCase):
    def setUp(self) -> None:
        self.noted = Noted()
        self.ports: FramePorts = self.enterContext(VirtualPorts(VirtualRig.model_validate(WIRE)))

    def ran(self, **keys: object) -> FrameTrialResult:
        settings = {"frame_sizes": (128,), "steps": (LoadStep(20_000.0, 0.2),), "pause_s": 0.0, **keys}
        return self.ports.run(FrameTrial(**settings), self.noted)  # type: ignore[arg-type]

    def test_every_frame_comes_once_and_as_it_was_sent(self) -> None:
        forms: tuple[FrameIp, ...] = (4, 6, None)
        for ip in forms:
            for size in (min_frame_bytes(ip), 1518):
                (one,) = self.ran(ip_version=ip, frame_sizes=(size,)).directions
                self.assertEqual((one.received_frames, one.duplicates, one.corrupted_frames), (one.sent_frames, 0, 0))
                self.assertEqual((one.tester.sent_by, one.stamped_by), ("xdp, copying", "batch"))
        self.assertEqual(len(self.noted.notices), 1, self.noted.notices)
        self.assertIn("no transmit stamps of their own", self.noted.notices[0])

    def test_more_than_a_lap_and_steps_that_end_within_a_batch(self) -> None:
        (one,) = self.ran(steps=(LoadStep(90_000.0, 0.3), LoadStep(33_333.0, 0.1))).directions
        self.assertEqual([step.sent_frames for step in one.steps], [step.received_frames for step in one.steps])
        self.assertGreater(one.sent_frames, 8192, "a lap, even where the host is busy")

    def test_a_mix_goes_by_packet_rings_and_says_why(self) -> None:
        for _ in range(2):
            (one,) = self.ran(frame_sizes=(128, 512, 1518)).directions
        self.assertEqual((one.received_frames, one.tester.sent_by), (one.sent_frames, "packet ring"))
        self.assertEqual([text for text in self.noted.notices if "not by xdp" in text], self.noted.notices)
        self.assertEqual(len(self.noted.notices), 1)
