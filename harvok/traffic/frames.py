"""Runs the workers of the frame engine, and puts together what sender and receiver say.

Workers are processes of this host, which may live in network namespaces of a virtual rig, or of a station that lends
its ports. All workers of an engine live as long as it does, since starting one takes longer than a short trial.
"""

import json
import select
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Protocol, TypeVar

from harvok.clock import SYSTEM, Clock
from harvok.core.ends import MAX_STREAMS
from harvok.core.wire.frame_orders import (
    AnswerOrder,
    Gateways,
    LearnOrder,
    Line,
    Ready,
    ReceiveOrder,
    ReceiveReport,
    SendOrder,
    SendReport,
    decode,
    encode,
)
from harvok.errors import NearEndError
from harvok.traffic.counters import NOT_YET, ROWS_FOR_STEPS, Counters, FrameCell
from harvok.worker.parent import READY_S, Worker

LineT = TypeVar("LineT", SendReport, ReceiveReport, Ready)

_WORKER_ROWS = 2 * MAX_STREAMS  # a sender and a receiver for each stream
ROWS = _WORKER_ROWS + MAX_STREAMS * ROWS_FOR_STEPS
_LOOK_EVERY_S = 0.25
_STRAGGLERS_S = 0.05

Progress = Callable[[int, int, int, int], None]
"""Told while frames flow: number of the pair of orders, frames sent, frames received, their delay just now in ns."""


@dataclass(frozen=True, slots=True)
class Reports:
    """What both workers of one stream said, and what the receiving host's kernel dropped before any ring."""

    sent: SendReport
    received: ReceiveReport
    kernel_drops: int


@dataclass(frozen=True, slots=True)
class Pair:
    """The orders of both workers of one stream, and the places that they are for; "" is this host."""

    send: SendOrder
    receive: ReceiveOrder
    sent_at: str = ""
    received_at: str = ""


class FrameWorker(Protocol):
    """One worker, wherever it is: lines are orders and reports of harvok.core.wire.frame_orders."""

    def fileno(self) -> int:
        """Readable when the worker has said something."""

    def order(self, line: Line) -> None:
        """Tells it what to do. Its counters begin at zero."""

    def begin(self) -> None:
        """The word for which a sender waits that is ready."""

    def hear_any(self, timeout_s: float) -> Line:
        """The next line. Raises NearEndError or FarEndError when the worker failed, died or says nothing."""

    def frames(self) -> int:
        """How many frames it has sent or received so far."""

    def delay_ns(self) -> int:
        """The delay of those that it received just now; 0 before."""

    def stop(self) -> None:
        """Has a receiver end."""


class WorkerPlace(Protocol):
    """Where workers are: this host, or a station."""

    def worker(self, row: int) -> FrameWorker:
        """The worker that counts into a row of counters, started where it is new."""

    def help(self, order: Line) -> Line:
        """Has a worker beside the others obey an order, and returns its answer."""

    def kernel_drops(self) -> int:
        """Frames that the kernel there dropped before any ring since it started."""

    def close(self) -> None:
        """Ends all workers; may be called again."""


def rows_of(number: int) -> tuple[int, int, int]:
    """The rows of counters of the sender, of the receiver and of the steps of one pair of orders."""
    return 2 * number, 2 * number + 1, _WORKER_ROWS + number * ROWS_FOR_STEPS


class FrameEngine:
    """The workers of a rig's ports. A context manager; leaves no process behind."""

    def __init__(self, here: WorkerPlace, elsewhere: Mapping[str, WorkerPlace] = {}, clock: Clock = SYSTEM) -> None:
        self._places, self._clock = {"": here, **elsewhere}, clock

    def __enter__(self) -> "FrameEngine":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for place in self._places.values():
            place.close()

    def learn(self, orders: Sequence[tuple[str, LearnOrder]]) -> None:
        """Sends frames that teach the device where addresses are, at some places."""
        for place, order in orders:
            self._places[place].help(order)

    def answer(self, place: str, order: AnswerOrder) -> list[bytes | None]:
        """Answers for addresses at a place from now on; returns the hardware addresses of the gateways."""
        found = self._places[place].help(order)
        assert isinstance(found, Gateways)
        return [bytes.fromhex(mac) if mac else None for mac in found.found]

    def run(self, pairs: Sequence[Pair], in_flight_s: float, progress: Progress) -> list[Reports]:
        """Runs all streams of a trial at once; waits up to `in_flight_s` for frames that are still under way."""
        places = {pair.received_at for pair in pairs}
        before = {place: self._places[place].kernel_drops() for place in places}
        receivers = [self._places[pair.received_at].worker(pair.receive.row) for pair in pairs]
        senders = [self._places[pair.sent_at].worker(pair.send.row) for pair in pairs]
        for receiver, pair in zip(receivers, pairs, strict=True):
            receiver.order(pair.receive)
        for receiver in receivers:
            _hear(receiver, Ready)
        for sender, pair in zip(senders, pairs, strict=True):
            sender.order(pair.send)
        for sender in senders:
            _hear(sender, Ready)
        for sender in senders:
            sender.begin()
        sent = self._watch(senders, receivers, pairs, progress)
        self._wait_for_frames_in_flight(receivers, sent, in_flight_s)
        for receiver in receivers:
            receiver.stop()
        received = [_hear(receiver, ReceiveReport) for receiver in receivers]
        dropped = {place: self._places[place].kernel_drops() - before[place] for place in places}
        return [
            Reports(one, other, dropped[pair.received_at])
            for one, other, pair in zip(sent, received, pairs, strict=True)
        ]

    def _watch(
        self,
        senders: Sequence[FrameWorker],
        receivers: Sequence[FrameWorker],
        pairs: Sequence[Pair],
        progress: Progress,
    ) -> list[SendReport]:
        """Tells of the frames until every sender is done."""
        expected_s = max(sum(frames / load for load, frames, _ in pair.send.steps) for pair in pairs)
        deadline_ns = self._clock.now_ns() + int((expected_s + READY_S) * 1e9)
        waiting = list(senders)
        while waiting:
            ready, _, _ = select.select(waiting, [], [], _LOOK_EVERY_S)
            waiting = [worker for worker in waiting if worker not in ready]
            for number, (sender, receiver) in enumerate(zip(senders, receivers, strict=True)):
                progress(number, sender.frames(), receiver.frames(), receiver.delay_ns())
            if self._clock.now_ns() > deadline_ns:
                raise NearEndError("a sender did not end in time", "Its host may be overloaded; try again.")
        return [_hear(sender, SendReport) for sender in senders]

    def _wait_for_frames_in_flight(
        self, receivers: Sequence[FrameWorker], sent: Sequence[SendReport], in_flight_s: float
    ) -> None:
        deadline_ns = self._clock.now_ns() + int(in_flight_s * 1e9)
        while self._clock.now_ns() < deadline_ns:
            self._clock.sleep(_STRAGGLERS_S)
            if all(receiver.frames() >= one.sent for receiver, one in zip(receivers, sent, strict=True)):
                break


