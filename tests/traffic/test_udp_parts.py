import socket
import struct
import unittest
from typing import Any

from harvok.clock import SYSTEM
from harvok.core.ends import SEND
from harvok.core.trials.udp import UdpService, UdpTrial
from harvok.errors import NearEndError
from harvok.rigs.stations import StationsSettings
from harvok.station.contact import Access
from harvok.testing.clock import ManualClock
from harvok.traffic.datagrams import DatagramSender, max_in_a_batch, prepare_receiving, prepare_sending, socket_drops
from harvok.traffic.delay import DelaySession, StampProber
from harvok.traffic.path_mtu import path_mtu_bytes
from harvok.traffic.reflector import Reflector, ReflectorSettings
from harvok.traffic.sockets import Source, families_of
from harvok.traffic.stamps import receive, tell_times
from harvok.traffic.udp import interface_index
from harvok.traffic.udp_processes import _together
from harvok.traffic.udp_worker import FlowOrder, UdpOrders
from tests.traffic.test_tcp import HOST
from tests.traffic.test_udp import free_udp_port


def reported(**changed: Any) -> dict[str, Any]:
    flow = {
        "datagrams": 10, "missing": 1, "duplicates": 0, "reordered": 2, "longest_run": 1, "jitter_s": 1e-6,
        "min_transit_s": 0.001, "mean_transit_s": 0.002, "max_transit_s": 0.003,
    }  # fmt: skip
    return flow | changed


class FlowsOfOneService(unittest.TestCase):
    def test_sums_means_and_extremes(self) -> None:
        found = _together([reported(), reported(missing=4, longest_run=4, jitter_s=3e-6, min_transit_s=0.0005)])
        self.assertEqual((found["missing"], found["reordered"], found["longest_run"]), (5, 4, 4))
        self.assertAlmostEqual(found["jitter_s"], 2e-6)
        self.assertEqual((found["min_transit_s"], found["max_transit_s"]), (0.0005, 0.003))

    def test_flows_of_which_nothing_came(self) -> None:
        silent = reported(jitter_s=None, min_transit_s=None, mean_transit_s=None, max_transit_s=None)
        self.assertEqual(_together([silent, reported()])["jitter_s"], 1e-6)
        found = _together([silent])
        self.assertEqual((found["jitter_s"], found["mean_transit_s"], found["min_transit_s"]), (None, None, None))


class Orders(unittest.TestCase):
    def test_there_and_back(self) -> None:
        orders = UdpOrders("sender", 7, [FlowOrder(3, 0, 1, 100.0, 64, 0.25, 0.0, 1.5)], 1.5, 0.5, 8, "auto")
        self.assertEqual(UdpOrders.decode(orders.encode()), orders)

    def test_flows_are_numbered_through_all_services(self) -> None:
        trial = UdpTrial(
            (UdpService(1.0, 18, flows=2), UdpService(1.0, 18), UdpService(1.0, 18, flows=3)), (SEND,), 1.0
        )
        self.assertEqual((trial.flows, trial.flow_services), (6, [0, 0, 1, 2, 2, 2]))


