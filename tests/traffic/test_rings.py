"""What stands in a sender's ring, and what a receiver lets in: checked byte by byte, without sending anything."""

import struct
import unittest
from itertools import product
from unittest import mock

import numpy as np

from harvok.core.wire.frame import Ends, FrameIp, build, header_offset, mark_bytes, mark_offset, min_frame_bytes
from harvok.core.wire.frame_orders import SendOrder
from harvok.errors import NearEndError, UsageError
from harvok.traffic import rings
from harvok.traffic.frames import kernel_drops
from harvok.traffic.layout import batch_for, blocks_for, slots_for, templates
from harvok.traffic.neighbours import _only_questions_and_answers
from harvok.traffic.stream_filter import corrupted_snap_bytes, intact_filter, one_in, snap_bytes, stream_filter

ENDS: dict[FrameIp, Ends] = {
    4: Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2", "198.18.0.2", "198.19.0.2"),
    6: Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2", "2001:2:0:1::2", "2001:2:0:2::2"),
    None: Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2"),
}


def passed(program: list[tuple[int, int, int, int]], frame: bytes) -> int:
    """Runs a classic BPF program on a frame: how many bytes of it the program lets through."""
    at, accumulator = 0, 0
    while True:
        code, when_true, when_false, value = program[at]
        at += 1
        if code == 0x06:
            return value
        if code == 0x80:
            accumulator = len(frame)
        elif code == 0x54:
            accumulator &= value
        elif code in (0x28, 0x20, 0x30):
            size = {0x28: 2, 0x20: 4, 0x30: 1}[code]
            if value + size > len(frame):
                return 0  # a load beyond the end drops the frame
            accumulator = int.from_bytes(frame[value : value + size], "big")
        else:
            true = accumulator == value if code == 0x15 else accumulator >= value
            at += when_true if true else when_false


