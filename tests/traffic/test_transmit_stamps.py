"""The kernel's program that stamps frames as they leave: run here by a small machine of its own, and by the kernel on
virtual rigs."""

import socket
import struct
import unittest
from collections.abc import Sequence
from unittest import mock

from harvok.clock import SYSTEM
from harvok.core.models.rig import VirtualRig
from harvok.core.observer import Observer
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, LoadStep
from harvok.core.wire.frame import FrameIp, build, internet_sum, mark_offset, min_frame_bytes
from harvok.rigs.ports import FramePorts
from harvok.rigs.virtual import VirtualPorts
from harvok.traffic.kernel_program import Instruction, NoKernelProgramError, load_egress
from harvok.traffic.transmit_stamps import _BALANCED, _OWN, Stamping, stamping_program
from tests.traffic.test_rings import ENDS
from tests.whole.test_udp import NEEDS_ROOT

TAI_NS, AHEAD_NS = 1_764_000_037_123_456_789, 37_000_000_000
_MODULE = "harvok.traffic.kernel_program"
FORMS: list[tuple[FrameIp, tuple[int, ...]]] = [(4, ()), (4, (7,)), (6, ()), (6, (100, 20)), (None, (9,))]
_DATA, _WORD = 1 << 20, (1 << 64) - 1


def after(program: Sequence[Instruction], frame: bytes, mark: int) -> bytes:
    """What the program makes of a frame that a socket with a mark sends."""
    memory, registers, at = bytearray(frame), [0] * 10, 0
    fields = {8: mark, 76: _DATA, 80: _DATA + len(frame)}
    while True:
        code, to, source, offset, value = program[at]
        at += 1
        if code == 0x95:
            return bytes(memory)
        if code == 0x18:
            registers[to] = (value & 0xFFFF_FFFF) | (program[at][4] & 0xFFFF_FFFF) << 32
            at += 1
        elif code == 0x85:
            registers[0:6] = [TAI_NS, 0, 0, 0, 0, 0]
        elif code == 0x61:
            place = registers[source] - _DATA + offset
            in_frame = registers[source] >= _DATA
            registers[to] = int.from_bytes(memory[place : place + 4], "little") if in_frame else fields[offset]
        elif code in (0x7B, 0x6B):
            size, place = {0x7B: 8, 0x6B: 2}[code], registers[to] - _DATA + offset
            memory[place : place + size] = (registers[source] & (1 << 8 * size) - 1).to_bytes(size, "little")
        elif code in (0x2D, 0x55):
            jumps = registers[to] > registers[source] if code == 0x2D else registers[to] != value & _WORD
            at += offset if jumps else 0
        elif code == 0xDC:
            registers[to] = int.from_bytes(registers[to].to_bytes(8, "little"), "big")
        else:
            one, other = registers[to], registers[source] if code & 0x08 else value
            done = {0xB: other, 0x0: one + other, 0x5: one & other, 0x4: one | other, 0xA: one ^ other}
            registers[to] = (one >> other if code >> 4 == 0x7 else done[code >> 4]) & _WORD


class Programs(unittest.TestCase):
    def test_frames_of_each_form_get_the_wall_clock_odd(self) -> None:
        program = stamping_program(AHEAD_NS)
        for ip, vlans in FORMS:
            at = mark_offset(ip, len(vlans))
            before = build(128, ip, ENDS[ip], 0xC0FFEE, 3, vlans)
            stamped = after(program, before, _OWN | at | (_BALANCED if ip == 6 else 0))
            (stamp,) = struct.unpack_from(">Q", stamped, at + 4)
            self.assertEqual(stamp, TAI_NS - AHEAD_NS | 1)
            self.assertEqual((stamped[: at + 4], stamped[at + 14 :]), (before[: at + 4], before[at + 14 :]))

    def test_the_sum_of_an_ipv6_frame_stays_as_it_was(self) -> None:
        at = mark_offset(6)
        frame = bytearray(build(128, 6, ENDS[6], 0xC0FFEE, 3))
        for lap in (0, 1, 0xFFFF, 0x1234_5678):
            frame[at : at + 4] = lap.to_bytes(4, "big")
            stamped = after(stamping_program(0), bytes(frame), _OWN | at | _BALANCED)
            self.assertEqual(internet_sum(stamped[at : at + 14]), 0xFFFF)

    def test_nobody_elses_frames_are_touched(self) -> None:
        program, frame = stamping_program(0), build(64, 4, ENDS[4], 0xC0FFEE, 3)
        for mark in (0, 1, mark_offset(4), _OWN ^ 1 << 31 | mark_offset(4)):
            self.assertEqual(after(program, frame, mark), frame)
        self.assertEqual(after(program, frame[:50], _OWN | mark_offset(4)), frame[:50])

    def test_every_jump_ends_in_the_program(self) -> None:
        program = stamping_program(AHEAD_NS)
        for at, (code, _, _, offset, _) in enumerate(program):
            if code in (0x2D, 0x55):
                self.assertIn(at + 1 + offset, range(at + 1, len(program) - 1))

    def test_the_clock_without_leap_seconds_is_whole_seconds_ahead(self) -> None:
        self.assertEqual(SYSTEM.tai_ahead_ns() % 1_000_000_000, 0)


