import secrets
import socket
import struct
import sys
import unittest
from collections.abc import Sequence
from contextlib import closing
from ipaddress import ip_network

import numpy as np

from harvok.clock import SYSTEM
from harvok.core.ends import RECEIVE, SEND
from harvok.core.trials.delay import DelayTrial
from harvok.core.trials.udp import UdpInterval, UdpService, UdpTrial
from harvok.core.wire.datagram import CHALLENGE_BYTES, answer_challenge
from harvok.core.wire.hello import KEY_BYTES, TRIAL_ID_BYTES, WELCOME, Hello, encode_hello
from harvok.core.wire.stamp import SenderPacket, decode_reflector, encode_sender
from harvok.errors import DataBlockedError, FarEndError, NearEndError, SilentError
from harvok.host.cpu import Meter
from harvok.traffic.datagrams import DatagramSender, make_receiver, prepare_receiving, prepare_sending
from harvok.traffic.delay import DelaySession, EchoProber, StampProber, find_probe_route
from harvok.traffic.reflector import Reflector, ReflectorSettings
from harvok.traffic.sockets import Source
from harvok.traffic.tcp import DataTarget
from harvok.traffic.udp import UdpListener, UdpTrialEnd, close_flows, open_flows
from tests.traffic.test_tcp import HOST

LOOPBACK_6 = "::1"


def free_udp_port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.bind((HOST, 0))
        return int(probe.getsockname()[1])


def answers_on(sock: socket.socket, timeout_s: float = 0.3) -> list[bytes]:
    """Everything that comes within a while."""
    sock.settimeout(timeout_s)
    got = []
    try:
        while True:
            got.append(sock.recv(2048))
    except TimeoutError:
        return got


