"""Ports of this host that a station lends: workers of the frame engine that a near end elsewhere gives its orders to.

A lent port is only sent on and listened to, with sockets that end with their process: it goes back as it was, whatever
happens to either end.
"""

import queue
import threading
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from typing import get_args

from pydantic import TypeAdapter, ValidationError

from harvok.core.conditions import InterfaceFacts
from harvok.core.models.control import FrameNews, FrameOrder, LentPortCounts
from harvok.core.trials.frames import MAX_STEPS
from harvok.core.wire.frame_orders import (
    AnswerOrder,
    LearnOrder,
    Line,
    Order,
    ReceiveOrder,
    SendOrder,
    StreamOrder,
    decode,
    encode,
)
from harvok.errors import HarvokError, LimitError, ProtocolError
from harvok.host.cpu import usable_cores
from harvok.host.interfaces import port_that_is_up
from harvok.host.port_counters import read_port_counters
from harvok.signals import uninterrupted
from harvok.station.far_end import fault_of
from harvok.traffic.counters import ROWS_FOR_STEPS
from harvok.traffic.frames import ROWS, OwnWorker, OwnWorkers
from harvok.traffic.rings import slot_bytes_for

_TELL_EVERY_S = 0.2
_LARGEST_RING_BYTES, _MOST_BLOCKS, _LARGEST_FRAME = 64 << 20, 256, 16_384
_ORDERS: dict[type[Line], TypeAdapter[Line]] = {kind: TypeAdapter(kind) for kind in get_args(Order)}


def lendable(port: str) -> InterfaceFacts:
    """An interface that can be lent. Raises PortError for one that is not there, is down, or has addresses."""
    return port_that_is_up(
        port,
        "Start the station with a port that is there.",
        "Test frames would flood that network: lend another port.",
    ).facts


class LentPorts:
    """The ports of one session. `allowed` are those that the operator lends, perhaps only to `reflect`."""

    def __init__(self, allowed: Sequence[str], max_test_s: float, reflect: bool = False) -> None:
        self._allowed, self._max_test_s, self._reflect = allowed, max_test_s, reflect
        self._workers = OwnWorkers(apart=True)
        self._maker = ThreadPoolExecutor(1)  # a worker ends with the thread that started it, as with its process
        self._heard: dict[int, OwnWorker] = {}
        self._news: queue.SimpleQueue[FrameNews | None] = queue.SimpleQueue()
        self._lock = threading.Lock()

    def facts(self, port: str) -> InterfaceFacts:
        """The port as it is now. Raises LimitError for one that is not lent, PortError for one that cannot be used."""
        self._check_port(port)
        return lendable(port)

    def counts(self, port: str) -> LentPortCounts:
        """What the port has counted so far. Raises LimitError."""
        self._check_port(port)
        counted = read_port_counters(port)
        return LentPortCounts(link_losses=counted.link_losses, speed=counted.speed, counts=counted.counts)

    def kernel_drops(self) -> int:
        """Frames that this host's kernel dropped before any ring since it started."""
        return self._workers.kernel_drops()

    def order(self, body: FrameOrder) -> None:
        """Has the worker of a row obey; what it answers is news. Raises LimitError, ProtocolError, NearEndError."""
        order = self._checked(body.order)
        with self._lock:
            worker = self._workers.worker(body.row)
            self._maker.submit(worker.order, order).result()
            if body.row not in self._heard:
                self._heard[body.row] = worker
                self._listen(body.row, worker)

    def help(self, body: FrameOrder) -> str:
        """Has a worker beside the others obey, and returns its answer."""
        order = self._checked(body.order)
        with self._lock:
            return encode(self._maker.submit(self._workers.help, order).result()).decode()

    def begin(self, row: int) -> None:
        """The word for which a sender waits."""
        self._known(row).begin()

    def stop(self, row: int) -> None:
        """Has a receiver end."""
        self._known(row).stop()

    def news(self) -> Iterator[str]:
        """What workers say, and how far they are, as JSON Lines."""
        while True:
            try:
                told = self._news.get(timeout=_TELL_EVERY_S)
            except queue.Empty:
                how_far = [_news_of(row, worker) for row, worker in list(self._heard.items())]
                yield "".join(one.model_dump_json() + "\n" for one in how_far) or "\n"
                continue
            if told is None:
                return
            yield told.model_dump_json() + "\n"

    def release(self) -> None:
        """Ends all workers; may be called again."""
        self._news.put(None)
        self._workers.close()
        self._maker.shutdown()

    def _known(self, row: int) -> OwnWorker:
        if row not in self._heard:
            raise ProtocolError(f"no worker has row {row}", "Use two ends of one version.")
        return self._heard[row]

    def _listen(self, row: int, worker: OwnWorker) -> None:
        def listen() -> None:
            with suppress(OSError, ValueError):  # closed while it was ended
                while True:
                    try:
                        line = worker.hear_any(self._max_test_s * 2)
                    except HarvokError as error:
                        self._news.put(FrameNews(row=row, fault=fault_of(error)))
                        return
                    self._news.put(_news_of(row, worker, encode(line).decode()))

        with uninterrupted():
            threading.Thread(target=listen, daemon=True).start()

    def _check_port(self, port: str) -> None:
        if port not in self._allowed:
            lent = ", ".join(self._allowed) or "none"
            raise LimitError(
                f"the station does not lend the port {port}", f"It lends {lent}: its operator says so with --frames."
            )

    def _checked(self, text: str) -> Order:
        """An order that does no more than a near end may ask for. Raises LimitError, ProtocolError."""
        try:
            read = decode(text)
            order = _ORDERS[type(read)].validate_python({name: getattr(read, name) for name in read.__slots__})
        except (ValueError, TypeError, KeyError, ValidationError) as error:
            raise ProtocolError("an order for a lent port is not readable", "Use two ends of one version.") from error
        assert isinstance(order, Order)
        for port in [one for one, *_ in order.ports] if isinstance(order, AnswerOrder) else [order.interface]:
            self._check_port(port)
        if self._reflect and isinstance(order, SendOrder | ReceiveOrder):
            raise LimitError(
                "the station's ports send back what they get, and do nothing else",
                "Write reflect = true for the port in the rig file, or have the station started without --reflect.",
            )
        takes_s = _takes_s(order)
        if takes_s > self._max_test_s:
            raise LimitError(
                f"the station allows tests of {self._max_test_s:.0f} s, not {takes_s:.0f} s",
                "Use shorter trials, or start the station with a larger --max-duration.",
            )
        if isinstance(order, StreamOrder):
            return _within_bounds(order)
        return order


