"""Runs the worker processes of the frame engine, and puts together what sender and receiver say.

A worker may live in network namespaces of a virtual rig. All workers of an engine live as long as it does, since
starting one takes longer than a short trial.
"""

import contextlib
import json
import select
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import TypeVar

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
    """What both workers of one stream said, and what this host's kernel dropped before any ring."""

    sent: SendReport
    received: ReceiveReport
    kernel_drops: int


def rows_of(number: int) -> tuple[int, int, int]:
    """The rows of counters of the sender, of the receiver and of the steps of one pair of orders."""
    return 2 * number, 2 * number + 1, _WORKER_ROWS + number * ROWS_FOR_STEPS


class FrameEngine:
    """The workers of a rig's ports. A context manager; leaves no process behind."""

    def __init__(self, namespaces: Sequence[str] = (), clock: Clock = SYSTEM) -> None:
        self._namespaces, self._clock = list(namespaces), clock
        self._counters = Counters(ROWS)
        self._workers: dict[int, _FrameWorker] = {}
        self._helper: _FrameWorker | None = None

    def __enter__(self) -> "FrameEngine":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for worker in (*self._workers.values(), *filter(None, [self._helper])):
            worker.kill()
        self._counters.close()

    def learn(self, orders: Sequence[LearnOrder]) -> None:
        """Sends frames that teach the device where addresses are."""
        for order in orders:
            self._help(order)

    def answer(self, order: AnswerOrder) -> list[bytes | None]:
        """Answers for addresses from now on; returns the hardware addresses of the gateways."""
        found = self._help(order)
        assert isinstance(found, Gateways)
        return [bytes.fromhex(mac) if mac else None for mac in found.found]

    def run(
        self, pairs: Sequence[tuple[SendOrder, ReceiveOrder]], in_flight_s: float, progress: Progress
    ) -> list[Reports]:
        """Runs all streams of a trial at once; waits up to `in_flight_s` for frames that are still under way."""
        dropped_before = kernel_drops()
        with self._hearing([receive for _, receive in pairs]) as receivers:
            senders = [self._worker(send.row) for send, _ in pairs]
            for sender, (send, _) in zip(senders, pairs, strict=True):
                for cell in FrameCell:
                    self._write(send.row, cell, 0)
                starts = self._counters.row_cells(send.steps_row, len(send.steps))
                for step in range(len(send.steps)):
                    starts[step] = NOT_YET
                sender.order(send)
            for sender in senders:
                sender.hear(Ready, READY_S)
            for sender in senders:
                sender.begin()
            sent = self._watch(senders, pairs, progress)
            self._wait_for_frames_in_flight(pairs, sent, in_flight_s)
            for _, receive in pairs:
                self._write(receive.row, FrameCell.STOP, 1)
            received = [receiver.hear(ReceiveReport, READY_S) for receiver in receivers]
        dropped = kernel_drops() - dropped_before
        return [Reports(one, other, dropped) for one, other in zip(sent, received, strict=True)]

    @contextlib.contextmanager
    def _hearing(self, orders: Sequence[ReceiveOrder]) -> "Iterator[list[_FrameWorker]]":
        workers = [self._worker(order.row) for order in orders]
        for worker, order in zip(workers, orders, strict=True):
            for cell in FrameCell:
                self._write(order.row, cell, 0)
            worker.order(order)
        for worker in workers:
            worker.hear(Ready, READY_S)
        yield workers

    def _watch(
        self, senders: "Sequence[_FrameWorker]", pairs: Sequence[tuple[SendOrder, ReceiveOrder]], progress: Progress
    ) -> list[SendReport]:
        """Tells of the frames until every sender is done."""
        expected_s = max(sum(frames / load for load, frames, _ in send.steps) for send, _ in pairs)
        deadline_ns = self._clock.now_ns() + int((expected_s + READY_S) * 1e9)
        waiting = list(senders)
        while waiting:
            ready, _, _ = select.select(waiting, [], [], _LOOK_EVERY_S)
            waiting = [worker for worker in waiting if worker not in ready]
            for number, (send, receive) in enumerate(pairs):
                delay_ns = self._counters.read(receive.row, FrameCell.DELAY_NS)
                progress(number, self._read(send.row), self._read(receive.row), delay_ns)
            if self._clock.now_ns() > deadline_ns:
                raise NearEndError("a sender did not end in time", "This host may be overloaded; try again.")
        return [sender.hear(SendReport, READY_S) for sender in senders]

    def _wait_for_frames_in_flight(
        self, pairs: Sequence[tuple[SendOrder, ReceiveOrder]], sent: Sequence[SendReport], in_flight_s: float
    ) -> None:
        deadline_ns = self._clock.now_ns() + int(in_flight_s * 1e9)
        while self._clock.now_ns() < deadline_ns:
            self._clock.sleep(_STRAGGLERS_S)
            counts = [self._read(receive.row) for _, receive in pairs]
            if all(count >= one.sent for count, one in zip(counts, sent, strict=True)):
                break

    def _worker(self, row: int) -> "_FrameWorker":
        if row not in self._workers:
            self._workers[row] = _FrameWorker(self._namespaces, self._counters)
        return self._workers[row]

    def _help(self, order: Line) -> Line:
        if not self._helper:
            self._helper = _FrameWorker(self._namespaces, self._counters)
        self._helper.order(order)
        return self._helper.hear_any(READY_S)

    def _read(self, row: int) -> int:
        return self._counters.read(row, FrameCell.FRAMES)

    def _write(self, row: int, cell: FrameCell, value: int) -> None:
        self._counters.cells[Counters.index(row, cell)] = value


class _FrameWorker:
    """One worker of the engine: lines are orders and reports of harvok.core.wire.frame_orders."""

    def __init__(self, namespaces: Sequence[str], counters: Counters) -> None:
        setup = {"namespaces": list(namespaces), "counters_fd": counters.fileno(), "rows": ROWS}
        single = {"OPENBLAS_NUM_THREADS": "1"}  # threads would keep it from joining a user namespace
        self._worker = Worker("harvok.traffic.frame_worker", json.dumps(setup), [counters.fileno()], single)
        self._worker.wait_ready()

    @property
    def pid(self) -> int:
        return self._worker.pid

    def fileno(self) -> int:
        return self._worker.fileno()

    def order(self, line: Line) -> None:
        self._worker.tell(encode(line))

    def begin(self) -> None:
        self._worker.begin()

    def hear(self, kind: type[LineT], timeout_s: float) -> LineT:
        """The next line, which has to be of a kind. Raises NearEndError for what the worker could not do."""
        line = self.hear_any(timeout_s)
        assert isinstance(line, kind), line
        return line

    def hear_any(self, timeout_s: float) -> Line:
        """The next line. Raises NearEndError when the worker failed, died or says nothing."""
        return decode(self._worker.hear_line(timeout_s))

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
