import os
import secrets
import socket
import threading
import time
import unittest
from collections.abc import Callable, Sequence
from contextlib import closing
from itertools import pairwise
from unittest import mock

from harvok.clock import SYSTEM
from harvok.core.ends import RECEIVE, SEND, CpuUse
from harvok.core.trials.tcp import SocketOptions, TcpInterval, TcpSummary, TcpTrial
from harvok.core.wire.hello import KEY_BYTES, TRIAL_ID_BYTES, WELCOME, Hello, encode_hello
from harvok.errors import DataBlockedError, FarEndError, FlowBrokenError, NearEndError, UnsupportedError
from harvok.host.cpu import Meter
from harvok.traffic.counters import Cell, Counters
from harvok.traffic.sockets import Source, format_address, listen, read_tcp_info
from harvok.traffic.tcp import DataTarget, TcpListener, TcpTrialEnd, close_all, connect_flows
from harvok.traffic.worker import Orders

HOST = "127.0.0.1"


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind((HOST, 0))
        return int(probe.getsockname()[1])


class Joined:
    """Both halves of a trial in this process, joined over loopback."""

    def __init__(self, trial: TcpTrial, host: str = HOST, ids: tuple[bytes, bytes] = (b"", b"")) -> None:
        target = DataTarget((host, free_port()), secrets.token_bytes(TRIAL_ID_BYTES), secrets.token_bytes(KEY_BYTES))
        listener = TcpListener(trial, target.trial_id, target.key, host, target.address[1])
        near = connect_flows(trial, target, Source())
        far = listener.sockets(5)
        listener.close()
        self.intervals: list[TcpInterval] = []
        self.near = TcpTrialEnd("near", trial, near, ids[0], SYSTEM)
        self.far = TcpTrialEnd("far", trial, far, ids[1], SYSTEM)

    def run(self) -> list[TcpSummary]:
        with closing(self.near), closing(self.far):
            for role in ("receiver", "sender"):
                for half in (self.near, self.far):
                    half.begin(role, Meter, self.intervals.append)
            self.near.wait(30)
            self.far.wait(30)
            return [*self.near.summaries(), *self.far.summaries()]