def _news_of(row: int, worker: OwnWorker, line: str | None = None) -> FrameNews:
    """How far a worker is, with what it says."""
    return FrameNews(row=row, line=line, frames=worker.frames(), delay_ns=worker.delay_ns())


def _takes_s(order: Line) -> float:
    if isinstance(order, SendOrder):
        return sum(frames / load_fps if load_fps > 0 else float("inf") for load_fps, frames, _ in order.steps)
    return order.over_s if isinstance(order, LearnOrder) else 0.0


def _within_bounds(order: StreamOrder) -> StreamOrder:
    """The order on a core of this host. Raises ProtocolError for what no near end asks for."""
    if isinstance(order, SendOrder):
        fits = _send_fits(order)
    elif isinstance(order, ReceiveOrder):
        steps = max(order.steps, len(order.starts))
        fits = _rows_fit(order.row, order.steps_row) and 0 < steps <= MAX_STEPS
        fits = fits and 0 < order.blocks <= _MOST_BLOCKS and _sizes_fit(order.frame_sizes)
        fits = fits and min(order.read_one_in, order.delay_one_in, order.sample_every) > 0
    else:
        fits = _rows_fit(order.row)
    if not fits:
        raise ProtocolError("an order for a lent port is out of bounds", "Use two ends of one version.")
    cores = usable_cores()
    return replace(order, cpu=cores[(order.cpu or 0) % len(cores)])


def _send_fits(order: SendOrder) -> bool:
    if not _rows_fit(order.row, order.steps_row) or not _sizes_fit(order.frame_sizes):
        return False
    fits_ring = 0 < order.slots * slot_bytes_for(max(order.frame_sizes)) <= _LARGEST_RING_BYTES
    return fits_ring and len(order.vlans) <= 2 and 0 < len(order.steps) <= MAX_STEPS and order.sample_every > 0


def _rows_fit(*rows: int) -> bool:
    return all(0 <= row < ROWS - ROWS_FOR_STEPS + 1 for row in rows)


def _sizes_fit(sizes: Sequence[int]) -> bool:
    return bool(sizes) and min(sizes) > 0 and max(sizes) <= _LARGEST_FRAME
