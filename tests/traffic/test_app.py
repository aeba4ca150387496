"""The engine of application traffic over loopback: users and service together, each with a third party, and with ends
that misbehave."""

import asyncio
import os
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import threading
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import httpx2
import uvicorn

from harvok.certificates import self_signed
from harvok.clock import SYSTEM
from harvok.core.app.reading import spread_of
from harvok.core.ends import RECEIVE, SEND
from harvok.core.measures.bins import merged
from harvok.core.trials.app import Action, Application, AppMix, AppSummary, AppTrial, Level, LevelCounts
from harvok.core.wire.app import Wanted, make_exchange, make_http, proof_of
from harvok.core.wire.http1 import make_response
from harvok.errors import DataBlockedError
from harvok.host.cpu import Meter
from harvok.traffic.app.ends import MEDIA_ABOVE, AppListener, AppSide, open_users
from harvok.traffic.app.watch import ServiceWatch
from harvok.traffic.sockets import Source
from harvok.traffic.tcp import DataTarget
from harvok.traffic.together import Sides, TogetherEnd
from tests.whole.program import free_ports

HOST = "127.0.0.1"
ID, KEY = b"i" * 16, b"k" * 32
PROOF = proof_of(ID, KEY)
FETCH = Action("fetch", (1000,))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind((HOST, 0))
        return int(probe.getsockname()[1])


def application(*actions: Action, **more: Any) -> Application:
    return Application("web", 1.0, actions or (FETCH,), **more)


def trial_of(
    *applications: Application,
    users: int = 4,
    sustain_s: float = 0.6,
    ramp_s: float = 0.1,
    arrivals: float | None = None,
    **more: Any,
) -> AppTrial:
    level = Level(sustain_s, ramp_s, None if arrivals else users, arrivals)
    more = {"interval_s": 0.2, "ramp_down_s": 0.2} | more
    return AppTrial(AppMix("m", applications or (application(),)), (SEND,), (level,), **more)


def users_of(trial: AppTrial, port: int, within_s: float = 20) -> AppSummary:
    """What the users of a trial come to, towards whoever is at a port."""
    side = AppSide([], (HOST, port), Source(), PROOF, media_port=port + MEDIA_ABOVE["far"])
    with closing(TogetherEnd("near", trial, Sides(side, {}), ID, SYSTEM)) as near:
        near.begin("sender", Meter, lambda _: None)
        assert near.wait(trial.duration_s + within_s), "the users did not end in time"
        summary: AppSummary = near.summaries()[0]
        return summary


def level_of(trial: AppTrial, port: int) -> LevelCounts:
    (level,) = users_of(trial, port).levels
    return level


def failures(level: LevelCounts) -> dict[str, int]:
    total: dict[str, int] = {}
    for action in level.actions:
        for reason, number in action.failures.items():
            total[reason] = total.get(reason, 0) + number
    return total


class ServedHere:
    """The service of a trial in processes of its own."""

    def __init__(self, trial: AppTrial) -> None:
        self.port = free_ports()
        side = AppListener(trial, ID, KEY, HOST, self.port, HOST).sockets(1)
        self.end = TogetherEnd("far", trial, Sides(side, {}), ID, SYSTEM)
        self.end.begin("receiver", Meter, lambda _: None)

    def counts(self) -> Any:
        assert self.end.wait(30)
        return self.end.summaries()[0].service

    def close(self) -> None:
        self.end.close()


def both_ways(trial: AppTrial) -> tuple[LevelCounts, Any]:
    """Users at the far end, and the service at the near one."""
    port = free_ports()
    target = DataTarget((HOST, port), ID, KEY)
    near_side = open_users(trial, target, Source(HOST))
    far_side = AppListener(trial, ID, KEY, HOST, port, HOST).sockets(1)
    with (
        closing(TogetherEnd("near", trial, Sides(near_side, {}), ID, SYSTEM)) as near,
        closing(TogetherEnd("far", trial, Sides(far_side, {}), ID, SYSTEM)) as far,
    ):
        near.begin("receiver", Meter, lambda _: None)
        far.begin("sender", Meter, lambda _: None)
        assert far.wait(30) and near.wait(30)
        return far.summaries()[0].levels[0], near.summaries()[0].service


