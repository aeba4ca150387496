"""One end's half of a trial, whatever moves in it: a watch for each direction, each in a thread of its own."""

import threading
from collections.abc import Callable, Iterable, Sequence
from typing import Any, Protocol

from harvok.core.ends import Role
from harvok.errors import HarvokError
from harvok.signals import uninterrupted
from harvok.traffic.sampler import MeterMaker

OnInterval = Callable[[Any], None]


class Watch(Protocol):
    """The flows of one direction at one end, their workers, and what was seen of them."""

    direction: str
    role: Role

    def wait_ready(self) -> None: ...
    def begin(self) -> None: ...
    def watch(self, meter_maker: MeterMaker, on_interval: Any) -> None: ...
    def interrupt(self) -> None: ...
    def summary(self) -> Any: ...
    def close(self) -> None: ...


class TrialEnd:
    """Its flows in every direction, their workers, and a watcher for each direction.

    `watches` are made here, one after the other, so that those which are there are closed when one cannot be;
    `close_sockets` ends the data connections.
    """

    def __init__(self, watches: Iterable[Watch], close_sockets: Callable[[], None]) -> None:
        self._close_sockets = close_sockets
        self._watches: list[Watch] = []
        self._watched: list[threading.Event] = []
        self._lock = threading.Lock()
        self._fault: HarvokError | None = None
        try:
            for watch in watches:
                self._watches.append(watch)
            for watch in self._watches:
                watch.wait_ready()
        except BaseException:
            self.close()
            raise

    def begin(self, role: Role, meter_maker: MeterMaker, on_interval: OnInterval) -> None:
        """Starts the flows on which this end plays `role`, and watches them in the background.

        `on_interval` is called from the watching threads, one call at a time.
        """
        for watch in self._watches:
            if watch.role == role:
                watch.begin()
                over = threading.Event()
                watcher = threading.Thread(
                    target=self._watch, args=[watch, meter_maker, on_interval, over], daemon=True
                )
                with uninterrupted():
                    self._watched.append(over)
                    watcher.start()

    def _watch(self, watch: Watch, meter_maker: MeterMaker, on_interval: OnInterval, over: threading.Event) -> None:
        def one_at_a_time(interval: Any) -> None:
            with self._lock:
                on_interval(interval)

        try:
            watch.watch(meter_maker, one_at_a_time)
        except HarvokError as fault:
            self._fault = self._fault or fault
            self.interrupt()
        finally:
            over.set()

    def wait(self, timeout_s: float | None = None) -> bool:
        """Waits until every direction is over for this end; False when `timeout_s` ran out first.

        Raises FlowBrokenError when a flow broke.
        """
        for over in self._watched:
            over.wait(timeout_s)
        if self._fault:
            raise self._fault
        return all(over.is_set() for over in self._watched)

    def interrupt(self) -> None:
        """Makes every watcher return soon."""
        for watch in self._watches:
            watch.interrupt()

    def summaries(self) -> Sequence[Any]:
        """What each direction says at its end, in the order of the trial."""
        return [watch.summary() for watch in self._watches]

    def close(self) -> None:
        """Ends everything: watchers, workers, connections.

        A thread whose join was interrupted counts as ended though it runs on (CPython up to 3.12), so that events are
        waited for instead.
        """
        self.interrupt()
        for over in self._watched:
            over.wait()
        for watch in self._watches:
            watch.close()
        self._close_sockets()
