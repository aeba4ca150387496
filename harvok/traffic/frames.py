"""Runs the workers of the frame engine, and puts together what sender and receiver say.

Workers are processes of this host, which may live in network namespaces of a virtual rig, or of a station that lends
its ports. All workers of an engine live as long as it does, since starting one takes longer than a short trial.
"""

import json
import select
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import NamedTuple, Protocol, TypeVar

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
    ReflectOrder,
    ReflectReport,
    SendOrder,
    SendReport,
    Stamps,
    StampsOrder,
    StreamOrder,
    Taught,
    decode_answer,
    encode,
    encode_orders,
)
from harvok.errors import NearEndError
from harvok.traffic.counters import NOT_YET, ROWS_FOR_STEPS, Counters, FrameCell
from harvok.worker.parent import READY_S, Worker

LineT = TypeVar("LineT", SendReport, ReceiveReport, ReflectReport, Ready)

_WORKERS_EACH = 3  # a sender, a receiver and perhaps a reflector for each stream
_WORKER_ROWS = _WORKERS_EACH * MAX_STREAMS
ROWS = _WORKER_ROWS + MAX_STREAMS * ROWS_FOR_STEPS
_LOOK_EVERY_S = 0.25
_STRAGGLERS_S = 0.05

Progress = Callable[[int, int, int, int], None]
"""Told while frames flow: number of the pair of orders, frames sent, frames received, their delay just now in ns."""


@dataclass(frozen=True, slots=True)
class Reports:
    """What the workers of one stream said, and what the receiving host's kernel dropped before any ring."""

    sent: SendReport
    received: ReceiveReport
    kernel_drops: int
    reflected: ReflectReport | None = None


@dataclass(frozen=True, slots=True)
class Pair:
    """The orders of the workers of one stream, and the places that they are for; "" is this host. Streams that are the
    same frames have the same sender, by its row. With `reflect` frames come back to where they were sent."""

    send: SendOrder
    receive: ReceiveOrder
    sent_at: str = ""
    received_at: str = ""
    reflect: ReflectOrder | None = None
    reflected_at: str = ""


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


class StreamRows(NamedTuple):
    """The rows of counters of one stream."""

    sender: int
    receiver: int
    reflector: int
    steps: int


