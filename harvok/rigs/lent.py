"""Tester ports that stations lend: the workers of the frame engine there, and how far the clocks are apart."""

import os
import queue
import threading
from contextlib import suppress
from pathlib import Path

from harvok.clock import Clock
from harvok.core.conditions import InterfaceFacts
from harvok.core.models.control import FrameNews
from harvok.core.models.rig import Port, PortsRig
from harvok.core.time_axis import ClockOffset
from harvok.core.wire.frame_orders import Line, decode, encode
from harvok.errors import HarvokError, RigFileError, StationLostError
from harvok.host.port_counters import PortCounters
from harvok.rigs.frame_rigs import Asking
from harvok.rigs.stations import StationsRig, StationsSettings
from harvok.signals import uninterrupted
from harvok.station.client import StationClient, error_of
from harvok.station.contact import Access

_OPEN_S = 10.0


class StationWorkers:
    """The workers of one station. A context manager; what the station says comes in a thread of its own."""

    def __init__(self, port: Port, asking: Asking, clock: Clock) -> None:
        assert port.station
        self._asking, self.name = asking, port.station
        self._stations = StationsRig(StationsSettings(port.station, _access(port)), clock)
        self._client = self._stations.client
        self._workers: dict[int, StationWorker] = {}
        self._opened = threading.Event()
        self._fault: HarvokError | None = None
        self._closing = False

    def __enter__(self) -> "StationWorkers":
        """Takes the station, and begins to hear what its workers say."""
        self._stations.__enter__()
        try:
            asking = self._asking
            self._stations.claim(asking.planned_s, asking.wait_s, asking.notice)
            self._stations.read_conditions()
            self._client.borrow()
            with uninterrupted():
                threading.Thread(target=self._listen, daemon=True).start()
            if not self._opened.wait(_OPEN_S):
                raise self._fault or StationLostError(
                    f"the station {self.name} says nothing of its ports", "Start it again; then measure again."
                )
        except BaseException as error:
            self._stations.__exit__(type(error), error, error.__traceback__)
            raise
        return self

    def __exit__(self, *error: object) -> None:
        self._closing = True
        self._stations.__exit__(*error)
        self.close()

    def port_facts(self, interface: str) -> InterfaceFacts:
        """A lent port as it is now. Raises LimitError, PortError."""
        return self._client.port_facts(interface)

    def port_counters(self, interface: str) -> PortCounters:
        """What a lent port has counted so far."""
        counted = self._client.port_counts(interface)
        return PortCounters(counted.link_losses, counted.speed, counted.counts)

    def clock_offset(self) -> ClockOffset:
        """How far the station's clock is ahead of this host's: by its reflector, else by the control connection."""
        return self._stations.clock_offset() or self._client.clock_offset()

    def worker(self, row: int) -> "StationWorker":
        """The worker that counts into a row."""
        if row not in self._workers:
            self._workers[row] = StationWorker(self._client, row)
        return self._workers[row]

    def help(self, order: Line) -> Line:
        """Has a worker beside the others obey, and returns its answer."""
        return decode(self._client.help_frames(encode(order).decode()))

    def kernel_drops(self) -> int:
        """Of the station's host."""
        return self._client.kernel_drops()

    def close(self) -> None:
        """Forgets the workers; they end with the session."""
        for worker in self._workers.values():
            worker.close()
        self._workers.clear()

    def _listen(self) -> None:
        try:
            for news in self._client.frame_news(self._opened.set):
                worker = self._workers.get(news.row)
                if worker:
                    worker.hears(news)
            self._lose(StationLostError(f"the station {self.name} lends its ports no longer", "Measure again."))
        except HarvokError as error:
            self._lose(error)

    def _lose(self, error: HarvokError) -> None:
        self._fault = error
        if not self._closing:
            for worker in list(self._workers.values()):
                worker.lose(error)


class StationWorker:
    """One worker of a station."""

    def __init__(self, client: StationClient, row: int) -> None:
        self._client, self._row = client, row
        self._lines: queue.SimpleQueue[Line | HarvokError] = queue.SimpleQueue()
        self._readable, self._said = os.pipe()
        self._frames = self._delay_ns = 0
        self._lock = threading.Lock()
        self._closed = False

    def fileno(self) -> int:
        """Readable when the worker has said something."""
        return self._readable

    def order(self, line: Line) -> None:
        """Tells it what to do."""
        self._frames = self._delay_ns = 0
        self._client.order_frames(self._row, encode(line).decode())

    def begin(self) -> None:
        """The word for which a sender waits that is ready."""
        self._client.begin_frames(self._row)

    def hear_any(self, timeout_s: float) -> Line:
        """The next line. Raises what kept the worker from going on, and StationLostError when it says nothing."""
        try:
            said = self._lines.get(timeout=timeout_s)
        except queue.Empty:
            raise StationLostError("a worker of the station says nothing", "Its host may be overloaded.") from None
        if isinstance(said, HarvokError):
            self._lines.put(said)  # for whoever asks next
            raise said
        os.read(self._readable, 1)
        return said

    def frames(self) -> int:
        """How many frames it has sent or received, by what the station said last."""
        return self._frames

    def delay_ns(self) -> int:
        """The delay of those that came just now, by what the station said last."""
        return self._delay_ns

    def stop(self) -> None:
        """Has a receiver end."""
        self._client.stop_frames(self._row)

    def hears(self, news: FrameNews) -> None:
        """The station says something of this worker."""
        self._frames, self._delay_ns = news.frames, news.delay_ns
        if news.fault:
            self.lose(error_of(news.fault))
        elif news.line:
            self._put(decode(news.line))

    def lose(self, error: HarvokError) -> None:
        """The worker is no more."""
        self._put(error)

    def _put(self, said: Line | HarvokError) -> None:
        with self._lock:
            if not self._closed:
                self._lines.put(said)
                os.write(self._said, b"!")

    def close(self) -> None:
        """Nobody listens any longer."""
        with self._lock:
            if not self._closed:
                self._closed = True
                os.close(self._readable)
                os.close(self._said)


def stations_of(rig: PortsRig) -> dict[str, Port]:
    """The stations that lend ports of a rig, each by one of those ports."""
    return {port.station: port for port in rig.ports.values() if port.station}


def _access(port: Port) -> Access:
    """What opens the station's door. Raises RigFileError for a token that is not there."""
    code = port.code or os.environ.get("HARVOK_CODE")
    if port.token_file is None:
        token = os.environ.get("HARVOK_TOKEN", "")
        if not token:
            raise RigFileError(f"there is no token for {port.station}", "Set HARVOK_TOKEN, or name its token_file.")
        return Access(token, code)
    with suppress(OSError, UnicodeDecodeError):
        return Access(Path(port.token_file).read_text(encoding="utf-8").strip(), code)
    raise RigFileError(f"the token of {port.station} cannot be read from {port.token_file}", "Correct token_file.")