class Missing(unittest.TestCase):
    def test_why_it_cannot_be_done_is_said(self) -> None:
        refused = {1: "this user may not load programs", 22: "this kernel runs no programs", 12: "the kernel refused"}
        for number, words in refused.items():
            library = mock.Mock()
            library.syscall.return_value = -1
            with (
                mock.patch(f"{_MODULE}.ctypes.CDLL", return_value=library),
                mock.patch(f"{_MODULE}.ctypes.get_errno", return_value=number),
            ):
                self.assertIn(words, Stamping().missing)
        with mock.patch(f"{_MODULE}.platform.machine", return_value="toaster"):
            self.assertIn("the kernel of toaster", Stamping().missing)
            with self.assertRaises(NoKernelProgramError):
                load_egress(stamping_program(0))

    def test_without_a_program_nothing_is_attached_and_nothing_marked(self) -> None:
        with mock.patch(f"{_MODULE}.platform.machine", return_value="toaster"):
            stamping = Stamping()
        sock = mock.Mock(spec=socket.socket)
        stamping.claim(sock, 4, 0)
        with stamping.at({"nowhere0"}):
            sock.setsockopt.assert_not_called()

    def test_a_user_who_may_not_mark_is_told(self) -> None:
        with mock.patch("harvok.traffic.transmit_stamps.load_egress", return_value=-1):
            stamping = Stamping()
        sock = mock.Mock(spec=socket.socket)
        sock.setsockopt.side_effect = PermissionError
        stamping.claim(sock, 4, 0)
        self.assertIn("may not mark", stamping.missing)


def measured(
    ports: FramePorts, ip: FrameIp, load_fps: float = 40_000.0, vlans: tuple[int, ...] = ()
) -> FrameDirectionResult:
    size, steps = min_frame_bytes(ip) + 30, (LoadStep(load_fps, 0.2),)
    trial = FrameTrial((size,), steps, ip_version=ip, pause_s=0.0, frames_of={"send": StreamFrames(vlans=vlans)})
    (result,) = ports.run(trial, Observer()).directions
    return result


@NEEDS_ROOT
class ByTheKernel(unittest.TestCase):
    def setUp(self) -> None:
        rig = {"version": 1, "kind": "virtual", "name": "wire", "rated": "1G", "device": "wire"}
        self.ports = self.enterContext(VirtualPorts(VirtualRig.model_validate(rig)))

    def test_every_frame_has_a_stamp_of_its_own(self) -> None:
        """Of 40 000 frames/s two go with one call, so that stamps of batches would count half of them."""
        for ip, vlans in FORMS:
            with self.subTest(ip=ip, vlans=vlans):
                one = measured(self.ports, ip, vlans=vlans)
                assert one.delay
                self.assertEqual((one.stamped_by, one.lost_frames, one.corrupted_frames), ("frame", 0, 0))
                self.assertEqual(one.delay.counted, one.received_frames)
                self.assertGreater(one.delay.min_s, 0)

    def test_a_driver_stamps_some_where_the_kernel_cannot(self) -> None:
        self.ports._stamps.missing = "this user may not"
        one = measured(self.ports, 4, 2000.0)
        assert one.delay
        self.assertEqual(one.stamped_by, "driver")
        self.assertLessEqual(one.delay.counted, one.received_frames)
        self.assertGreater(one.delay.median_s, 0)