def rows_of(number: int) -> StreamRows:
    """The rows of counters of a stream, by its number in the trial."""
    first = _WORKERS_EACH * number
    return StreamRows(first, first + 1, first + 2, _WORKER_ROWS + number * ROWS_FOR_STEPS)


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

    def learn(self, orders: Sequence[tuple[str, LearnOrder]]) -> list[int]:
        """Sends frames that teach the device where addresses are, at some places; returns when, by the wall clock of
        each place, in ns."""
        answers = [self._places[place].help(order) for place, order in orders]
        return [answer.at_ns for answer in answers if isinstance(answer, Taught)]

    def answer(self, place: str, order: AnswerOrder) -> list[bytes | None]:
        """Answers for addresses at a place from now on; returns the hardware addresses of the gateways."""
        found = self._places[place].help(order)
        assert isinstance(found, Gateways)
        return [bytes.fromhex(mac) if mac else None for mac in found.found]

    def stamps(self, place: str, order: StampsOrder) -> Stamps:
        """What the card of a port at a place can stamp."""
        told = self._places[place].help(order)
        assert isinstance(told, Stamps)
        return told

    def run(self, pairs: Sequence[Pair], in_flight_s: float, progress: Progress) -> list[Reports]:
        """Runs all streams of a trial at once; waits up to `in_flight_s` for frames that are still under way."""
        places = {pair.received_at for pair in pairs}
        before = {place: self._places[place].kernel_drops() for place in places}
        receivers = [self._places[pair.received_at].worker(pair.receive.row) for pair in pairs]
        reflecting = [(self._places[pair.reflected_at].worker(one.row), one) for pair in pairs if (one := pair.reflect)]
        for receiver, pair in zip(receivers, pairs, strict=True):
            receiver.order(pair.receive)
        for reflector, order in reflecting:
            reflector.order(order)
        for hearing in [*receivers, *(reflector for reflector, _ in reflecting)]:
            _hear(hearing, Ready)
        senders = {pair.send.row: self._places[pair.sent_at].worker(pair.send.row) for pair in pairs}
        for row, sending in {pair.send.row: pair.send for pair in pairs}.items():
            senders[row].order(sending)
        for sender in senders.values():
            _hear(sender, Ready)
        for sender in senders.values():
            sender.begin()
        self._watch([senders[pair.send.row] for pair in pairs], receivers, pairs, progress)
        reports = {row: _hear(sender, SendReport) for row, sender in senders.items()}
        sent = [reports[pair.send.row] for pair in pairs]
        self._wait_for_frames_in_flight(receivers, sent, in_flight_s)
        for hearing in [*receivers, *(reflector for reflector, _ in reflecting)]:
            hearing.stop()
        received = [_hear(receiver, ReceiveReport) for receiver in receivers]
        reflected = {order.row: _hear(reflector, ReflectReport) for reflector, order in reflecting}
        dropped = {place: self._places[place].kernel_drops() - before[place] for place in places}
        return [
            Reports(one, other, dropped[pair.received_at], reflected[pair.reflect.row] if pair.reflect else None)
            for one, other, pair in zip(sent, received, pairs, strict=True)
        ]

    def _watch(
        self,
        senders: Sequence[FrameWorker],
        receivers: Sequence[FrameWorker],
        pairs: Sequence[Pair],
        progress: Progress,
    ) -> None:
        """Tells of the frames until every sender is done."""
        expected_s = max(sum(frames / load for load, frames, _ in pair.send.steps) for pair in pairs)
        deadline_ns = self._clock.now_ns() + int((expected_s + READY_S) * 1e9)
        waiting = list(dict.fromkeys(senders))
        while waiting:
            ready, _, _ = select.select(waiting, [], [], _LOOK_EVERY_S)
            waiting = [worker for worker in waiting if worker not in ready]
            for number, (sender, receiver) in enumerate(zip(senders, receivers, strict=True)):
                progress(number, sender.frames(), receiver.frames(), receiver.delay_ns())
            if self._clock.now_ns() > deadline_ns:
                raise NearEndError("a sender did not end in time", "Its host may be overloaded; try again.")

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
    """The workers of this host. Those of one kind that are to stay on one core are one process: where a host has fewer
    cores than streams, processes would only wait for each other. Unless they are `apart`, each with orders of its own
    at any time."""

    def __init__(self, namespaces: Sequence[str] = (), apart: bool = False) -> None:
        self._namespaces, self._apart = list(namespaces), apart
        self.counters = Counters(ROWS)
        self._processes: dict[object, FrameProcess] = {}
        self._workers: dict[int, OwnWorker] = {}
        self._given: list[tuple[OwnWorker, StreamOrder]] = []
        self._closed = False

    def worker(self, row: int) -> "OwnWorker":
        """The worker that counts into a row."""
        if row not in self._workers:
            self._workers[row] = OwnWorker(self, row)
        return self._workers[row]

    def help(self, order: Line) -> Line:
        """Has a worker beside the others obey, and returns its answer."""
        helper = self._process("helper")
        helper.tell(encode(order))
        return helper.hear(None, READY_S)

    def give(self, worker: "OwnWorker", order: StreamOrder) -> None:
        """Takes an order, to be passed on with others when an answer is asked for."""
        self._given.append((worker, order))
        if self._apart:
            self.pass_on()

    def pass_on(self) -> None:
        """Passes on what was given."""
        together: dict[object, list[StreamOrder]] = {}
        for worker, order in self._given:
            key: object = worker.row if self._apart or order.cpu is None else (order.kind, order.cpu)
            worker.process = self._process(key)
            together.setdefault(key, []).append(order)
        self._given.clear()
        for key, orders in together.items():
            self._processes[key].carry_out(orders)

    def _process(self, key: object) -> "FrameProcess":
        if key not in self._processes:
            self._processes[key] = FrameProcess(self._namespaces, self.counters)
        return self._processes[key]

    def kernel_drops(self) -> int:
        """Of this host, on all cores."""
        return kernel_drops()

    def close(self) -> None:
        """Ends all workers; may be called again."""
        for process in self._processes.values():
            process.kill()
        if not self._closed:
            self.counters.close()
        self._closed = True