def together(trial: AppTrial) -> tuple[LevelCounts, Any]:
    """The users and the service of a trial."""
    with closing(ServedHere(trial)) as service:
        level = level_of(trial, service.port)
        return level, service.counts()


class UsersAndService(unittest.TestCase):
    def assert_whole(self, level: LevelCounts, trial: AppTrial) -> None:
        """Everything was answered, and counted to the byte."""
        self.assertEqual(failures(level), {})
        self.assertTrue(all(action.transactions for action in level.actions))
        for action in level.actions:
            self.assertEqual(sum(action.response.values()), action.transactions)
        self.assertEqual(level.level, 0)
        self.assertGreater(level.seconds, 0.8 * trial.levels[0].sustain_s)

    def test_one_transaction_a_connection(self) -> None:
        trial = trial_of(application(transactions_per_connection=1))
        level, service = together(trial)
        self.assert_whole(level, trial)
        (action,), (connections,) = level.actions, level.connections
        self.assertLessEqual(abs(connections.opened - action.transactions), 4)
        head = len(make_response(200, 1000, close=True))
        self.assertEqual(action.response_bytes, action.transactions * (head + 1000))
        self.assertEqual((service.strangers, service.malformed), (0, 0))
        self.assertGreaterEqual(service.transactions, action.transactions)
        self.assertTrue(0.95 < connections.segments_sent / connections.opened / 5 < 1.05, connections)
        self.assertEqual(connections.retransmitted, 0)

    def test_connections_that_stay_and_bodies_of_all_sizes(self) -> None:
        sizes = (0, 1, 65_000, 65_536, 65_537, 300_000, 5_000_000)
        ups = (0, 10, 100_000, 3_000_000)
        for protocol in ("http/1.1", "http/2", "tcp"):
            down = sizes[1:] if protocol == "tcp" else sizes
            trial = trial_of(application(Action("fetch", down), Action("store", (20,), ups), protocol=protocol))
            level, _ = together(trial)
            self.assert_whole(level, trial)
            self.assertLessEqual(level.connections[0].opened, 4)

    def test_streams_side_by_side_on_connections_that_end(self) -> None:
        """Twelve at once on one connection, which takes five more after them; then over two that take seven each."""
        page = Action("page", (1000, 40_000, 0), times=12, service_s=(0.0, 0.003))
        for way, most in (
            ({"transactions_per_connection": 17}, 17),
            ({"transactions_per_connection": 7, "connections": 2}, 7),
        ):
            trial = trial_of(application(page, FETCH, protocol="http/2", **way), sustain_s=1.0)
            level, service = together(trial)
            self.assert_whole(level, trial)
            asked = sum(action.transactions for action in level.actions)
            self.assertGreater(level.connections[0].opened * most, asked - 4 * 2 * most)
            self.assertLess(level.connections[0].opened, asked / 3)
            self.assertEqual((level.connections[0].resets, service.malformed), (0, 0))

    def test_media_streams_flow_both_ways_and_are_counted(self) -> None:
        """Calls of ten datagrams each way beside pages; over loopback next to nothing is lost, whoever is busy."""
        call = Action("call", (200,), (160,), packets_per_s=50, lasts_s=0.2)
        calls = Application("calls", 1.0, (call,), "udp")
        trial = trial_of(application(), calls, users=8, sustain_s=2.0)
        for tried in (trial, replace(trial, streams=(RECEIVE,))):
            level, service = both_ways(tried) if tried.streams == (RECEIVE,) else together(tried)
            media = level.actions[1].media
            assert media
            ended = level.actions[1].transactions
            self.assertGreater(ended, 4)
            self.assertEqual((media.sent_up, media.sent_down), (10 * ended, 10 * ended))
            self.assertLess(media.lost_up + media.lost_down, 2 * ended)
            self.assertEqual(sum(media.jitter_up.values()), ended)
            self.assertEqual(sum(level.actions[1].first_byte.values()), ended)
            self.assertEqual(service.strangers, 0)
            self.assertIsNone(level.actions[0].media)

    def test_calls_that_nobody_answers_fail(self) -> None:
        call = Action("call", (200,), (160,), packets_per_s=50, lasts_s=0.1)
        trial = trial_of(Application("calls", 1.0, (call,), "udp"), users=2, sustain_s=2.0)
        with closing(ServedHere(replace(trial, mix=AppMix("m", (application(),))))) as service:
            level = level_of(trial, service.port)
        self.assertEqual(failures(level).keys(), {"no-answer"})
        self.assertEqual(level.actions[0].transactions, 0)

    def test_a_page_on_streams_waits_for_the_service_once(self) -> None:
        page = Action("page", (1000,), times=10, service_s=(0.05,))
        level, _ = together(trial_of(application(page, protocol="http/2"), users=2, sustain_s=1.0))
        response = spread_of(level.actions[0].response)
        assert response
        self.assertGreater(level.actions[0].transactions, 100)  # ten in every 50 ms or a little more, of two users
        self.assertGreaterEqual(response.median_s, 0.0495)

    def test_all_of_it_over_tls(self) -> None:
        sizes, ups = (1, 1000, 65_536, 300_000, 2_000_000), (0, 100_000, 700_000)
        actions = (Action("fetch", sizes), Action("store", (20,), ups))
        for way in (
            {"transactions_per_connection": 1}, {"transactions_per_connection": 7, "connections": 2},
            {"transactions_per_connection": 7, "protocol": "http/2"},
        ):  # fmt: skip
            trial = trial_of(application(*actions, tls=True, **way), sustain_s=1.0)
            level, service = together(trial)
            self.assert_whole(level, trial)
            shaken = sum(level.connections[0].tls_handshake.values())
            self.assertLessEqual(
                abs(shaken - level.connections[0].opened), 8
            )  # under way where the level began or ended
            self.assertEqual((service.strangers, service.malformed), (0, 0))

    def test_applications_with_and_without_tls_share_a_port(self) -> None:
        other = Application("other", 1.0, (FETCH,), tls=True, transactions_per_connection=3)
        plain = Application("plain", 1.0, (FETCH,), "tcp", 5)
        trial = trial_of(application(), other, plain, users=6)
        level, service = together(trial)
        self.assert_whole(level, trial)
        self.assertEqual([bool(one.tls_handshake) for one in level.connections], [False, True, False])
        self.assertEqual((service.strangers, service.malformed), (0, 0))

    def test_several_connections_of_a_user_and_a_service_that_takes_its_time(self) -> None:
        page = Action("page", (2000,), service_s=(0.02,))
        objects = Action("objects", tuple(range(1000, 9000, 1000)), times=8, think_s=(0.01,))
        trial = trial_of(application(page, objects, connections=3, transactions_per_connection=20), users=5)
        level, _ = together(trial)
        self.assert_whole(level, trial)
        self.assertAlmostEqual(level.actions[1].transactions / level.actions[0].transactions, 8, delta=4)
        spread = spread_of(level.actions[0].first_byte)
        assert spread
        self.assertGreaterEqual(spread.min_s, 0.02 * 127 / 128)
        self.assertGreater(level.mean_open_connections, 5)
        self.assertLessEqual(level.mean_open_connections, 15)

    def test_arrivals_come_at_their_rate_and_leave(self) -> None:
        trial = trial_of(arrivals=200.0, sustain_s=1.0)
        level, _ = together(trial)
        self.assert_whole(level, trial)
        self.assertAlmostEqual(level.actions[0].transactions, 200, delta=60)
        self.assertLess(level.mean_users, 50)

    def test_arrivals_beyond_the_limit_of_users_are_unserved(self) -> None:
        slow = application(Action("wait", (10,), service_s=(0.3,)))
        level, _ = together(trial_of(slow, arrivals=100.0, sustain_s=1.0, max_users=10))
        self.assertGreater(level.unserved, 20)
        self.assertLessEqual(level.mean_users, 10)

    def test_a_service_that_stalls_shows_in_the_times_of_those_who_arrive(self) -> None:
        trial = trial_of(arrivals=300.0, sustain_s=2.0)
        with closing(ServedHere(trial)) as service:
            pids = [pid for watch in service.end._watches for pid in watch._processes.pids]  # type: ignore[attr-defined]

            def stall() -> None:
                time.sleep(1.0)
                for stop in (signal.SIGSTOP, signal.SIGCONT):
                    for pid in pids:
                        os.kill(pid, stop)
                    time.sleep(0.3)

            stalling = threading.Thread(target=stall)
            stalling.start()
            level = level_of(trial, service.port)
            stalling.join()
        spread = spread_of(merged(action.response for action in level.actions))
        assert spread
        self.assertGreater(spread.p99_s, 0.2)

    def test_users_at_both_ends_at_once(self) -> None:
        trial = replace(trial_of(users=3), streams=(SEND, RECEIVE))
        target = DataTarget((HOST, free_ports()), ID, KEY)
        listener = AppListener(trial, ID, KEY, HOST, target.address[1], HOST)
        near_side = open_users(trial, target, Source(HOST))
        with (
            closing(TogetherEnd("near", trial, Sides(near_side, {}), ID, SYSTEM)) as near,
            closing(TogetherEnd("far", trial, Sides(listener.sockets(1), {}), ID, SYSTEM)) as far,
        ):
            for end in (near, far):
                end.begin("receiver", Meter, lambda _: None)
            for end in (far, near):
                end.begin("sender", Meter, lambda _: None)
            self.assertTrue(near.wait(30) and far.wait(30))
            summaries = [*near.summaries(), *far.summaries()]
        found = {(one.direction, one.role): one for one in summaries}
        for direction in ("send", "receive"):
            (level,) = found[direction, "sender"].levels
            self.assert_whole(level, trial)
            service = found[direction, "receiver"].service
            assert service
            self.assertGreaterEqual(service.transactions, level.actions[0].transactions)

    def test_levels_are_counted_apart(self) -> None:
        levels = (Level(0.4, 0.1, 2), Level(0.4, 0.1, 8), Level(0.4, 0.1, 1))
        trial = AppTrial(AppMix("m", (application(),)), (SEND,), levels, 0.1, 0.2)
        with closing(ServedHere(trial)) as service:
            found = users_of(trial, service.port).levels
        self.assertEqual([level.level for level in found], [0, 1, 2])
        self.assertEqual([round(level.mean_users) for level in found], [2, 8, 1])

    def test_nobody_listening_is_said_before_the_trial(self) -> None:
        with self.assertRaises(DataBlockedError):
            open_users(trial_of(), DataTarget((HOST, free_port()), ID, KEY), Source())