class Datagrams(unittest.TestCase):
    """One sender, one receiver, every method, over loopback."""

    def carried(self, method: str, batch: int, payload: int, count: int) -> tuple[list[int], int]:
        with (
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as near,
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as far,
        ):
            prepare_receiving(far, None)
            far.bind((HOST, 0))
            far.setblocking(False)
            near.connect(far.getsockname())
            prepare_sending(near)
            sender = DatagramSender(near, 0x1234, payload, batch, method)  # type: ignore[arg-type]
            receiver = make_receiver(far, 0x1234, payload, batch, method)  # type: ignore[arg-type]
            near.send(struct.pack("!HQQ", 9, 1, 1).ljust(payload, b"\0"))  # of another trial
            near.send(b"short")
            while sender.sent < count:
                sender.send(count - sender.sent)
            numbers: list[int] = []
            foreign = 0
            while (got := receiver.receive()) is not None:
                seen, stamps, at_ns = got.heads
                numbers += seen.tolist()
                foreign += got.foreign
                self.assertTrue(((at_ns - stamps) < 10**10).all() and ((at_ns - stamps) > -(10**6)).all())
                self.assertTrue((np.abs(at_ns - SYSTEM.wall_ns()) < 60 * 10**9).all())
        return numbers, foreign

    def test_every_number_arrives_once_and_strangers_are_counted_apart(self) -> None:
        for method, batch in (("plain", 1), ("auto", 1), ("auto", 30), ("segmented", 64)):
            for payload, count in ((18, 500), (1472, 101)):
                numbers, foreign = self.carried(method, batch, payload, count)
                self.assertEqual(numbers, list(range(count)), (method, batch, payload))
                self.assertEqual(foreign, 2)

    @unittest.skipUnless(sys.platform == "linux", "segmentation is Linux's")
    def test_batches_are_cut_by_the_kernel(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            self.assertEqual(DatagramSender(sock, 1, 1472, 100, "auto").batch, 44)
            self.assertEqual(DatagramSender(sock, 1, 18, 100, "auto").batch, 64)
            plain = DatagramSender(sock, 1, 1472, 100, "plain")
            self.assertEqual((plain.batch, plain.means), (1, "plain"))


class Joined:
    """Both halves of a trial in this process, joined over loopback."""

    def __init__(self, trial: UdpTrial, host: str = HOST) -> None:
        target = DataTarget(
            (host, free_udp_port()), secrets.token_bytes(TRIAL_ID_BYTES), secrets.token_bytes(KEY_BYTES)
        )
        listener = UdpListener(trial, target.trial_id, target.key, host, target.address[1])
        near = open_flows(trial, target, Source())
        far = listener.sockets(5)
        listener.close()
        self.intervals: list[UdpInterval] = []
        self.near = UdpTrialEnd("near", trial, near, target.trial_id, SYSTEM)
        self.far = UdpTrialEnd("far", trial, far, target.trial_id, SYSTEM)

    def __enter__(self) -> "Joined":
        return self

    def __exit__(self, *_: object) -> None:
        self.near.close()
        self.far.close()

    def run(self) -> None:
        for half in (self.near, self.far):
            half.begin("receiver", Meter, self.intervals.append)
        for half in (self.near, self.far):
            half.begin("sender", Meter, self.intervals.append)
        for half in (self.near, self.far):
            assert half.wait(60)


class Transfers(unittest.TestCase):
    def check(self, trial: UdpTrial, host: str = HOST) -> None:
        with Joined(trial, host) as joined:
            joined.run()
            summaries = {(one.direction, one.role): one for one in (*joined.near.summaries(), *joined.far.summaries())}
        for direction in (stream.name for stream in trial.streams):
            sent, received = summaries[direction, "sender"].sent, summaries[direction, "receiver"].received
            self.assertEqual([flow.flow for flow in sent], list(range(trial.flows)))
            for out, back in zip(sent, received, strict=True):
                lost = sum(length * count for length, count in back.loss_runs.items())
                self.assertEqual(back.datagrams + lost, back.highest + 1)
                self.assertLessEqual(back.highest, out.datagrams - 1)
                self.assertEqual((back.duplicates, back.foreign), (0, 0))
            for role, summary in (("sender", sent), ("receiver", received)):
                reported = [i for i in joined.intervals if (i.direction, i.role) == (direction, role)]
                self.assertEqual(sum(i.datagrams for i in reported), sum(flow.datagrams for flow in summary))
                self.assertEqual(sorted({i.service for i in reported}), list(range(len(trial.services))))

    def test_one_flow_there(self) -> None:
        self.check(UdpTrial((UdpService(2000.0, 1000),), (SEND,), 0.6, 0.2))

    def test_several_services_both_ways_at_once(self) -> None:
        services = (UdpService(1000.0, 64, "voice", dscp=46), UdpService(4000.0, 1472, "data", flows=3))
        self.check(UdpTrial(services, (SEND, RECEIVE), 0.6, 0.3))

    def test_ipv6_in_batches(self) -> None:
        self.check(UdpTrial((UdpService(90_000.0, 600),), (RECEIVE,), 0.5, 0.25), LOOPBACK_6)


class TheGate(unittest.TestCase):
    """What the data port says to whom."""

    TRIAL = UdpTrial((UdpService(100.0, 100),), (RECEIVE,), 1.0)

    def setUp(self) -> None:
        self.key, self.trial_id = secrets.token_bytes(KEY_BYTES), secrets.token_bytes(TRIAL_ID_BYTES)
        self.port = free_udp_port()
        self.listener = UdpListener(self.TRIAL, self.trial_id, self.key, HOST, self.port)
        self.addCleanup(self.listener.close)

    def socket(self) -> socket.socket:
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(sock.close)
        sock.connect((HOST, self.port))
        return sock

    def hello(self, trial_id: bytes | None = None, flow: int = 0) -> bytes:
        return encode_hello(Hello(trial_id or self.trial_id, "receiver", flow), self.key)

    def test_strangers_hear_nothing(self) -> None:
        sock = self.socket()
        good = self.hello()
        others = [b"", b"x", good[:-1], good + b"x", bytes(56), self.hello(bytes(TRIAL_ID_BYTES)), bytes(1472)]
        for said in others:
            sock.send(said)
        self.assertEqual(answers_on(sock), [])

    def test_a_hello_seen_by_somebody_else_opens_nothing(self) -> None:
        near, forger = self.socket(), self.socket()
        near.send(self.hello())
        challenge = near.recv(64)
        self.assertEqual(len(challenge), CHALLENGE_BYTES)
        forger.send(answer_challenge(self.hello(), challenge, self.key))
        self.assertEqual(answers_on(forger), [])
        with self.assertRaises(FarEndError):
            self.listener.sockets(0.1)
        near.send(answer_challenge(self.hello(), challenge, self.key))
        self.assertEqual(near.recv(64), WELCOME)
        flows = self.listener.sockets(1)
        self.assertEqual(flows["receive"][0].getpeername(), near.getsockname())
        close_flows(flows)

    def test_a_missed_welcome_is_said_again(self) -> None:
        near = self.socket()
        near.send(self.hello())
        answer = answer_challenge(self.hello(), near.recv(64), self.key)
        near.send(answer)
        self.assertEqual(near.recv(64), WELCOME)
        unknown_flow = self.socket()
        unknown_flow.send(self.hello(flow=5))
        challenge = unknown_flow.recv(64)
        unknown_flow.send(answer_challenge(self.hello(flow=5), challenge, self.key))
        self.assertEqual(answers_on(unknown_flow), [])

    def test_a_silent_port_is_named(self) -> None:
        self.listener.close()
        target = DataTarget((HOST, self.port), self.trial_id, self.key)
        with self.assertRaises(DataBlockedError) as raised:
            open_flows(self.TRIAL, target, Source())
        self.assertIn("UDP port", raised.exception.hint)


class TheReflector(unittest.TestCase):
    def reflector(self, **settings: object) -> int:
        port = free_udp_port()
        reflector = Reflector(ReflectorSettings(port, HOST, **settings), SYSTEM)  # type: ignore[arg-type]
        self.addCleanup(reflector.close)
        return port

    def said(self, port: int, packets: Sequence[bytes], source: str = HOST) -> list[bytes]:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind((source, 0))
            sock.connect((HOST, port))
            for packet in packets:
                sock.send(packet)
            return answers_on(sock)

    def test_never_more_than_it_got_and_never_an_answer_to_rubbish(self) -> None:
        good = encode_sender(SenderPacket(1, SYSTEM.wall_ns(), 1, 7))
        packets = [b"", b"x", good[:40], good, good, good + bytes(500), good[:41]]
        answers = self.said(self.reflector(), packets)
        self.assertEqual([len(answer) for answer in answers], [44, 44, 544, 41])
        numbers = [decode_reflector(answer) for answer in answers]
        self.assertEqual([one.number for one in numbers if one], [0, 1, 2, 3])
        self.assertEqual({one.sender.number for one in numbers if one}, {1})

    def test_only_sealed_packets_with_a_key(self) -> None:
        port = self.reflector(key=b"dome to hall")
        packet = SenderPacket(4, SYSTEM.wall_ns(), 1, 7)
        sealed = encode_sender(packet, b"dome to hall")
        answers = self.said(port, [encode_sender(packet), encode_sender(packet, b"other"), bytes(112), sealed])
        self.assertEqual(len(answers), 1)
        self.assertIsNotNone(decode_reflector(answers[0], b"dome to hall"))

    def test_only_to_allowed_sources(self) -> None:
        port = self.reflector(allowed=[ip_network("127.0.0.8/29")])
        packet = encode_sender(SenderPacket(0, SYSTEM.wall_ns(), 1, 7))
        self.assertEqual(self.said(port, [packet]), [])
        self.assertEqual(len(self.said(port, [packet], source="127.0.0.9")), 1)

    def test_the_answer_comes_from_the_address_that_was_asked(self) -> None:
        """A host has several, and the route back leads over one of them."""
        port = free_udp_port()
        reflector = Reflector(ReflectorSettings(port, None), SYSTEM)
        self.addCleanup(reflector.close)
        packet = encode_sender(SenderPacket(0, SYSTEM.wall_ns(), 1, 7))
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind((HOST, 0))
            sock.connect(("127.0.0.5", port))  # which takes nothing from any other address
            sock.send(packet)
            self.assertEqual(len(answers_on(sock)), 1)

    def test_a_taken_port_is_said(self) -> None:
        port = self.reflector()
        with self.assertRaises(NearEndError):
            Reflector(ReflectorSettings(port, HOST), SYSTEM)

    def test_a_session_measures_it(self) -> None:
        for key in (None, b"dome to hall"):
            prober = StampProber((HOST, self.reflector(key=key)), Source(), key, 200)
            with closing(prober.sock):
                got = DelaySession(prober, SYSTEM).run(DelayTrial(20, 0.002, 200))
            self.assertEqual((len(got.echoes), got.duplicates, got.reordered, got.refused), (20, 0, 0, 0))
            self.assertEqual((got.lost_there, got.lost_back), (0, 0))
            self.assertTrue(all(echo.two_way_s and 0 < echo.two_way_s < 1 for echo in got.echoes))

    def test_finding_what_answers(self) -> None:
        port = self.reflector()
        trial = DelayTrial(5, 0.001)
        self.assertEqual(
            find_probe_route(HOST, (free_udp_port(), port), Source(), None, trial, SYSTEM, False).port, port
        )
        with self.assertRaises(SilentError):
            find_probe_route(HOST, (free_udp_port(),), Source(), None, trial, SYSTEM, False)


class LossyReflector(unittest.TestCase):
    """A reflector of our own making, that loses on purpose; tells the ways of loss apart."""

    def measured(
        self, lost_there: set[int], lost_back: set[int], twice: set[int]
    ) -> tuple[int | None, int | None, int]:
        with (
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as near,
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as far,
        ):
            far.bind((HOST, 0))
            prober = _Bent(far, lost_there, lost_back, twice, near)
            prober.sock.connect(far.getsockname())
            got = DelaySession(prober, SYSTEM).run(DelayTrial(30, 0.0005, wait_s=0.3))
            prober.sock.close()
        self.assertEqual(sum(echo.two_way_s is None for echo in got.echoes), len(lost_there) + len(lost_back))
        return got.lost_there, got.lost_back, got.duplicates

    def test_there_and_back(self) -> None:
        self.assertEqual(self.measured({3, 4, 9}, {12, 20}, {15}), (3, 2, 1))
        self.assertEqual(self.measured({12}, set(), set()), (1, 0, 0))

    def test_numbers_that_are_all_ours_tell_nothing_of_either_way(self) -> None:
        self.assertEqual(self.measured(set(), {12}, set()), (None, None, 0))
        self.assertEqual(self.measured(set(), set(), {3}), (0, 0, 1))


class _Bent(StampProber):
    """Answers its own requests through a second socket, leaving some out."""

    def __init__(
        self, far: socket.socket, there: set[int], back: set[int], twice: set[int], near: socket.socket
    ) -> None:
        super().__init__(far.getsockname(), Source(), None, 44)
        self._far, self._there, self._back, self._twice, self._counted = far, there, back, twice, 0

    def request(self, number: int, sent_ns: int) -> bytes:
        from harvok.core.wire.stamp import ReflectorPacket, decode_sender, encode_reflector

        raw = super().request(number, sent_ns)
        packet = decode_sender(raw)
        assert packet
        if number not in self._there:
            answer = ReflectorPacket(self._counted, SYSTEM.wall_ns(), 1, packet.ssid, SYSTEM.wall_ns(), packet, 64)
            self._counted += 1
            for _ in range(0 if number in self._back else 2 if number in self._twice else 1):
                self._far.sendto(encode_reflector(answer, raw), self.sock.getsockname())
        return raw


class Echo(unittest.TestCase):
    def test_loopback_answers(self) -> None:
        for host in (HOST, LOOPBACK_6):
            try:
                prober = EchoProber(host, Source(), 56)
            except NearEndError as error:
                self.skipTest(error.message)
            with closing(prober.sock):
                got = DelaySession(prober, SYSTEM).run(DelayTrial(5, 0.002))
            self.assertEqual(sum(echo.two_way_s is not None for echo in got.echoes), 5)
            self.assertEqual((got.means, got.lost_there), ("echo", None))
