import select
import socket
import threading
import unittest
from dataclasses import replace
from unittest import mock

from harvok.core.ends import RECEIVE, SEND
from harvok.core.trials.tcp import DirectionOutcome, Method, TcpTrial
from harvok.errors import FlowBrokenError, UnsupportedError
from harvok.testing.clock import ManualClock
from harvok.traffic.counters import Cell, Counters
from harvok.traffic.worker import FlowSpeed, wake_at
from harvok.traffic.zero_copy import BLOCK_BYTES, block_of, drop_and_compare, resolved, send_from_file
from tests.traffic.test_tcp import Joined

MIB = 1024 * 1024


def joined_sockets() -> tuple[socket.socket, socket.socket]:
    with socket.create_server(("127.0.0.1", 0)) as door:
        near = socket.create_connection(door.getsockname())
        far, _ = door.accept()
    return near, far


class Waiting(unittest.TestCase):
    def test_the_kernel_waits_for_a_fast_flow_and_not_for_a_slow_one(self) -> None:
        near, far = joined_sockets()
        with near, far:
            wake_at(far, 8 * BLOCK_BYTES)
            self.assertEqual(far.getsockopt(socket.SOL_SOCKET, socket.SO_RCVLOWAT), 8 * BLOCK_BYTES)
            near.send(b"a")
            self.assertEqual(select.select([far], [], [], 0)[0], [])
            wake_at(far, 1)
            self.assertEqual(select.select([far], [], [], 10)[0], [far])

    def test_a_flow_that_waits_for_its_turn_is_not_slow(self) -> None:
        with mock.patch("harvok.traffic.worker.SYSTEM", ManualClock()) as clock:
            speed, seen, total = FlowSpeed(), [], 0
            for rate_bps in (3e9, 8e9, 2e9, 0.5e9, 2e9):
                moved = speed.look_at_bytes - total + BLOCK_BYTES
                clock.sleep(moved * 8 / rate_bps)
                total += moved
                seen.append((speed.changes(total), speed.fast))
        self.assertEqual(seen, [(False, False), (True, True), (False, True), (True, False), (False, False)])


class ZeroCopy(unittest.TestCase):
    def received(self, content: bytes) -> list[int]:
        """What a receiver counts of a stream: bytes, compared, altered."""
        near, far = joined_sockets()
        counters = Counters(1)
        self.addCleanup(counters.close)
        places = [Counters.index(0, cell) for cell in (Cell.BYTES, Cell.FIRST_NS, Cell.COMPARED, Cell.ALTERED)]

        def send() -> None:
            near.sendall(content)
            near.close()

        sender = threading.Thread(target=send)
        sender.start()
        with far:
            drop_and_compare(far, block_of("seed"), counters.cells, *places)
        sender.join()
        self.assertGreater(counters.read(0, Cell.FIRST_NS), 0)
        return [counters.read(0, cell) for cell in (Cell.BYTES, Cell.COMPARED, Cell.ALTERED)]

    def test_a_block_in_four_megabytes_is_compared(self) -> None:
        whole = block_of("seed") * 200
        self.assertEqual(self.received(whole), [200 * BLOCK_BYTES, 4 * BLOCK_BYTES, 0])
        self.assertEqual(self.received(whole[: BLOCK_BYTES + 17]), [BLOCK_BYTES + 17, BLOCK_BYTES, 0])
        self.assertEqual(self.received(b""), [0, 0, 0])

    def test_what_was_altered_is_found_at_its_place(self) -> None:
        whole = bytearray(block_of("seed") * 200)
        whole[5] ^= 1
        _, compared, altered = self.received(bytes(whole))
        self.assertTrue(0 < altered <= BLOCK_BYTES < compared)
        self.assertEqual(self.received(block_of("other") * 4)[2], BLOCK_BYTES)

    def test_an_amount_is_sent_to_the_byte_and_repeats_the_block(self) -> None:
        near, far = joined_sockets()
        counters = Counters(1)
        self.addCleanup(counters.close)
        amount = 3 * MIB + 12_345

        def send() -> None:
            send_from_file(near, block_of("seed"), counters.cells, 0, amount)
            near.close()

        sender = threading.Thread(target=send)
        sender.start()
        with far:
            got = b"".join(iter(lambda: far.recv(MIB), b""))
        sender.join()
        self.assertEqual(got, (block_of("seed") * 50)[:amount])
        self.assertEqual(counters.read(0, Cell.BYTES), amount)

    def test_each_half_by_its_own_method(self) -> None:
        methods: tuple[Method, ...] = ("copy", "zero-copy")
        for sends in methods:
            for receives in methods:
                trial = TcpTrial((SEND,), flows=2, amount_bytes=20 * MIB, tick_s=0.02, interval_s=0.1)
                with mock.patch("harvok.traffic.sampler.resolved", side_effect=[sends, receives]):
                    joined = Joined(replace(trial, method="auto"))
                sender, receiver = joined.run()
                self.assertEqual((sender.method, receiver.method), (sends, receives))
                self.assertEqual(receiver.flow_bytes, [10 * MIB] * 2)
                outcome = DirectionOutcome("send", sender, receiver)
                self.assertEqual(outcome.method, receives)
                share = 6 * BLOCK_BYTES / (20 * MIB) if receives == "zero-copy" else 0.0
                self.assertAlmostEqual(outcome.compared_share, share)

    def test_altered_bytes_break_the_run(self) -> None:
        trial = TcpTrial((RECEIVE,), duration_s=0.5, tick_s=0.02, interval_s=0.1, method="zero-copy")
        with self.assertRaisesRegex(FlowBrokenError, r"altered what was sent, in blocks of (\d+) of the \1 bytes"):
            Joined(trial, ids=(b"near", b"far")).run()

    def test_a_system_that_cannot(self) -> None:
        with mock.patch("sys.platform", "darwin"):
            self.assertEqual(resolved("auto"), "copy")
            with self.assertRaises(UnsupportedError):
                resolved("zero-copy")
        self.assertEqual((resolved("copy"), resolved("auto")), ("copy", "zero-copy"))