class TheServiceAndOthers(unittest.TestCase):
    def setUp(self) -> None:
        trial = trial_of(application(), Application("secret", 1.0, (FETCH,), tls=True), sustain_s=60)
        listener = AppListener(trial, ID, KEY, HOST, port := free_port(), HOST)
        side = listener.sockets(1)
        self.addCleanup(self._close, side)
        fds = [one.fileno() for one in side.listeners]
        self.watch = ServiceWatch("far", "send", trial, PROOF, fds, prove_s=2.0)
        self.addCleanup(self.watch.close)
        self.watch.wait_ready()
        self.watch.begin()
        self.port = port
        self.base = f"http://{HOST}:{port}/{PROOF}"

    def _close(self, side: AppSide) -> None:
        for listener in side.listeners:
            listener.close()

    def raw(self, data: bytes, seconds: float = 5.0) -> bytes:
        """All that is answered to some bytes until the connection ends, or nothing more comes."""
        with socket.create_connection((HOST, self.port), seconds) as sock:
            sock.sendall(data)
            got = b""
            try:
                while piece := sock.recv(65_536):
                    got += piece
            except (TimeoutError, ConnectionResetError):
                pass
            return got

    def test_another_client_is_answered(self) -> None:
        with httpx2.Client() as client:
            for size in (0, 1, 64_000, 70_000, 3_000_000):
                self.assertEqual(len(client.get(f"{self.base}/any/name/{size}").content), size)
            self.assertEqual(len(client.post(f"{self.base}/30", content=b"u" * 1_000_000).content), 30)
            self.assertEqual(len(client.put(f"{self.base}/30", content=iter([b"a" * 70_000, b"b"] * 9)).content), 30)
            head = client.head(f"{self.base}/4000")
            self.assertEqual((head.status_code, head.headers["content-length"]), (200, "4000"))
            self.assertEqual(client.delete(f"{self.base}/4").status_code, 405)
            before = time.monotonic()
            client.get(f"{self.base}/4?after=50000")
            self.assertGreaterEqual(time.monotonic() - before, 0.05)

    def test_another_client_is_answered_over_http2(self) -> None:
        """By prior knowledge, and as agreed in TLS. Its header blocks refer to those before."""
        for base in (self.base, self.base.replace("http://", "https://")):
            with httpx2.Client(http1=base.startswith("https"), http2=True, verify=False) as client:
                for size in (0, 1, 64_000, 70_000, 3_000_000):
                    answer = client.get(f"{base}/any/name/{size}?after=1000")
                    self.assertEqual((len(answer.content), answer.http_version), (size, "HTTP/2"))
                self.assertEqual(len(client.post(f"{base}/30", content=b"u" * 1_000_000).content), 30)
                self.assertEqual(client.head(f"{base}/4000").headers["content-length"], "4000")
                self.assertEqual(client.delete(f"{base}/4").status_code, 405)

    def test_another_client_is_answered_over_tls(self) -> None:
        base = self.base.replace("http://", "https://")
        with httpx2.Client(verify=False) as client:
            for size in (0, 1, 64_000, 70_000, 3_000_000):
                self.assertEqual(len(client.get(f"{base}/any/{size}").content), size)
            self.assertEqual(len(client.post(f"{base}/30", content=b"u" * 1_000_000).content), 30)

    def test_requests_in_one_piece_and_in_many(self) -> None:
        one = make_http(PROOF, ("a",), "hall", Wanted(500, 0, 0, False))
        last = make_http(PROOF, ("a",), "hall", Wanted(700, 1000, 20, True)) + b"u" * 20
        size = len(make_response(200, 500)) + 500
        final = len(make_response(200, 700, close=True)) + 700
        self.assertEqual(len(self.raw(one * 40 + last)), 40 * size + final)
        with socket.create_connection((HOST, self.port), 5) as sock:
            for at in range(len(last)):
                sock.sendall(last[at : at + 1])
            got = b""
            while piece := sock.recv(4096):
                got += piece
        self.assertEqual(len(got), final)

    def test_a_stranger_is_sent_away_without_a_word(self) -> None:
        for data in (
            b"GET / HTTP/1.1\r\nHost: a\r\n\r\n", b"\x16\x03\x01\x02\x00", secrets.token_bytes(300),
            make_http("0" * 24, ("a",), "hall", Wanted(500, 0, 0, False)),
            make_exchange("0" * 24, Wanted(500, 0, 0, False)), b"GET /" + b"a" * 40_000, b"", b"GET /slow",
            b"PRI * HTTP/2.1\r\n\r\nSM\r\n\r\n", b"PRI",
        ):  # fmt: skip
            self.assertEqual(self.raw(data), b"", data[:30])
        self.assertEqual(httpx2.get(f"{self.base}/5").status_code, 200)

    def test_what_is_malformed_ends_its_connection_alone(self) -> None:
        with httpx2.Client() as client:
            client.get(f"{self.base}/5")
            for data in (
                f"GET /{PROOF}/x HTTP/1.1\r\n\r\n".encode(), f"GET /{PROOF}/99999999999999 HTTP/1.1\r\n\r\n".encode(),
                f"POST /{PROOF}/5 HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n".encode(),
            ):  # fmt: skip
                self.assertEqual(self.raw(data), b"")
            self.assertEqual(len(client.get(f"{self.base}/5").content), 5)