class Filters(unittest.TestCase):
    def test_own_frames_pass_and_others_do_not(self) -> None:
        for ip, ends in ENDS.items():
            size = min_frame_bytes(ip)
            program = stream_filter(ip, 0xC0FFEE, 60)
            self.assertEqual(passed(program, build(size, ip, ends, 0xC0FFEE, 3)), 60)
            self.assertEqual(passed(program, build(size, ip, ends, 0xC0FFEF, 3)), 0)
            self.assertEqual(passed(program, bytes(20)), 0)
            for other in set(ENDS) - {ip}:
                frame = build(min_frame_bytes(other), other, ENDS[other], 0xC0FFEE, 3)
                self.assertEqual(passed(program, frame), 0)

    def test_what_is_not_as_it_was_sent_is_told_by_one_byte_more(self) -> None:
        for (ip, ends), inner in product(ENDS.items(), ((), (20,))):
            tags, sizes = len(inner), (min_frame_bytes(ip), 512, 1518)
            intact, spoiled = snap_bytes(ip, tags), corrupted_snap_bytes(ip, tags)
            program = intact_filter(ip, 0xC0FFEE, sizes, read_one_in=16, tags=tags)
            self.assertLess(len(program), 4096)
            for size in sizes:
                for slot in (3, 16, 160):
                    frame = build(size, ip, ends, 0xC0FFEE, slot, inner)
                    self.assertEqual(passed(program, frame), intact, (ip, size, inner))
                    other_way = intact_filter(ip, 0xC0FFEE, sizes, tags=1 - tags)
                    self.assertEqual(passed(other_way, frame), 0, "tags of another number")
            whole = build(1518, ip, ends, 0xC0FFEE, 16, inner)
            for length in (100, 511, 513, 1394, 1513, 1515 + 4 * tags):
                self.assertEqual(passed(program, (whole + b"\0")[:length]), spoiled, (ip, length))
            for at in (mark_offset(ip, tags) + mark_bytes(ip), 300, 1506):
                altered = bytearray(whole)
                altered[at] ^= 1
                self.assertEqual(passed(program, bytes(altered)), spoiled, (ip, at))
            self.assertEqual(passed(intact_filter(ip, 0xC0FFEE, sizes, 1, 0, tags), bytes(altered)), intact)
            jumbo = intact_filter(ip, 0xC0FFEE, [9018], tags=tags)
            self.assertLess(len(jumbo), 4096)
            self.assertEqual(passed(jumbo, build(9018, ip, ends, 0xC0FFEE, 16, inner)), intact)

    def test_the_content_of_a_gigabit_is_read_whole_and_of_more_in_part(self) -> None:
        self.assertEqual([one_in(fps, 1518) for fps in (1000, 81_274, 170_000, 812_744)], [1, 1, 4, 16])

    def test_the_slots_of_a_ring_are_alike_for_both(self) -> None:
        for ip, tags in product(ENDS, (0, 1)):
            kept = snap_bytes(ip, tags), corrupted_snap_bytes(ip, tags)
            ends = {-(-(rings._SNAP_OFFSET_IN_V3 + one) // 8) for one in kept}
            self.assertEqual(len(ends), 1, (ip, tags))

    def test_only_arp_and_neighbour_discovery_reach_the_answerer(self) -> None:
        program = _only_questions_and_answers()
        head = bytes(12)
        icmp6 = bytearray(head + b"\x86\xdd" + bytes(60))
        icmp6[20] = 58
        for kind, wanted in ((134, 0), (135, 128), (136, 128)):
            icmp6[54] = kind
            self.assertEqual(passed(program, bytes(icmp6)), wanted)
        self.assertEqual(passed(program, head + b"\x08\x06" + bytes(40)), 128)
        self.assertEqual(passed(program, head + b"\x08\x00" + bytes(60)), 0)
        icmp6[20] = 17
        self.assertEqual(passed(program, bytes(icmp6)), 0)


class Layout(unittest.TestCase):
    def test_batches_keep_the_calls_at_some_thirty_thousand(self) -> None:
        wanted = {10: 1, 30_000: 1, 30_001: 2, 100_000: 4, 812_743: 32, 1_488_095: 64, 5e6: 256, 1e9: 512}
        for load_fps, batch in wanted.items():
            self.assertEqual(batch_for(load_fps, 1), batch)
        self.assertEqual(batch_for(10, 256), 256)
        self.assertGreater(blocks_for(1e6), blocks_for(1e3))

    def test_rings_hold_whole_batches_turns_and_pages(self) -> None:
        for frame_bytes in (60, 82, 1514, 9014):
            for batch, mix, pairs in ((1, 1, 1), (64, 11, 1), (1024, 3, 1), (16, 1, 16_384), (1, 7, 1000)):
                slots = slots_for(frame_bytes, batch, mix, pairs)
                self.assertLessEqual(slots_for(frame_bytes, batch, mix, pairs, taken_at_once=True), slots)
                slot_bytes = rings.slot_bytes_for(frame_bytes)
                self.assertEqual((slots % batch, slots * slot_bytes % 4096), (0, 0))
                self.assertGreaterEqual(slot_bytes, rings.SLOT_OVERHEAD + frame_bytes)
                self.assertGreaterEqual(slots, pairs)
                self.assertTrue(mix == 1 or slots % mix == 0)
        self.assertEqual(slots_for(1514, 256, 1, 1, taken_at_once=True), slots_for(1514, 256, 1, 1) // 2)
        with self.assertRaises(UsageError):
            slots_for(60, 1023, 11, 1)

    def test_templates_pair_every_size_with_every_address(self) -> None:
        ends = [("020000000001", "020000000002", f"198.18.0.{n}", "198.19.0.2", 50_000 + n, 9) for n in range(1, 4)]
        order = SendOrder("lo", 4, 7, 64, [64, 1518], ends, [(1.0, 1, 1)], 0, 4, None)
        made = templates(order)
        self.assertEqual([len(frame) for frame in made], [60, 1514] * 3)
        self.assertEqual([frame[29] for frame in made], [1, 2, 3, 1, 2, 3])
        self.assertEqual([struct.unpack(">H", frame[34:36])[0] - 50_000 for frame in made], [1, 2, 3, 1, 2, 3])


class SendRings(unittest.TestCase):
    """On the loopback interface; nothing is sent."""

    def test_every_slot_has_the_frame_it_would_have_alone(self) -> None:
        for (ip, ends), vlans in product(ENDS.items(), ((), (10,), (100, 20))):
            small, tags = min_frame_bytes(ip), 4 * len(vlans)
            sizes = [small, small + 40]
            frames = [build(size, ip, ends, 7, 0, vlans, 46) for size in sizes]
            ring = rings.SendRing("lo", frames, 1024, ip, len(vlans))
            memory = np.frombuffer(ring._map, dtype=np.uint8).reshape(1024, -1)
            for slot in (0, 1, 2, 255, 256, 700, 1023):
                size = sizes[slot % 2]
                text = bytes(memory[slot, rings.SLOT_OVERHEAD :][: size - 4 + tags])
                self.assertEqual(text, build(size, ip, ends, 7, slot, vlans, 46), (ip, slot, vlans))
                self.assertEqual(struct.unpack("<I", bytes(memory[slot, 4:8]))[0], size - 4 + tags + 10)
            self.assertEqual((ring.pending(), ring.slots), (0, 1024))
            del memory
            ring.close()

    def test_slots_that_do_not_fill_pages_are_a_mistake_of_ours(self) -> None:
        with self.assertRaises(ValueError):
            rings.SendRing("lo", [bytes(60)], 33, 4)

    def test_a_port_that_is_not_there(self) -> None:
        with self.assertRaisesRegex(NearEndError, "no interface nosuch0"):
            rings.SendRing("nosuch0", [build(64, 4, ENDS[4], 7, 0)], 32, 4)

    def test_a_port_that_goes_down(self) -> None:
        ring = rings.SendRing("lo", [build(64, 4, ENDS[4], 7, 0)], 32, 4)
        self.addCleanup(ring.close)
        for number, raised in (
            (100, NearEndError),
            (105, None),
            (11, None),
            (5, OSError),
        ):  # ENETDOWN, ENOBUFS, EAGAIN, EIO
            with mock.patch.object(ring, "give", side_effect=OSError(number, "no")):
                if raised:
                    with self.assertRaises(raised):
                        ring.send()
                else:
                    ring.send()


class Blocks(unittest.TestCase):
    def test_fields_are_read_as_they_stand(self) -> None:
        layout = np.dtype([("lap", ">u4"), ("slot", ">u2"), ("stamp", ">u8"), ("s", "<u4"), ("ns", "<u4")])
        frames = np.zeros(4, dtype=layout)
        frames["slot"], frames["lap"] = [6, 7, 0, 1], [2, 2, 3, 3]
        frames["s"], frames["ns"], frames["stamp"] = [9, 9, 10, 10], [999_999_998, 999_999_999, 0, 1], [1, 2, 3, 4]
        block = rings.Block(frames)
        self.assertEqual(block.numbers(8).tolist(), [22, 23, 24, 25])
        self.assertEqual(np.diff(block.at_ns()).tolist(), [1, 1, 1])
        self.assertEqual(block.stamp_ns(slice(1, None, 2)).tolist(), [2, 4])
        frames["s"] = 9
        self.assertEqual(int(rings.Block(frames).at_ns()[0]), 9_999_999_998)

    def numbered(self, numbers: list[int], slots: int) -> rings.Block:
        places = {"slot": 0, "raw_slot": 0, "lap": 2, "raw_lap": 2}
        formats = [">u2", "u2", ">u4", "u4"]
        layout = np.dtype({"names": [*places], "formats": formats, "offsets": [*places.values()], "itemsize": 16})
        frames = np.zeros(len(numbers), layout)
        frames["slot"], frames["lap"] = np.array(numbers) % slots, np.array(numbers) // slots
        return rings.Block(frames)

    def test_a_run_is_told_from_the_bytes_alone(self) -> None:
        slots = 8
        raw = rings.raw_slots(slots)
        for first in (0, 3, 7, 8, 2**16 * slots - 2, 2**35 - 1):
            for count in range(1, 24):
                run = self.numbered([*range(first, first + count)], slots)
                within_two_laps = count - min(count, slots - first % slots) <= slots
                self.assertEqual(run.is_run(first, slots, raw), within_two_laps)
                self.assertFalse(run.is_run(first + 1, slots, raw))
                for at in range(count if within_two_laps else 0):
                    for wrong in (first + at + 1, first + at + slots):
                        numbers = [*range(first, first + count)]
                        numbers[at] = wrong % 2**35
                        self.assertFalse(self.numbered(numbers, slots).is_run(first, slots, raw), (first, count, at))

    def test_the_test_header_begins_behind_udp(self) -> None:
        self.assertEqual([header_offset(ip) for ip in ENDS], [42, 62, 14])

    def test_drops_of_the_kernel_only_grow(self) -> None:
        before = kernel_drops()
        self.assertGreaterEqual(kernel_drops(), before)
        self.assertGreaterEqual(before, 0)