class Transfers(unittest.TestCase):
    def test_an_amount_arrives_to_the_byte_on_every_flow(self) -> None:
        for flows, amount in ((1, 1_000), (3, 3_000_001), (5, 20_000_000)):
            trial = TcpTrial((SEND,), flows=flows, amount_bytes=amount, tick_s=0.02, interval_s=0.1)
            sender, receiver = Joined(trial).run()
            share = -(-amount // flows)
            self.assertEqual(sender.flow_bytes, [share] * flows)
            self.assertEqual(receiver.flow_bytes, [share] * flows)

    def test_a_time_is_kept_in_both_directions_at_once(self) -> None:
        joined = Joined(TcpTrial((SEND, RECEIVE), flows=2, duration_s=0.6, tick_s=0.02, interval_s=0.2))
        for half in joined.run():
            self.assertGreater(sum(half.flow_bytes), 0)
            self.assertGreaterEqual(half.elapsed_s, 0.599)
            self.assertEqual(len(half.connections), 2)
        self.assertEqual({(i.direction, i.role) for i in joined.intervals}, {
            ("send", "sender"), ("send", "receiver"), ("receive", "sender"), ("receive", "receiver")
        })  # fmt: skip

    def test_intervals_add_up_to_the_whole(self) -> None:
        joined = Joined(TcpTrial((RECEIVE,), duration_s=0.5, tick_s=0.02, interval_s=0.1))
        summaries = joined.run()
        got = [i for i in joined.intervals if i.role == "receiver"]
        self.assertEqual([i.index for i in got], list(range(len(got))))
        for earlier, later in pairwise(got):
            self.assertEqual(earlier.end_s, later.start_s)
        last_tick = got[-1].ticks[-1][1]
        self.assertEqual(sum(sum(i.flow_bytes) for i in got), last_tick)
        receiver = next(s for s in summaries if s.role == "receiver")
        self.assertGreaterEqual(receiver.flow_bytes[0], last_tick)

    @unittest.skipUnless(hasattr(socket, "TCP_INFO"), "this system tells nothing about its connections")
    def test_the_kernel_is_asked_about_every_flow(self) -> None:
        joined = Joined(TcpTrial((SEND,), flows=3, duration_s=0.3, tick_s=0.02, interval_s=0.1))
        sender, _ = joined.run()
        for interval in joined.intervals:
            self.assertEqual(len(interval.tcp), 3)
            self.assertGreater(interval.tcp[0].mss_bytes or 0, 500)
        self.assertGreater(sender.connections[0].handshake.rtt_us or 0 if sender.connections[0].handshake else 0, 0)

    def test_a_system_that_tells_nothing_still_measures(self) -> None:
        with mock.patch("harvok.traffic.sockets.has_tcp_info", return_value=False):
            joined = Joined(TcpTrial((SEND,), amount_bytes=100_000, tick_s=0.02, interval_s=0.1))
            sender, receiver = joined.run()
        self.assertEqual(receiver.flow_bytes, [100_000])
        self.assertEqual([i.tcp for i in joined.intervals], [[]] * len(joined.intervals))
        self.assertIsNone(sender.connections[0].handshake)
        self.assertTrue(sender.missing[0].startswith("tcp_info"))
        with (
            mock.patch("harvok.traffic.sockets.has_tcp_info", return_value=False),
            self.assertRaisesRegex(UnsupportedError, "cannot pace"),
        ):
            Joined(TcpTrial((SEND,), duration_s=1.0, options=SocketOptions(pacing_bps=1e6)))

    def test_options_reach_both_ends(self) -> None:
        options = SocketOptions(socket_buffer_bytes=20_000, mss_bytes=1000, congestion_control="reno", dscp=46)
        trial = TcpTrial((RECEIVE,), amount_bytes=500_000, tick_s=0.02, interval_s=0.1, options=options)
        joined = Joined(trial)
        for half in joined.run():
            connection = half.connections[0]
            self.assertEqual(connection.congestion_control, "reno")
            self.assertLessEqual(connection.receive_buffer_bytes, 40_000)
        senders = [i.tcp[0].mss_bytes for i in joined.intervals if i.role == "sender"]
        self.assertTrue(all(mss is not None and mss <= 1000 for mss in senders), senders)

    def test_pacing_holds_a_flow_down(self) -> None:
        trial = TcpTrial((SEND,), duration_s=0.6, tick_s=0.02, interval_s=0.2, options=SocketOptions(pacing_bps=50e6))
        _, receiver = Joined(trial).run()
        self.assertLess(receiver.flow_bytes[0] * 8 / receiver.elapsed_s, 100e6)

    def test_ipv6(self) -> None:
        try:
            joined = Joined(TcpTrial((SEND,), amount_bytes=10_000, tick_s=0.02, interval_s=0.1), "::1")
        except (NearEndError, DataBlockedError):
            self.skipTest("this host has no IPv6")
        sender, receiver = joined.run()
        self.assertEqual(receiver.flow_bytes, [10_000])
        self.assertTrue(sender.connections[0].remote.startswith("[::1]:"))

    def test_a_flow_that_breaks_is_an_error_at_the_other_end(self) -> None:
        joined = Joined(TcpTrial((SEND,), duration_s=20.0, tick_s=0.02, interval_s=0.1))
        with closing(joined.near):
            joined.far.begin("receiver", Meter, joined.intervals.append)
            joined.near.begin("sender", Meter, joined.intervals.append)
            joined.far.close()
            with self.assertRaisesRegex(FlowBrokenError, r"flow 0 \(send\) broke"):
                joined.near.wait(10)

    def test_workers_end_with_their_half(self) -> None:
        joined = Joined(TcpTrial((SEND,), flows=2, duration_s=20.0, tick_s=0.02, interval_s=0.1))
        pids: list[int] = []

        def noting(watched: Sequence[int]) -> Meter:
            pids.extend(watched)
            return Meter([])

        with closing(joined.near), closing(joined.far):
            joined.far.begin("receiver", noting, joined.intervals.append)
            joined.near.begin("sender", noting, joined.intervals.append)
            while len(pids) < 2:
                SYSTEM.sleep(0.01)
        for pid in pids:
            with self.assertRaises(ProcessLookupError):
                os.kill(pid, 0)


class Admission(unittest.TestCase):
    def setUp(self) -> None:
        self.trial = TcpTrial((SEND,), duration_s=1.0)
        self.target = DataTarget((HOST, free_port()), bytes(TRIAL_ID_BYTES), bytes(KEY_BYTES))
        self.listener = TcpListener(self.trial, self.target.trial_id, self.target.key, HOST, self.target.address[1])
        self.addCleanup(self.listener.close)

    def knock(self, first: bytes) -> bytes:
        """What comes back to a connection that begins with these bytes; the gate may shut before the last of them."""
        with socket.create_connection(self.target.address, timeout=10) as sock:
            try:
                sock.sendall(first)
                sock.shutdown(socket.SHUT_WR)
                return sock.recv(100)
            except TimeoutError:
                raise
            except OSError:
                return b""

    def test_strangers_get_not_one_byte(self) -> None:
        good = encode_hello(Hello(self.target.trial_id, "sender", 0), self.target.key)
        for first in (b"", b"GET / HTTP/1.1\r\n\r\n", os.urandom(4000), good[:-1], good[:-1] + b"\0"):
            self.assertEqual(self.knock(first), b"")
        other = Hello(b"another trial!!!", "sender", 0)
        self.assertEqual(self.knock(encode_hello(other, self.target.key)), b"")
        self.assertEqual(self.knock(good), WELCOME)

    def test_a_flow_is_admitted_once_and_only_those_of_the_trial(self) -> None:
        good = encode_hello(Hello(self.target.trial_id, "sender", 0), self.target.key)
        with socket.create_connection(self.target.address) as first:
            first.sendall(good)
            self.assertEqual(first.recv(1), WELCOME)
            self.assertEqual(self.knock(good), b"")
            for role, flow in (("sender", 1), ("receiver", 0)):
                hello = Hello(self.target.trial_id, role, flow)  # type: ignore[arg-type]
                self.assertEqual(self.knock(encode_hello(hello, self.target.key)), b"")
            admitted = self.listener.sockets(1)
            self.assertEqual(len(admitted["receiver"]), 1)
            close_all(admitted)

    def test_hundreds_of_silent_strangers_do_not_keep_the_flow_out(self) -> None:
        crowd = [socket.create_connection(self.target.address) for _ in range(20)]
        try:
            sockets = connect_flows(self.trial, self.target, Source())
            close_all(sockets)
        finally:
            for sock in crowd:
                sock.close()
        self.assertEqual(len(sockets["sender"]), 1)

    def test_missing_flows_are_an_error(self) -> None:
        with self.assertRaises(FarEndError):
            self.listener.sockets(0.01)


class Blocked(unittest.TestCase):
    def refusal(self, serve: Callable[[socket.socket], None]) -> str:
        with socket.socket() as target:
            target.bind((HOST, 0))
            target.listen()
            threading.Thread(target=serve, args=[target], daemon=True).start()
            with self.assertRaises(DataBlockedError) as caught:
                connect_flows(
                    TcpTrial((SEND,), duration_s=1.0),
                    DataTarget(target.getsockname(), bytes(16), bytes(32)),
                    Source(),
                )
            return caught.exception.message

    def test_refused(self) -> None:
        target = DataTarget((HOST, free_port()), bytes(16), bytes(32))
        with self.assertRaisesRegex(DataBlockedError, "was refused") as caught:
            connect_flows(TcpTrial((SEND,), duration_s=1.0), target, Source())
        self.assertIn(f"TCP port {target.address[1]}", caught.exception.hint)

    def test_something_else_answers(self) -> None:
        def hang_up(target: socket.socket) -> None:
            sock, _ = target.accept()
            sock.recv(100)
            sock.close()

        self.assertIn("closed before it was admitted", self.refusal(hang_up))

    def test_a_source_that_is_not_ours(self) -> None:
        with self.assertRaisesRegex(NearEndError, "cannot send from 203.0.113.9"):
            connect_flows(
                TcpTrial((SEND,), duration_s=1.0), DataTarget((HOST, 9), bytes(16), bytes(32)), Source("203.0.113.9")
            )

    def test_unknown_congestion_control(self) -> None:
        trial = TcpTrial((SEND,), duration_s=1.0, options=SocketOptions(congestion_control="no-such"))
        with self.assertRaisesRegex(NearEndError, "'no-such' is not available"):
            connect_flows(trial, DataTarget((HOST, 9), bytes(16), bytes(32)), Source())


class Pieces(unittest.TestCase):
    def test_counters_are_seen_through_the_descriptor(self) -> None:
        with closing(Counters(3)) as ours, closing(Counters(3, os.dup(ours.fileno()))) as theirs:
            theirs.cells[Counters.index(2, Cell.BYTES)] = 12**15
            self.assertEqual(ours.read(2, Cell.BYTES), 12**15)
            self.assertEqual(ours.read(1, Cell.BYTES), 0)

    def test_orders_survive_the_command_line(self) -> None:
        orders = Orders("sender", [5, 7], [0, 2], 9, 3, "zero-copy", "5eed", 10**12)
        self.assertEqual(Orders.decode(orders.encode()), orders)

    def test_a_taken_port_is_named(self) -> None:
        with socket.socket() as other:
            other.bind((HOST, 0))
            other.listen()
            with self.assertRaisesRegex(NearEndError, f"port {other.getsockname()[1]} is already in use"):
                listen(HOST, other.getsockname()[1])

    def test_addresses(self) -> None:
        self.assertEqual(format_address(("2001:2::1", 26470, 0, 0)), "[2001:2::1]:26470")
        self.assertEqual(format_address((HOST, 1)), "127.0.0.1:1")

    def test_a_connection_that_is_gone_tells_nothing(self) -> None:
        sock = socket.socket()
        sock.close()
        self.assertIsNone(read_tcp_info(sock))

    def test_a_meter_sees_this_process_work(self) -> None:
        meter = Meter([os.getpid()])
        until_s = time.process_time() + 0.1  # of this process, however long others make it wait for that
        while time.process_time() < until_s:
            pass
        use = meter.since_last()
        self.assertIsInstance(use, CpuUse)
        self.assertGreater(use.workers[0], 0)
        self.assertTrue(all(0 <= core <= 1 for core in use.cores))
        gone = Meter([])
        self.assertEqual(gone.since_last().workers, [])