@contextmanager
def served_by(handle: Callable[[socket.socket], None]) -> Iterator[int]:
    """A server that treats each connection as a function says, each in a thread."""
    with socket.create_server((HOST, 0), backlog=100) as listener:

        def serve() -> None:
            while True:
                try:
                    sock, _ = listener.accept()
                except OSError:
                    return
                threading.Thread(target=guarded, args=[sock], daemon=True).start()

        def guarded(sock: socket.socket) -> None:
            with sock:
                try:
                    handle(sock)
                except OSError:
                    return

        threading.Thread(target=serve, daemon=True).start()
        yield listener.getsockname()[1]
        listener.shutdown(socket.SHUT_RDWR)


def answering(*pieces: bytes, linger: bool = False) -> Callable[[socket.socket], None]:
    """Answers every request with the same pieces, a moment between them; then ends the connection, with a reset where
    `linger`."""

    def handle(sock: socket.socket) -> None:
        sock.recv(65_536)
        for piece in pieces:
            sock.sendall(piece)
            time.sleep(0.01)
        if linger:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")

    return handle


HEAD = make_response(200, 1000)


class UsersAndOthers(unittest.TestCase):
    def reasons(self, handle: Callable[[socket.socket], None], timeout_s: float = 5.0) -> set[str]:
        """Why transactions failed, of one user and a server that behaves in a way."""
        with served_by(handle) as port:
            level = level_of(trial_of(users=1, ramp_s=0.0, sustain_s=1.0, timeout_s=timeout_s), port)
        return set(failures(level))

    def test_every_way_to_fail_is_told_apart_and_nothing_hangs(self) -> None:
        def silent(_: socket.socket) -> None:
            time.sleep(3)

        for handle, reason in (
            (answering(HEAD + b"x" * 900), "closed"),
            (answering(), "closed"),
            (answering(HEAD, b"x" * 500, linger=True), "reset"),
            (answering(b"SSH-2.0-x\r\n"), "malformed"),
            (answering(b"HTTP/1.1 200 OK\r\nContent-Length: x\r\n\r\n"), "malformed"),
            (answering(HEAD + b"x" * 1001), "malformed"),
            (answering(make_response(200, 999) + b"x" * 999), "altered"),
            (answering(b"HTTP/1.1 503 No\r\nContent-Length: 0\r\n\r\n"), "status 503"),
            (answering(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nabcde\r\n0\r\n\r\n"), "altered"),
            (answering(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n"), "malformed"),
        ):
            self.assertEqual(self.reasons(handle), {reason}, reason)
        self.assertEqual(self.reasons(silent, timeout_s=0.3), {"timeout"})

    def test_nobody_there_is_refused(self) -> None:
        level = level_of(trial_of(users=1, ramp_s=0.0), free_port())
        self.assertEqual(set(failures(level)), {"refused"})

    def test_a_server_that_dies_in_mid_test_costs_what_it_costs(self) -> None:
        trial = trial_of(users=3, sustain_s=4.0)
        with closing(ServedHere(trial)) as service:
            killer = threading.Timer(3.0, service.close)
            killer.start()
            level = level_of(trial, service.port)
            killer.join()
        self.assertTrue(level.actions[0].transactions)
        self.assertLessEqual(set(failures(level)), {"reset", "refused", "closed"})
        self.assertTrue(failures(level))

    def test_answers_in_pieces_and_without_a_length_are_whole(self) -> None:
        chunked = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + b"1f4\r\n%s\r\n" % (b"x" * 500) * 2
        for handle in (
            answering(HEAD[:10], HEAD[10:], b"x" * 400, b"x" * 600),
            answering(chunked, b"0\r\n\r\n"),
            answering(b"HTTP/1.1 200 OK\r\n\r\n", b"x" * 1000),
        ):
            with served_by(handle) as port:
                level = level_of(trial_of(application(transactions_per_connection=1), users=2), port)
            self.assertEqual(failures(level), {})
            self.assertTrue(level.actions[0].transactions)

    def test_another_server_serves_our_users(self) -> None:
        async def serve(scope: Any, receive: Any, send: Any) -> None:
            assert scope["type"] == "http"
            while (await receive()).get("more_body"):
                pass
            size = int(scope["path"].rsplit("/", 1)[1])
            headers = [(b"content-length", b"%d" % size)]
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            await send({"type": "http.response.body", "body": b"x" * size})

        server = uvicorn.Server(uvicorn.Config(serve, HOST, port := free_port(), log_level="error", lifespan="off"))
        thread = threading.Thread(target=lambda: asyncio.run(server.serve()))
        thread.start()
        try:
            while not server.started:
                time.sleep(0.01)
            store = Action("store", (50,), (200_000,))
            for way in ({"transactions_per_connection": 1}, {"transactions_per_connection": 7, "connections": 3}, {}):
                level = level_of(trial_of(application(FETCH, store, **way), users=3), port)
                self.assertEqual(failures(level), {}, way)
                self.assertTrue(all(action.transactions for action in level.actions))
        finally:
            server.should_exit = True
            thread.join()

    @unittest.skipUnless(shutil.which("nginx"), "no nginx here (apt-get install nginx)")
    def test_a_web_server_of_the_distribution_serves_our_users(self) -> None:
        sizes = (1000, 64_000, 1_000_000)
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder, PROOF, "web", "fetch")
            place.mkdir(parents=True)
            for size in sizes:
                (place / str(size)).write_bytes(b"x" * size)
            for part in (Path(folder), *place.parents):
                if str(part).startswith(folder):
                    part.chmod(0o755)
            Path(folder, "certificate").write_bytes(self_signed())
            for tls, protocol in ((False, "http/1.1"), (True, "http/1.1"), (False, "http/2"), (True, "http/2")):
                with _web_server(folder, tls, protocol == "http/2") as port:
                    for way in ({"transactions_per_connection": 1}, {"transactions_per_connection": 40}, {}):
                        page = Action("fetch", sizes, times=3, think_s=(0.01,))
                        fetching = application(page, tls=tls, protocol=protocol, **way)
                        level = level_of(trial_of(fetching), port)
                        self.assertEqual(failures(level), {}, (way, protocol, tls))
                        self.assertTrue(level.actions[0].transactions)


@contextmanager
def _web_server(folder: str, tls: bool, http2: bool) -> Iterator[int]:
    """Which ends a connection of HTTP/2 after a hundred requests, with others under way on it."""
    port = free_port()
    ssl = f"ssl; ssl_certificate {folder}/certificate; ssl_certificate_key {folder}/certificate" if tls else ""
    settings = Path(folder, "settings")
    settings.write_text(f"""
daemon off; master_process off; pid {folder}/pid; error_log {folder}/errors;
events {{ worker_connections 512; }}
http {{
    access_log off;
    client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy; fastcgi_temp_path {folder}/fastcgi;
    uwsgi_temp_path {folder}/uwsgi; scgi_temp_path {folder}/scgi;
    server {{ listen {HOST}:{port} {"http2" if http2 else ""} {ssl}; root {folder};
        keepalive_requests {100 if http2 else 100_000}; }}
}}
""")
    process = subprocess.Popen(["nginx", "-e", f"{folder}/errors", "-c", str(settings), "-p", folder])
    try:
        while True:
            try:
                socket.create_connection((HOST, port), 1).close()
                break
            except OSError:
                assert process.poll() is None, Path(folder, "errors").read_text()
                time.sleep(0.05)
        yield port
    finally:
        process.terminate()
        process.wait()


if __name__ == "__main__":
    unittest.main()
