"""Workers of the frame engine: whose turn it is, which processes they share, and frames that are sent back."""

import unittest
from collections.abc import Generator
from dataclasses import replace
from unittest import mock

from harvok.core.ends import MAX_STREAMS
from harvok.core.wire.frame import Ends, FrameIp, build, internet_sum, mark_offset
from harvok.core.wire.frame_orders import ReceiveOrder, SendOrder, decode_orders
from harvok.rigs.ports import _cores_of
from harvok.traffic import frame_worker
from harvok.traffic.counters import ROWS_FOR_STEPS
from harvok.traffic.frame_reflector import swap_addresses
from harvok.traffic.frame_worker import _take_turns
from harvok.traffic.frames import ROWS, OwnWorkers, rows_of

SEND = SendOrder("port1", 4, 7, 1024, [64], [], [(1e3, 10, 1)], 0, 0, 0)
RECEIVE = ReceiveOrder("port2", "port1", 4, 7, [64], 1, 1024, 1, 64, [], 1, 1, 0, 1)


class Turns(unittest.TestCase):
    def taken(self, *plans: tuple[int, ...]) -> list[tuple[int, int]]:
        """(moment, who) of each turn, of some that want to go on at these moments."""
        taken: list[tuple[int, int]] = []

        def plan(who: int, moments: tuple[int, ...]) -> Generator[int, int, None]:
            for moment in moments:
                now = yield moment
                taken.append((now, who))

        waiter = mock.Mock()
        waiter.until = max
        clock = mock.Mock()
        clock.now_ns.return_value = 0
        with mock.patch.multiple(frame_worker, Waiter=mock.Mock(return_value=waiter), SYSTEM=clock):
            _take_turns([plan(who, moments) for who, moments in enumerate(plans)])
        return taken

    def test_one_alone(self) -> None:
        self.assertEqual(self.taken((10, 20, 30)), [(10, 0), (20, 0), (30, 0)])

    def test_several_by_the_moment_at_which_they_are_due(self) -> None:
        self.assertEqual(
            self.taken((10, 40), (20, 30, 50), (35,)), [(10, 0), (20, 1), (30, 1), (35, 2), (40, 0), (50, 1)]
        )

    def test_who_is_late_goes_on_at_once(self) -> None:
        self.assertEqual(self.taken((10, 5), (7,)), [(7, 1), (10, 0), (10, 0)])


class Rows(unittest.TestCase):
    def test_streams_have_rows_of_their_own(self) -> None:
        rows = [rows_of(number) for number in range(MAX_STREAMS)]
        single = [row for one in rows for row in (one.sender, one.receiver, one.reflector)]
        steps = [row for one in rows for row in range(one.steps, one.steps + ROWS_FOR_STEPS)]
        self.assertEqual(len({*single, *steps}), len(single) + len(steps))
        self.assertEqual(max(steps), ROWS - 1)


class FakeProcess:
    """Notes what it is to carry out."""

    made: "list[FakeProcess]" = []

    def __init__(self, namespaces: object, counters: object) -> None:
        self.orders: list[list[str]] = []
        self.killed = False
        FakeProcess.made.append(self)

    def carry_out(self, orders: list[SendOrder | ReceiveOrder]) -> None:
        self.orders.append([order.kind for order in orders])

    def kill(self) -> None:
        self.killed = True


class Processes(unittest.TestCase):
    def setUp(self) -> None:
        FakeProcess.made = []
        self.enterContext(mock.patch("harvok.traffic.frames.FrameProcess", FakeProcess))

    def given(self, workers: OwnWorkers, *orders: SendOrder | ReceiveOrder) -> list[list[list[str]]]:
        for order in orders:
            workers.worker(order.row).order(order)
        workers.pass_on()
        return [process.orders for process in FakeProcess.made]

    def test_those_of_one_kind_on_one_core_are_one_process(self) -> None:
        workers = OwnWorkers()
        self.addCleanup(workers.close)
        orders = self.given(
            workers,
            replace(RECEIVE, row=1, cpu=1), replace(RECEIVE, row=4, cpu=1), replace(RECEIVE, row=7, cpu=0),
            replace(SEND, row=0, cpu=0), replace(SEND, row=3, cpu=0),
        )  # fmt: skip
        self.assertEqual(orders, [[["receive", "receive"]], [["receive"]], [["send", "send"]]])
        workers.close()
        self.assertTrue(all(process.killed for process in FakeProcess.made))

    def test_without_a_core_each_is_a_process(self) -> None:
        workers = OwnWorkers()
        self.addCleanup(workers.close)
        orders = self.given(workers, replace(SEND, row=0, cpu=None), replace(SEND, row=3, cpu=None))
        self.assertEqual(orders, [[["send"]], [["send"]]])

    def test_workers_that_are_apart_get_their_orders_at_once(self) -> None:
        workers = OwnWorkers(apart=True)
        self.addCleanup(workers.close)
        workers.worker(0).order(replace(SEND, row=0, cpu=0))
        workers.worker(3).order(replace(SEND, row=3, cpu=0))
        self.assertEqual([process.orders for process in FakeProcess.made], [[["send"]], [["send"]]])

    def test_orders_that_are_no_orders_are_refused(self) -> None:
        for text in ('{"kind": "sing"}', '[{"kind": "send"}]', "[1]", "no JSON"):
            with self.assertRaises((ValueError, TypeError, AttributeError)):
                decode_orders(text)


class Cores(unittest.TestCase):
    def test_each_has_its_own_while_there_are_enough(self) -> None:
        with mock.patch("harvok.rigs.ports.usable_cores", return_value=[0, 1, 2, 3]):
            senders, receivers = _cores_of(2)
            self.assertEqual((senders, receivers), ([0, 1], [1, 2]))
            senders, receivers = _cores_of(6)
            self.assertFalse({*senders} & {*receivers}, "those of one kind share cores")
            self.assertEqual((len(senders), len(receivers)), (6, 6))
        with mock.patch("harvok.rigs.ports.usable_cores", return_value=[5]):
            self.assertEqual(_cores_of(3), ([5, 5, 5], [5, 5, 5]))


class SentBack(unittest.TestCase):
    ENDS = Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2", "198.18.0.2", "198.19.0.9")
    ENDS_6 = Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2", "2001:2:0:1::2", "2001:2:0:2::9")

    def test_frames_come_back_as_if_the_other_end_had_sent_them(self) -> None:
        forms: tuple[tuple[FrameIp, Ends], ...] = ((4, self.ENDS), (6, self.ENDS_6), (None, self.ENDS))
        for ip, ends in forms:
            for vlans in ((), (20,)):
                other = Ends(ends.destination_mac, ends.source_mac, ends.destination_ip, ends.source_ip)
                frame = bytearray(build(128, ip, ends, 7, 3, vlans))
                swap_addresses(frame, ip, len(vlans))
                at = mark_offset(ip, len(vlans))
                expected = build(128, ip, other, 7, 3, vlans)
                self.assertEqual(bytes(frame[:at]), expected[:at])

    def test_a_header_keeps_its_checksum(self) -> None:
        frame = bytearray(build(128, 4, self.ENDS, 7, 3))
        swap_addresses(frame, 4)
        self.assertEqual(internet_sum(bytes(frame[14:34])), 0xFFFF)