def _hear(worker: FrameWorker, kind: type[LineT]) -> LineT:
    """The next line, which has to be of a kind."""
    line = worker.hear_any(READY_S)
    assert isinstance(line, kind), line
    return line


class OwnWorkers:
    """The workers of this host."""

    def __init__(self, namespaces: Sequence[str] = ()) -> None:
        self._namespaces = list(namespaces)
        self._counters = Counters(ROWS)
        self._workers: dict[int, OwnWorker] = {}
        self._helper: OwnWorker | None = None
        self._closed = False

    def worker(self, row: int) -> "OwnWorker":
        """The worker that counts into a row, started where it is new."""
        if row not in self._workers:
            self._workers[row] = OwnWorker(self._namespaces, self._counters, row)
        return self._workers[row]

    def help(self, order: Line) -> Line:
        """Has a worker beside the others obey, and returns its answer."""
        if not self._helper:
            self._helper = OwnWorker(self._namespaces, self._counters, 0)
        self._helper.tell(order)
        return self._helper.hear_any(READY_S)

    def kernel_drops(self) -> int:
        """Of this host, on all cores."""
        return kernel_drops()

    def close(self) -> None:
        """Ends all workers; may be called again."""
        for worker in (*self._workers.values(), *filter(None, [self._helper])):
            worker.kill()
        if not self._closed:
            self._counters.close()
        self._closed = True


class OwnWorker:
    """One worker of this host: a process."""

    def __init__(self, namespaces: Sequence[str], counters: Counters, row: int) -> None:
        setup = {"namespaces": list(namespaces), "counters_fd": counters.fileno(), "rows": ROWS}
        single = {"OPENBLAS_NUM_THREADS": "1"}  # threads would keep it from joining a user namespace
        self._counters, self._row = counters, row
        self._worker = Worker("harvok.traffic.frame_worker", json.dumps(setup), [counters.fileno()], single)
        self._worker.wait_ready()

    @property
    def pid(self) -> int:
        return self._worker.pid

    def fileno(self) -> int:
        return self._worker.fileno()

    def order(self, line: Line) -> None:
        """Tells it what to do, with its counters at zero."""
        for cell in FrameCell:
            self._counters.cells[Counters.index(self._row, cell)] = 0
        if isinstance(line, SendOrder):
            starts = self._counters.row_cells(line.steps_row, len(line.steps))
            for step in range(len(line.steps)):
                starts[step] = NOT_YET
        self.tell(line)

    def tell(self, line: Line) -> None:
        """The same for an order that counts nothing."""
        self._worker.tell(encode(line))

    def begin(self) -> None:
        self._worker.begin()

    def hear_any(self, timeout_s: float) -> Line:
        """The next line. Raises NearEndError when the worker failed, died or says nothing."""
        return decode(self._worker.hear_line(timeout_s))

    def frames(self) -> int:
        return self._counters.read(self._row, FrameCell.FRAMES)

    def delay_ns(self) -> int:
        return self._counters.read(self._row, FrameCell.DELAY_NS)

    def stop(self) -> None:
        self._counters.cells[Counters.index(self._row, FrameCell.STOP)] = 1

    def kill(self) -> None:
        self._worker.kill()


def kernel_drops() -> int:
    """Frames that this host's kernel dropped because its queue between interrupt and protocol was full, on all cores
    since it started (/proc/net/softnet_stat, second column)."""
    try:
        lines = Path("/proc/net/softnet_stat").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1], 16) for line in lines)