class Sockets(unittest.TestCase):
    def pair(self) -> tuple[socket.socket, socket.socket]:
        near, far = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2))
        for sock in (near, far):
            self.addCleanup(sock.close)
        far.bind((HOST, 0))
        near.connect(far.getsockname())
        return near, far

    def test_batches_fit_one_packet(self) -> None:
        self.assertEqual((max_in_a_batch(1472), max_in_a_batch(18), max_in_a_batch(60_000)), (44, 64, 1))

    def test_what_a_full_socket_drops_is_counted(self) -> None:
        near, far = self.pair()
        prepare_receiving(far, 4096)
        self.assertEqual(socket_drops(far), 0)
        for _ in range(200):
            near.send(bytes(1000))
        self.assertGreater(socket_drops(far), 100)

    def test_a_datagram_that_does_not_fit_is_an_error_and_not_cut(self) -> None:
        near, _ = self.pair()
        prepare_sending(near)
        sender = DatagramSender(near, 1, 65_507, 1, "plain")
        try:
            sender.send(1)
        except OSError as error:
            self.assertTrue(error.errno)
        self.assertLessEqual(sender.sent, 1)

    def test_a_port_that_closed_is_told(self) -> None:
        near, far = self.pair()
        prepare_sending(near)
        far.close()
        sender = DatagramSender(near, 1, 100, 1, "plain")
        with self.assertRaises(ConnectionRefusedError):
            for _ in range(50):
                sender.send(1)
                SYSTEM.sleep(0.002)

    def test_arrival_is_the_kernels_and_the_ttl_is_told(self) -> None:
        near, far = self.pair()
        tell_times(far)
        near.setsockopt(socket.IPPROTO_IP, socket.IP_TTL, 33)
        before_ns = SYSTEM.wall_ns()
        near.send(b"x")
        got = receive(far, 100, SYSTEM)
        self.assertTrue(before_ns - 1_000_000 <= got.at_ns <= SYSTEM.wall_ns())
        self.assertEqual((got.data, got.hops_left), (b"x", 33))

    def test_versions_and_interfaces(self) -> None:
        self.assertEqual(families_of("198.18.0.1"), [socket.AF_INET])
        self.assertEqual(families_of("2001:2::1"), [socket.AF_INET6])
        self.assertEqual(interface_index("::1"), socket.if_nametoindex("lo"))
        self.assertEqual(interface_index("2001:2::99"), 0)


class PathMtu(unittest.TestCase):
    def setUp(self) -> None:
        self.port = free_udp_port()
        self.addCleanup(Reflector(ReflectorSettings(self.port, HOST), SYSTEM).close)

    def test_what_the_interface_carries_comes_back_at_once(self) -> None:
        self.assertEqual(path_mtu_bytes((HOST, self.port), 1500, Source(), None, SYSTEM), 1500)

    def test_nothing_answers(self) -> None:
        self.assertIsNone(path_mtu_bytes((HOST, free_udp_port()), 1500, Source(), None, SYSTEM))


class Sessions(unittest.TestCase):
    def test_answers_of_another_session_are_refused(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as far:
            far.bind((HOST, 0))
            prober = StampProber(far.getsockname(), Source(), None, 44)
            self.addCleanup(prober.sock.close)
            raw = bytearray(prober.request(0, SYSTEM.wall_ns()))
            raw[14:16] = struct.pack("!H", (struct.unpack("!H", raw[14:16])[0] ^ 1) or 3)
            far.sendto(bytes(raw), prober.sock.getsockname())
            self.assertIsNone(prober.answer(receive_one(prober.sock)))

    def test_one_that_is_interrupted_keeps_what_it_has(self) -> None:
        from harvok.core.trials.delay import DelayTrial

        port = free_udp_port()
        self.addCleanup(Reflector(ReflectorSettings(port, HOST), SYSTEM).close)
        prober = StampProber((HOST, port), Source(), None, 44)
        self.addCleanup(prober.sock.close)
        session = DelaySession(prober, SYSTEM)
        got = session.run(DelayTrial(1000, 0.01), lambda echo: session.interrupt() if echo.number >= 2 else None)
        self.assertTrue(3 <= len(got.echoes) < 1000)

    def test_a_size_that_does_not_fit_is_said(self) -> None:
        from harvok.core.trials.delay import DelayTrial

        prober = StampProber((HOST, 9), Source(), None, 65_560)
        self.addCleanup(prober.sock.close)
        with self.assertRaisesRegex(NearEndError, "do not fit"):
            DelaySession(prober, ManualClock()).run(DelayTrial(1, 0.01, 65_560))

    def test_settings_of_a_pair_of_stations(self) -> None:
        self.assertIsNone(StationsSettings("hall", Access("x")).stamp_key)


def receive_one(sock: socket.socket) -> Any:
    sock.setblocking(True)
    sock.settimeout(2)
    return receive(sock, 2048, SYSTEM)