class FrameProcess:
    """A process of this host that is one worker, or several."""

    def __init__(self, namespaces: Sequence[str], counters: Counters) -> None:
        setup = {"namespaces": list(namespaces), "counters_fd": counters.fileno(), "rows": ROWS}
        single = {"OPENBLAS_NUM_THREADS": "1"}  # threads would keep it from joining a user namespace
        self._worker = Worker("harvok.traffic.frame_worker", json.dumps(setup), [counters.fileno()], single)
        self._worker.wait_ready()
        self._said: dict[int | None, deque[Line]] = {}
        self._begun = False

    @property
    def pid(self) -> int:
        return self._worker.pid

    def fileno(self) -> int:
        return self._worker.fileno()

    def tell(self, text: bytes) -> None:
        """Says a line to it."""
        self._worker.tell(text)

    def carry_out(self, orders: Sequence[StreamOrder]) -> None:
        """Gives it orders to carry out together."""
        self._begun = False
        self.tell(encode_orders(orders))

    def begin(self) -> None:
        """The word for which senders wait that are ready; once for all of them."""
        if not self._begun:
            self._worker.begin()
        self._begun = True

    def hear(self, row: int | None, timeout_s: float) -> Line:
        """The next line that is about a row. Raises NearEndError when the process failed, died or says nothing."""
        mine = self._said.setdefault(row, deque())
        while not mine:
            about, line = decode_answer(self._worker.hear_line(timeout_s))
            self._said.setdefault(about, deque()).append(line)
        return mine.popleft()

    def kill(self) -> None:
        self._worker.kill()


class OwnWorker:
    """One worker of this host, which has a row of counters."""

    def __init__(self, place: OwnWorkers, row: int) -> None:
        self._place, self.row = place, row
        self.process: FrameProcess | None = None

    def fileno(self) -> int:
        return self._its_process.fileno()

    @property
    def pid(self) -> int:
        return self._its_process.pid

    @property
    def _its_process(self) -> FrameProcess:
        assert self.process, "it has no order yet"
        return self.process

    def order(self, line: Line) -> None:
        """Tells it what to do, with its counters at zero."""
        assert isinstance(line, StreamOrder)
        counters = self._place.counters
        for cell in FrameCell:
            counters.cells[Counters.index(self.row, cell)] = 0
        if isinstance(line, SendOrder):
            starts = counters.row_cells(line.steps_row, len(line.steps))
            for step in range(len(line.steps)):
                starts[step] = NOT_YET
        self._place.give(self, line)

    def begin(self) -> None:
        self._its_process.begin()

    def hear_any(self, timeout_s: float) -> Line:
        """The next line. Raises NearEndError when the worker failed, died or says nothing."""
        self._place.pass_on()
        return self._its_process.hear(self.row, timeout_s)

    def frames(self) -> int:
        return self._place.counters.read(self.row, FrameCell.FRAMES)

    def delay_ns(self) -> int:
        return self._place.counters.read(self.row, FrameCell.DELAY_NS)

    def stop(self) -> None:
        self._place.counters.cells[Counters.index(self.row, FrameCell.STOP)] = 1


def kernel_drops() -> int:
    """Frames that this host's kernel dropped because its queue between interrupt and protocol was full, on all cores
    since it started (/proc/net/softnet_stat, second column)."""
    try:
        lines = Path("/proc/net/softnet_stat").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1], 16) for line in lines)
